"""Grammars without quotes: what container engines read line by line, and NUL-separated environments."""

from __future__ import annotations

import re
from collections.abc import Sequence

from coinjar.core.errors import Location, location_of
from coinjar.core.names import quoted_name
from coinjar.core.value_text import not_for_environments
from coinjar.dialects.base import Dialect, Entry, FileHeader, ReadItem, ReadRemark, ReadResult, decode

_NAME = re.compile(r"[-._a-zA-Z][-._a-zA-Z0-9]*")
_LONGEST_LINE = 65_535
"""Maximum length of a line, in bytes: the readers of container engines and of kubectl stop at 64 KiB."""


class LiteralDialect(Dialect):
    """`NAME=VALUE` lines in which only the end of a line is special."""

    name = "literal"
    about = "a container engine's env file: NAME=VALUE lines, no quotes"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        if not _NAME.fullmatch(name):
            return "the name has a character other than A to Z, digits, '_', '-' and '.'"
        if name == "." or name.startswith(".."):
            return "kubectl refuses a file with a name of dots alone, or with two leading dots"
        if "\n" in value:
            return "it has a line break, but the grammar has no quotes"
        if value.endswith("\r"):
            return "it ends in a carriage return, which readers take as part of the line end"
        if (
            len(name) + len(value) > _LONGEST_LINE // 4
            and len(f"{name}={value}".encode(errors="replace")) > _LONGEST_LINE
        ):
            return "its line is over 64 KiB, where readers stop"
        return not_for_environments(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        del heading  # no comment here: every byte may be read by yet another reader
        return "".join([f"{name}={text}\n" for name, text, _, _ in entries if text is not None]).encode()

    def read(self, data: bytes, file: str) -> ReadResult:
        source, remarks = decode(data, file)
        items: list[ReadItem] = []
        for number, raw in enumerate(source.split("\n"), 1):
            line = raw.lstrip(" \t")
            location = Location(file, number, len(raw) - len(line) + 1)
            if not line.strip() or line.startswith("#"):
                continue
            if line.endswith("\r"):
                line = line[:-1]
                remarks.append(
                    ReadRemark(location, "the carriage return at the end of the line was ignored, as readers do")
                )
            name, equals, value = line.partition("=")
            if not equals:
                remarks.append(
                    ReadRemark(
                        location,
                        f"ignored: {quoted_name(name)} has no '=', so the container would inherit it from its caller",
                        lost=True,
                    )
                )
                continue
            items.append(ReadItem(name, value, location))
            remarks += _surprises(name, value, location)
        return ReadResult(items, remarks)


def _surprises(name: str, value: str, location: Location) -> list[ReadRemark]:
    remarks = []
    if name != name.rstrip():
        remarks.append(ReadRemark(location, f"the space before '=' is part of the name '{name}'"))
    if value[:1] in " \t" and value.strip():
        remarks.append(ReadRemark(location, f"the space after '=' is part of the value of {name}"))
    if len(value) > 1 and value[0] == value[-1] and value[0] in "\"'`":
        remarks.append(
            ReadRemark(location, f"the quotes around the value of {name} are part of it: this grammar has no quotes")
        )
    elif re.search(r"[ \t]#", value):
        remarks.append(
            ReadRemark(
                location, f"the '#' in the value of {name} is part of it: this grammar has no comments after values"
            )
        )
    return remarks


class NulDialect(Dialect):
    """`NAME=VALUE` with a NUL after each, as in /proc/PID/environ."""

    name = "nul"
    about = "NUL-separated, as in /proc/PID/environ"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        del name
        return not_for_environments(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        del heading
        return "".join(f"{entry.name}={entry.text}\0" for entry in entries if entry.text is not None).encode()

    def read(self, data: bytes, file: str) -> ReadResult:
        source, remarks = decode(data, file)
        items: list[ReadItem] = []
        at = 0
        for number, piece in enumerate(source.split("\0"), 1):
            name, equals, value = piece.partition("=")
            if equals and name:
                items.append(ReadItem(name, value, location_of(source, at, file)))
            elif piece:
                remarks.append(
                    ReadRemark(location_of(source, at, file), f"ignored: entry {number} is not NAME=VALUE", lost=True)
                )
            at += len(piece) + 1
        return ReadResult(items, remarks)
