"""PowerShell: variables of the drive `env:`, and calls of `[Environment]`."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.mentions.base import PRESENCE, READ, SET, Mention, TextMentions, in_order

_TOKENS = re.compile(
    rb"<#.*?#>|@'\r?\n.*?\n'@|@\"\r?\n.*?\n\"@|\"(?:`.|\"\"|[^\"`])*\"|'(?:''|[^'])*'|(?<![\w`$-])#[^\n]*", re.DOTALL
)
_OF_DRIVE = re.compile(rb"\$(?:\{env:([^}\s]+)\}|env:([A-Za-z_]\w*))", re.IGNORECASE)
_ITEM = re.compile(
    rb"(?<![\w-])([A-Za-z]+-[A-Za-z]+|gci|gi|ri|rm|si|ni|dir|ls|del)\s+(?:-(?:Path|LiteralPath)\s+)?[\"']?"
    rb"env:[\\/]?([A-Za-z_]\w*)",
    re.IGNORECASE,
)
_CALL = re.compile(
    rb"\[(?:System\.)?Environment\]::(Get|Set)EnvironmentVariable\(\s*[\"']([^\"'$]+)[\"']", re.IGNORECASE
)
_ASSIGNED = re.compile(rb"\s*[-+*/]?=(?!=)")
_FALLBACK = re.compile(rb"\)*\s*\?\?\s*([\"']?)([\w./:@%+-]*)\1")
_ASKING = re.compile(rb"(?:(?:-not|!)\s*|\b(?:if|elseif|while)\s*\(\s*)\Z", re.IGNORECASE)
_ASKED = re.compile(rb"\s*\)")
_SETTING = frozenset({b"set-item", b"new-item", b"remove-item", b"clear-item", b"ri", b"rm", b"si", b"ni", b"del"})
_LOOKS_SO = re.compile(rb"(?i)\$\{?env:[a-z]|(?m:^)[ \t]*\$\w+[ \t]*=[ \t]")
"""What no other shell has: a variable of the drive, or an assignment with a dollar sign."""


def looks_like_powershell(data: bytes, start: int, end: int) -> bool:
    """Return whether a script in a text is one of PowerShell."""
    return _LOOKS_SO.search(data, start, end) is not None


def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a script."""
    del helpers
    return in_order(find_in(data, 0, len(data)))


def find_in(data: bytes, start: int, end: int) -> Iterator[Mention]:
    """Yield the mentions of a script in a text."""
    code = data[:start] + _TOKENS.sub(_without_comment, data[start:end])
    plain = data[:start] + _TOKENS.sub(_without_text, data[start:end])
    for match in _OF_DRIVE.finditer(plain, start, end):
        group = match.lastindex or 0
        how, default = READ, None
        if _ASSIGNED.match(code, match.end()):
            how = SET
        elif _ASKING.search(code, max(start, match.start() - 40), match.start()) and _ASKED.match(code, match.end()):
            how = PRESENCE
        elif fallback := _FALLBACK.match(code, match.end()):
            default = fallback[2].decode() if fallback[1] or fallback[2].isdigit() else None
        yield Mention(match[group].decode(errors="replace"), *match.span(group), how, default)
    for match in _ITEM.finditer(code, start, end):
        command = match[1].lower()
        how = SET if command in _SETTING else PRESENCE if command == b"test-path" else READ
        yield Mention(match[2].decode(), *match.span(2), how)
    for match in _CALL.finditer(code, start, end):
        how = SET if match[1].lower() == b"set" else READ
        yield Mention(match[2].decode(errors="replace"), *match.span(2), how)


def _without_comment(match: re.Match[bytes]) -> bytes:
    return b" " * len(match[0]) if match[0].startswith((b"#", b"<#")) else match[0]


def _without_text(match: re.Match[bytes]) -> bytes:
    """Return a token without what nothing expands: comments, and texts in single quotes."""
    return b" " * len(match[0]) if match[0].startswith((b"#", b"<#", b"'", b"@'")) else match[0]
