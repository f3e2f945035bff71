"""PowerShell's assignments of variables of the environment, as its published specification reads them."""

from __future__ import annotations

import re
from pathlib import Path

_SINGLE_QUOTES, _DOUBLE_QUOTES = "'\u2018\u2019\u201a\u201b", '"\u201c\u201d\u201e'


def by_the_powershell_specification(file: Path) -> dict[str, bytes]:
    """Assignments of variables of the environment, by the published language specification (3.0, 2.3.5.2): there is no
    PowerShell among Debian's packages. A line end inside of a text must not matter, so a raw carriage return fails.
    """
    rest, result = file.read_bytes().decode("utf-8-sig"), dict[str, bytes]()
    while rest := re.sub(r"\A(?:\s|#[^\n]*(?:\n|\Z))+", "", rest):
        head = re.match(r"\$(?:env:(\w+)|\{env:([^{}`]+)\})[ ]*=[ ]*", rest)
        assert head, rest[:40]
        text, rest = _powershell_string(rest[head.end() :])
        assert re.match(r"[ \t]*(\r?\n|\Z)", rest), rest[:40]
        assert text, "an empty text removes the variable"
        result[head[1] or head[2]] = text.encode()
    return result


def _powershell_string(source: str) -> tuple[str, str]:
    """A text in quotes, and what is after it."""
    quotes = next(kind for kind in (_SINGLE_QUOTES, _DOUBLE_QUOTES) if source[0] in kind)
    text, at = "", 1
    while True:
        letter, following = source[at], source[at + 1 : at + 2]
        assert letter != "\r"
        if letter in quotes and following and following in quotes:
            text, at = text + following, at + 2
        elif letter in quotes:
            return text, source[at + 1 :]
        elif quotes == _DOUBLE_QUOTES and letter == "`":
            text, at = text + {"0": "\0", "n": "\n", "r": "\r", "t": "\t"}.get(following, following), at + 2
        else:
            assert quotes == _SINGLE_QUOTES or letter != "$", "it would be replaced"
            text, at = text + letter, at + 1
