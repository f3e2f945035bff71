"""What PowerShell reads: a script to source, `$env:NAME = "value"` (its language specification, 2.3.2 and 2.3.5.2).

In single quotes nothing is special but a quote, which is doubled; typographic quotes count as quotes. Read without
running anything.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from coinjar.core.text_literals import quoted
from coinjar.core.value_text import not_for_environments
from coinjar.dialects.base import Dialect, Entry, FileHeader, ReadItem, ReadResult, decode
from coinjar.dialects.statements import statements

_SINGLE, _DOUBLE = "'\u2018\u2019\u201a\u201b", '"\u201c\u201d\u201e'
"""What counts as a quote."""
_ESCAPES = {"0": "\0", "a": "\a", "b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "v": "\v"}
_MARK = "\ufeff"
_LINE = re.compile(
    r"[ \t]*(?:"
    r"\$(?:env:(?P<name>\w+)|\{env:(?P<braced>[^{}`\r\n]+)\})[ \t]*=[ \t]*"
    rf"(?:[{_SINGLE}](?P<single>(?:[^{_SINGLE}]|[{_SINGLE}]{{2}})*)[{_SINGLE}]"
    rf"|[{_DOUBLE}](?P<double>(?:[^{_DOUBLE}`$]|`(?s:.)|[{_DOUBLE}]{{2}}|\$(?![\w({{:$?^]))*)[{_DOUBLE}]"
    r"|(?P<number>\d{1,9}))"
    r"|Remove-Item[ \t]+(?:-(?:Literal)?Path[ \t]+)?['\"]?env:\\?(?P<removed>\w+)['\"]?(?:[ \t]+-\w+(?:[ \t]+\w+)?)*"
    r")?[ \t]*(?:;|(?:#[^\n]*)?(?:\r?\n|\Z))",
    re.IGNORECASE,
)
_SIMPLE = re.compile(r"(?a)[A-Za-z_]\w*")


class PowerShellDialect(Dialect):
    """`$env:NAME = "value"` lines."""

    name = "powershell"
    about = "a script for PowerShell to source, with $env:"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        if re.search(r"[{}`:\r\n*?\[\]']", name):
            return "PowerShell would read this name as a pattern or a path"
        if value == "":
            return "PowerShell before 7.5 removes a variable that is set to an empty text"
        return not_for_environments(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        lines = "".join(
            f"Remove-Item -LiteralPath 'Env:{entry.name}' -ErrorAction Ignore\n"
            if entry.text is None
            else f"{_variable(entry.name)} = {quoted('powershell', entry.text)}\n"
            for entry in entries
        )
        text = heading.comment + lines
        return ((_MARK if not text.isascii() else "") + text).encode()  # Windows PowerShell reads UTF-8 by its mark

    def read(self, data: bytes, file: str) -> ReadResult:
        text, remarks = decode(data, file)
        items: list[ReadItem] = []
        found = [*remarks]
        for match, where in statements(text, file, _LINE, "PowerShell", found):
            if match["removed"]:
                items.append(ReadItem(match["removed"], None, where))
            elif name := match["name"] or match["braced"]:
                items.append(ReadItem(name, _value(match), where))
        return ReadResult(items, found)


def _variable(name: str) -> str:
    return f"$env:{name}" if _SIMPLE.fullmatch(name) else f"${{env:{name}}}"


def _value(match: re.Match[str]) -> str:
    if match["single"] is not None:
        return re.sub(f"[{_SINGLE}]([{_SINGLE}])", r"\1", match["single"])
    if match["double"] is not None:
        plain = re.sub(f"[{_DOUBLE}]([{_DOUBLE}])|`((?s:.))", _unescaped, match["double"])
        return str(plain)
    return str(match["number"])


def _unescaped(match: re.Match[str]) -> str:
    return match[1] or _ESCAPES.get(match[2], "" if match[2] == "\n" else match[2])
