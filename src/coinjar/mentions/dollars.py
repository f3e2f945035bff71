"""References with a dollar sign, outside shells: `$NAME`, `${NAME}`, `${NAME:-word}`."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.mentions.base import PRESENCE, READ, Mention

_REFERENCE = re.compile(rb"\$\{([A-Za-z_]\w*)(?:(:?[-=+?])|(?=[}]))|\$([A-Za-z_]\w*)|\$\$")
_BRACES = re.compile(rb"\$\{|\}")


def references(data: bytes, start: int, end: int, *, backslash: bool = False) -> Iterator[Mention]:
    """Yield the references between two offsets; `$$` is a dollar sign, and with `backslash` also `\\$`."""
    yield from _between(data, start, end, _closings(data, start, end), backslash=backslash)


def _between(data: bytes, start: int, end: int, closings: dict[int, int], *, backslash: bool) -> Iterator[Mention]:
    at = start
    while match := _REFERENCE.search(data, at, end):
        at = match.end()
        if backslash and data[match.start() - 1 : match.start()] == b"\\":
            continue
        if match[3]:
            yield Mention(match[3].decode(), *match.span(3))
        elif match[1]:
            close = min(closings.get(match.start() + 2, end), end)
            word = data[at:close].decode(errors="replace") if match[2] else None
            asks = bool(match[2] and match[2].endswith(b"+"))
            default = (
                word
                if word is not None and not asks and not (match[2] or b"").endswith(b"?") and "$" not in word
                else None
            )
            yield Mention(match[1].decode(), *match.span(1), PRESENCE if asks else READ, default)
            yield from _between(data, at, close, closings, backslash=backslash)
            at = close


def _closings(data: bytes, start: int, end: int) -> dict[int, int]:
    """Return where each opened brace is closed, by the position behind it."""
    result: dict[int, int] = {}
    opened: list[int] = []
    for match in _BRACES.finditer(data, start, end):
        if match[0] == b"${":
            opened.append(match.end())
        elif opened:
            result[opened.pop()] = match.start()
    return result
