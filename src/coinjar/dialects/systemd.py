"""What systemd reads: a file for `EnvironmentFile=`, and a drop-in with `Environment=` lines (systemd.exec(5),
systemd.syntax(7)).
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from coinjar.core.errors import Location, location_of
from coinjar.core.names import quoted_name, shell_can_set
from coinjar.core.value_text import not_for_environments
from coinjar.dialects.base import Dialect, Entry, FileHeader, ReadItem, ReadRemark, ReadResult, decode

# systemd's string_has_cc() and unichar_is_valid(): characters that no assignment of a unit may contain.
_REFUSED = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f\ufdd0-\ufdef\ufffe\uffff\U0001fffe\U0001ffff]|["
    + "".join(f"{chr((p << 16) | 0xFFFE)}{chr((p << 16) | 0xFFFF)}" for p in range(2, 17))
    + "]"
)
_KEPT = "\0"
"""Marks characters that a backslash protects: such spaces are not trimmed from a value's end."""
_LONGEST_LINE = 1 << 20
"""LONG_LINE_MAX of unit files, in bytes."""


class SystemdDialect(Dialect):
    """`NAME="value"` lines, with a backslash before `"`, `\\`, `$` and a backquote."""

    name = "systemd"
    about = "a file for systemd's EnvironmentFile="

    def unsupported_reason(self, name: str, value: str) -> str | None:
        if not shell_can_set(name):
            return "systemd does not accept a name with a character other than A to Z, digits and '_'"
        if _REFUSED.search(value):
            return (
                "systemd does not accept control characters other than tabs and line breaks, or Unicode noncharacters"
            )
        return not_for_environments(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        top = heading.comment
        return (
            top + "".join(f"{entry.name}={_quoted(entry.text)}\n" for entry in entries if entry.text is not None)
        ).encode()

    def read(self, data: bytes, file: str) -> ReadResult:
        source, remarks = decode(data, file)
        return _EnvironmentFileParser(source, file, remarks).read()


_ESCAPED = str.maketrans({sign: f"\\{sign}" for sign in '"\\$`'})


def _quoted(value: str) -> str:
    return f'"{value.translate(_ESCAPED)}"'


class _EnvironmentFileParser:
    """The states of systemd's own reader: before a value, bare, in `'`, in `"`."""

    def __init__(self, source: str, file: str, remarks: list[ReadRemark]) -> None:
        self.text = source
        self.file = file
        self.remarks = remarks
        self.items: list[ReadItem] = []

    def remark(self, at: int, message: str, *, lost: bool = False) -> None:
        self.remarks.append(ReadRemark(location_of(self.text, at, self.file), message, lost))

    def read(self) -> ReadResult:
        at = 0
        while at < len(self.text):
            if self.text[at] in " \t\r\n":
                at += 1
            elif self.text[at] in "#;":
                at = self._comment_end(at)
            else:
                at = self._assignment(at)
        return ReadResult(self.items, self.remarks)

    def _comment_end(self, at: int) -> int:
        """Return the end of a comment, which a final backslash continues."""
        while True:
            end = self.text.find("\n", at)
            if end < 0:
                return len(self.text)
            if (end - len(self.text[:end].rstrip("\\"))) % 2 == 0:
                return end + 1
            self.remark(at, "the comment continues on the next line, because of its final backslash")
            at = end + 1

    def _assignment(self, start: int) -> int:
        line_end = self.text.find("\n", start)
        line_end = len(self.text) if line_end < 0 else line_end
        equals = self.text.find("=", start, line_end)
        if equals < 0:
            self.remark(start, "ignored: the line has no '='", lost=True)
            return line_end + 1
        name = self.text[start:equals].rstrip()
        value, at = self._value(equals + 1, name, start)
        if not shell_can_set(name):
            self.remark(start, f"ignored: systemd does not accept the name {quoted_name(name)}", lost=True)
        elif _REFUSED.search(value):
            self.remark(
                start, f"ignored: systemd does not accept {name}, which contains a control character", lost=True
            )
        else:
            self.items.append(ReadItem(name, value, location_of(self.text, start, self.file)))
        return at

    def _value(self, at: int, name: str, start: int) -> tuple[str, int]:
        """Return the value that begins at `at`, and where to read on.

        Quotes are special only before the first bare character.
        """
        source, done, bare = self.text, "", ""
        while at < len(source) and source[at] not in "\n\r":
            letter = source[at]
            if letter in "'\"" and not bare:
                words, at = self._quote(letter, at + 1, name, start)
                done += words
                continue
            if letter == "\\":
                following = source[at + 1 : at + 2]
                if following not in ("\n", "\r", ""):
                    self.remark(start, f"{name}: the backslash before '{following}' was removed, as systemd does")
                bare += _KEPT + ("" if following in ("\n", "\r") else following + _KEPT)
                at += 2
                continue
            if bare or letter not in " \t":
                bare += letter
            at += 1
        if re.search(r"[ \t]#", bare):
            self.remark(start, f"the '#' in the value of {name} is part of it: systemd has no comments after values")
        if "$" in done + bare:
            self.remark(start, f"{name}: `$` is kept literally: this dialect does not expand references")
        return done + bare.rstrip(" \t").replace(_KEPT, ""), at + 1

    def _quote(self, quote: str, at: int, name: str, start: int) -> tuple[str, int]:
        parts: list[str] = []
        source = self.text
        while at < len(source) and source[at] != quote:
            following = source[at + 1 : at + 2]
            if source[at] == "\\" and quote == '"':
                if following in ('"', "\\", "$", "`"):
                    parts.append(following)
                elif following != "\n":
                    parts.append("\\" + following)
                at += 2
            else:
                parts.append(source[at])
                at += 1
        if at >= len(source):
            self.remark(start, f"{name}: its {quote} is never closed")
        return "".join(parts), at + 1


class SystemdDropInDialect(SystemdDialect):
    """`[Service]` and `Environment="NAME=value"` lines, in C's escapes, with `%%` for a percent sign."""

    name = "systemd-dropin"
    about = "a systemd drop-in with Environment= lines"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        if len(_dropin_line(name, value).encode(errors="replace")) >= _LONGEST_LINE:
            return "its line is over 1 MiB, where systemd stops"
        return super().unsupported_reason(name, value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        top = f"{heading.comment}[Service]\n"
        unset = "".join(f"UnsetEnvironment={entry.name}\n" for entry in entries if entry.text is None)
        return (
            top + "".join(_dropin_line(entry.name, entry.text) for entry in entries if entry.text is not None) + unset
        ).encode()

    def read(self, data: bytes, file: str) -> ReadResult:
        source, remarks = decode(data, file)
        items: list[ReadItem] = []
        section = ""
        at = 0
        for line in re.split(r"(?<!\\)\n", source):
            start, at = at, at + len(line) + 1
            words = line.strip().replace("\\\n", " ")
            location = location_of(source, start, file)
            if words.startswith("["):
                section = words
            elif words[:1] in ("", "#", ";"):
                continue
            elif words.startswith("Environment=") and section == "[Service]":
                _take_words(words.partition("=")[2], items, remarks, location_of(source, start, file))
            elif words.startswith("UnsetEnvironment=") and section == "[Service]":
                items += [ReadItem(name, None, location) for name in words.partition("=")[2].split()]
            else:
                remarks.append(
                    ReadRemark(
                        location, f"'{words.partition('=')[0]}' was ignored: only Environment= of [Service] is read"
                    )
                )
        return ReadResult(items, remarks)


def _dropin_line(name: str, value: str) -> str:
    escaped = (
        value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n").replace("\t", "\\t").replace("%", "%%")
    )
    return f'Environment="{name}={escaped}"\n'


_WORD = re.compile(r"""\s*((?:"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*'|\\.|[^\s"'\\])+)""", re.DOTALL)
_ESCAPE = re.compile(r"\\(?:x([0-9a-fA-F]{2})|u([0-9a-fA-F]{4})|U([0-9a-fA-F]{8})|([0-7]{3})|(.))", re.DOTALL)
_NAMED = {"a": "\a", "b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "v": "\v", "s": " "}


def _take_words(words: str, items: list[ReadItem], remarks: list[ReadRemark], location: Location) -> None:
    if not words.strip():
        items.clear()
        remarks.append(ReadRemark(location, "an empty Environment= resets all lines above"))
        return
    at = 0
    while at < len(words.rstrip()):
        word = _WORD.match(words, at)
        if word is None:
            remarks.append(
                ReadRemark(location, "ignored: the rest of the line has a quote that is not closed", lost=True)
            )
            return
        at = word.end()
        assignment = re.sub(
            r'"((?:[^"\\]|\\.)*)"|\'((?:[^\'\\]|\\.)*)\'',
            lambda match: match[1] if match[1] is not None else match[2],
            word[1],
            flags=re.DOTALL,
        )
        assignment = _ESCAPE.sub(_unescaped, assignment)
        name, equals, value = assignment.partition("=")
        if re.search(r"(?<!%)(?:%%)*%(?!%)", value):
            remarks.append(
                ReadRemark(location, f"ignored: {name} has a '%' specifier, which systemd expands", lost=True)
            )
        elif not equals or not shell_can_set(name):
            remarks.append(
                ReadRemark(location, f"ignored: systemd does not accept the assignment {quoted_name(name)}", lost=True)
            )
        else:
            items.append(ReadItem(name, value.replace("%%", "%"), location))


def _unescaped(match: re.Match[str]) -> str:
    for group, base in ((1, 16), (2, 16), (3, 16), (4, 8)):
        if match[group]:
            return chr(int(match[group], base))
    return _NAMED.get(match[5], match[5])
