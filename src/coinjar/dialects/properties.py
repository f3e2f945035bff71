"""Java properties (java.util.Properties.load): written in ASCII, so that readers of Latin-1 and of UTF-8 agree."""

from __future__ import annotations

import re
from collections.abc import Sequence

from coinjar.core.errors import InputError, Location
from coinjar.dialects.base import Dialect, Entry, FileHeader, ReadItem, ReadRemark, ReadResult, decode
from coinjar.dialects.positioned import carriable

_NAMED = {"\t": "\\t", "\n": "\\n", "\r": "\\r", "\f": "\\f"}
_ESCAPE = re.compile(r"\\(?:u([0-9a-fA-F]{4})|u|(.)|$)", re.DOTALL)
_READ = {"t": "\t", "n": "\n", "r": "\r", "f": "\f"}


class PropertiesDialect(Dialect):
    """`NAME=value` lines with backslash escapes."""

    name = "properties"
    about = "Java properties"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        return carriable(name) or carriable(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        top = heading.comment
        return (
            top
            + "".join(
                f"{_escaped(entry.name, name=True)}={_escaped(entry.text)}\n"
                for entry in entries
                if entry.text is not None
            )
        ).encode("ascii")

    def read(self, data: bytes, file: str) -> ReadResult:
        source, remarks, is_utf8 = _decoded(data, file)
        items: list[ReadItem] = []
        for location, line in _logical_lines(source, file):
            name, value = _parted(line)
            if is_utf8 and not line.isascii():
                remarks.append(
                    ReadRemark(
                        location,
                        f"{name or 'the line'} is not ASCII: Java's stream reader reads it as Latin-1, its character "
                        "readers do not",
                    )
                )
            if re.search(r"(?<!\\)(?:\\\\)*\\u(?![0-9a-fA-F]{4})", line):
                remarks.append(
                    ReadRemark(location, "ignored: a '\\u' without four digits, at which Java stops", lost=True)
                )
                continue
            if value != value.rstrip():
                remarks.append(ReadRemark(location, f"the spaces at the end of {name} are part of its value"))
            if re.search(r"[ \t]#", value):
                remarks.append(
                    ReadRemark(
                        location, f"the '#' in the value of {name} is part of it: there are no comments after values"
                    )
                )
            items.append(ReadItem(_unescaped(name), _unescaped(value), location))
        return ReadResult(items, remarks)


def _decoded(data: bytes, file: str) -> tuple[str, list[ReadRemark], bool]:
    """Return the text, remarks, and whether it is UTF-8.

    Such a file is Latin-1 (java.util.Properties.load of a stream); valid UTF-8 is read as that, as readers of
    characters do.
    """
    try:
        return *decode(data, file), True
    except InputError as fault:
        location = fault.location or Location(file, 1, 1)
        return (
            data.decode("latin-1"),
            [ReadRemark(location, "it is not UTF-8, and was read as Latin-1, as Java's stream reader does")],
            False,
        )


def _escaped(source: str, *, name: bool = False) -> str:
    parts = []
    for number, letter in enumerate(source):
        if letter in _NAMED:
            parts.append(_NAMED[letter])
        elif letter == "\\" or (name and letter in " =:#!") or (letter == " " and number == 0):
            parts.append("\\" + letter)
        elif " " <= letter <= "~":
            parts.append(letter)
        else:
            units = letter.encode("utf-16-be")
            parts += [f"\\u{units[at]:02x}{units[at + 1]:02x}" for at in range(0, len(units), 2)]
    return "".join(parts)


def _logical_lines(source: str, file: str) -> list[tuple[Location, str]]:
    """Return the lines, continued ones joined, without comments and empty ones."""
    result: list[tuple[Location, str]] = []
    going_on = False
    for number, raw in enumerate(re.split(r"\r\n|\n|\r", source), 1):
        line = raw.lstrip(" \t\f")
        if going_on:
            location, before = result[-1]
            result[-1] = (location, before[:-1] + line)
        elif line and line[0] not in "#!":
            result.append((Location(file, number, len(raw) - len(line) + 1), line))
        else:
            continue
        last = result[-1][1]
        going_on = (len(last) - len(last.rstrip("\\"))) % 2 == 1
    return result


def _parted(line: str) -> tuple[str, str]:
    match = re.match(r"((?:[^\\ \t\f=:]|\\.)*)[ \t\f]*[=:]?[ \t\f]*", line, re.DOTALL)
    assert match
    return match[1], line[match.end() :]


def _unescaped(source: str) -> str:
    done = _ESCAPE.sub(
        lambda match: chr(int(match[1], 16)) if match[1] else _READ.get(match[2] or "", match[2] or ""), source
    )
    return done.encode("utf-16", "surrogatepass").decode("utf-16", "replace")
