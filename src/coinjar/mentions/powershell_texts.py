"""Comments of a PowerShell script, texts that nothing expands, and texts that contain values."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

_PART = re.compile(
    rb"<#.*?(?:#>|\Z)|@'[ \t]*\r?\n.*?(?:\n'@|\Z)|'(?:''|[^'])*+'?|(?<![\w`$-])#[^\n]*|`.|@\"[ \t]*\r?\n|[\"()]",
    re.DOTALL,
)
_ENDS = {b'"': re.compile(rb"`.|\"\"|\$\(|\"", re.DOTALL), b'@"': re.compile(rb"`.|\$\(|\n\"@", re.DOTALL)}
_OF_DRIVE = re.compile(rb"'?env:", re.IGNORECASE)
_VISIBLE = re.compile(rb"[^\r\n]")


class ScriptTexts(NamedTuple):
    """A script without its comments, blanks in their place; in `plain` without texts in single quotes either;
    in `bare` without any text but those that begin with the drive's name.
    """

    code: bytes
    plain: bytes
    bare: bytes


def script_texts(script: bytes) -> ScriptTexts:
    """Return a script without its comments and its texts."""
    parts = list(_parts(script))
    code = _blanked(script, [part[1:] for part in parts if part[0] == b"#"])
    plain = _blanked(code, [part[1:] for part in parts if part[0] == b"'"])
    texts = [part[1:] for part in parts if part[0] != b"#" and not _OF_DRIVE.match(script, part[1])]
    return ScriptTexts(code, plain, _blanked(code, texts))


def _parts(script: bytes) -> Iterator[tuple[bytes, int, int]]:
    """Yield comments (`#`), texts in single and pieces of those in double quotes, by their sign: where each is."""
    stack = [b"("]
    at = 0
    while match := _ENDS.get(stack[-1], _PART).search(script, at):
        token, before, at = match[0], at, match.end()
        sign = token.strip()[:1] if token[:2] != b"@'" else b"'"
        if stack[-1] in _ENDS:
            yield b'"', before, match.start()
            if token == b"$(":
                stack.append(b"(")
            elif token in (b'"', b'\n"@'):
                stack.pop()
        elif sign in b"<#'":
            yield (b"'" if sign == b"'" else b"#"), *match.span()
        elif sign == b")":
            del stack[max(1, len(stack) - 1) :]
        elif sign != b"`":
            stack.append(token.rstrip())
    if stack[-1] in _ENDS:
        yield b'"', at, len(script)


def _blanked(script: bytes, spans: list[tuple[int, int]]) -> bytes:
    """Return a script with blanks in some places; the ends of lines stay."""
    parts: list[bytes] = []
    at = 0
    for start, end in sorted(spans):
        if start >= at:
            parts += (script[at:start], _VISIBLE.sub(b" ", script[start:end]))
            at = end
    return b"".join([*parts, script[at:]])
