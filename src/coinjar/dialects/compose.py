"""Env files as the Compose Specification describes them (env_file, "Env_file format").

A value is bare, in `'` (literal, possibly over several lines) or in `"` (with \\n, \\r, \\t and \\\\). Quotes are
escaped with a backslash. Bare and double-quoted values are interpolated, so a dollar sign is written `$$` there. A bare
value ends before a space and a `#`. `NAME` without `=` unsets. docs/formats.md says which readers differ.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from coinjar.core.errors import location_of
from coinjar.core.value_text import not_for_environments
from coinjar.dialects.base import Dialect, Entry, FileHeader, ReadItem, ReadRemark, ReadResult, decode
from coinjar.dialects.interpolation import InterpolationError, interpolate

_NAME = re.compile(r"[-._a-zA-Z][-._a-zA-Z0-9]*")
_BARE = re.compile(r"[\w./:@%+,=-]+", re.ASCII)
_ESCAPES = {"\n": "\\n", "\r": "\\r", "\t": "\\t", '"': '\\"', "\\": "\\\\", "$": "$$"}
_READ = {"n": "\n", "r": "\r", "t": "\t"}


class ComposeDialect(Dialect):
    """`NAME=value`, `NAME='value'` and `NAME="value"` lines."""

    name = "compose"
    about = "an env file of the Compose Specification: quotes, interpolation"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        if not _NAME.fullmatch(name):
            return "the name has a character other than A to Z, digits, '_', '-' and '.', or begins with a digit"
        return not_for_environments(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        top = heading.comment
        return (
            top
            + "".join(
                f"{entry.name}\n" if entry.text is None else f"{entry.name}={_written(entry.text)}\n"
                for entry in entries
            )
        ).encode()

    def read(self, data: bytes, file: str) -> ReadResult:
        source, remarks = decode(data, file)
        return _ComposeParser(source, file, remarks).read()


def _written(value: str) -> str:
    if _BARE.fullmatch(value):
        return value
    if not re.search(r"['\\\n\r]", value) and value:
        return f"'{value}'"  # nothing is special in it, and all readers of this kind agree
    return '"' + re.sub(r'[\n\r\t"\\$]', lambda match: _ESCAPES[match[0]], value) + '"'


class _ComposeParser:
    def __init__(self, source: str, file: str, remarks: list[ReadRemark]) -> None:
        self.text = source
        self.file = file
        self.remarks = remarks
        self.items: list[ReadItem] = []
        self.values: dict[str, str] = {}

    def remark(self, at: int, message: str, *, lost: bool = False) -> None:
        self.remarks.append(ReadRemark(location_of(self.text, at, self.file), message, lost))

    def read(self) -> ReadResult:
        at = 0
        while at < len(self.text):
            end = self._line_end(at)
            line = self.text[at:end].strip()
            at = (
                end + 1
                if not line or line.startswith("#")
                else self._assignment(at + len(self.text[at:end]) - len(self.text[at:end].lstrip()), end)
            )
        return ReadResult(self.items, self.remarks)

    def _line_end(self, at: int) -> int:
        end = self.text.find("\n", at)
        return len(self.text) if end < 0 else end

    def _assignment(self, start: int, end: int) -> int:
        """Read the variable that begins at `start`; return where to read on."""
        line = self.text[start:end]
        name, equals, _ = line.partition("=")
        at = start + len(name) + 1
        if name.startswith("export "):
            name = name[7:].lstrip()
            self.remark(start, f"'export' before {name} was ignored: the specification does not have it")
        if name != name.rstrip():
            self.remark(start, f"the space before '=' of {name.rstrip()} was ignored")
        name = name.strip()
        if not equals:
            self.items.append(ReadItem(name, None, location_of(self.text, start, self.file)))
            self.remark(start, f"{name} has no '=', so it is unset")
            return end + 1
        value = self.text[at:end]
        if value[:1] in (" ", "\t") and value.strip():
            self.remark(start, f"the space after '=' of {name} was ignored")
        at += len(value) - len(value.lstrip(" \t"))
        quote = self.text[at : at + 1] if at < end else ""
        if quote in ("'", '"') and quote:
            return self._quoted(name, quote, start, at + 1)
        self._bare(name, self.text[at:end], start)
        return end + 1

    def _bare(self, name: str, value: str, start: int) -> None:
        value = value.removesuffix("\r")
        comment = re.search(r"(?:^|[ \t])#", value)
        if comment:
            self.remark(start, f"what follows the '#' of {name} was read as a comment")
            value = value[: comment.start()]
        elif "#" in value:
            self.remark(start, f"the '#' in the value of {name} is part of it: there is no space before it")
        self._take(name, value.strip(), start, expand=True)

    def _quoted(self, name: str, quote: str, start: int, at: int) -> int:
        parts: list[str] = []
        while at < len(self.text) and self.text[at] != quote:
            letter = self.text[at]
            following = self.text[at + 1 : at + 2]
            if letter == "\\" and following == quote:
                parts.append(quote)
                at += 2
            elif letter == "\\" and quote == '"' and following in ("n", "r", "t", "\\"):
                parts.append(_READ.get(following, following))
                at += 2
            else:
                parts.append(letter)
                at += 1
        if at >= len(self.text):
            self.remark(start, f"ignored: the {quote} of {name} is never closed", lost=True)
            return self._line_end(start) + 1
        end = self._line_end(at)
        after = self.text[at + 1 : end].strip()
        if after and not after.startswith("#"):
            self.remark(start, f"what follows the closing quote of {name} was ignored")
        if "\n" in "".join(parts) and "\n" in self.text[start:at]:
            self.remark(start, f"{name} spans several lines, up to its closing quote")
        self._take(name, "".join(parts), start, expand=quote == '"')
        return end + 1

    def _take(self, name: str, value: str, start: int, *, expand: bool) -> None:
        if expand and "$" in value:
            try:
                done = interpolate(value, self.values.get)
            except InterpolationError as fault:
                self.remark(start, f"ignored: the value of {name} has {fault}", lost=True)
                return
            if done.unknown:
                self.remark(
                    start,
                    f"ignored: {name} needs the value of {', '.join(done.unknown)}, which this file does not set above",
                    lost=True,
                )
                return
            if done.asked:
                self.remark(
                    start,
                    f"in {name} {', '.join(f'${name}' for name in done.asked)} was replaced by the value set above",
                )
            value = done.text
        self.values[name] = value
        self.items.append(ReadItem(name, value, location_of(self.text, start, self.file)))
