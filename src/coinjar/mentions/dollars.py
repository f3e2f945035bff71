"""References with a dollar sign, outside of shells: `$NAME`, `${NAME}`, `${NAME:-word}`."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.mentions.base import PRESENCE, READ, Mention

_REFERENCE = re.compile(rb"\$\{([A-Za-z_]\w*)(?:(:?[-=+?])|(?=[}]))|\$([A-Za-z_]\w*)|\$\$")


def references(data: bytes, start: int, end: int, *, backslash: bool = False) -> Iterator[Mention]:
    """The references between two places; `$$` is a dollar sign, and with `backslash` so is `\\$`."""
    at = start
    while found := _REFERENCE.search(data, at, end):
        at = found.end()
        if backslash and data[found.start() - 1 : found.start()] == b"\\":
            continue
        if found[3]:
            yield Mention(found[3].decode(), *found.span(3))
        elif found[1]:
            close = _closing(data, found.start() + 2, end)
            word = data[at:close].decode(errors="replace") if found[2] else None
            asks = bool(found[2] and found[2].endswith(b"+"))
            default = (
                word
                if word is not None and not asks and not (found[2] or b"").endswith(b"?") and "$" not in word
                else None
            )
            yield Mention(found[1].decode(), *found.span(1), PRESENCE if asks else READ, default)
            yield from references(data, at, close, backslash=backslash)
            at = close


def _closing(data: bytes, at: int, end: int) -> int:
    """Where the brace that was opened before `at` is closed."""
    depth = 1
    for found in re.compile(rb"\$\{|\}").finditer(data, at, end):
        depth += 1 if found[0] == b"${" else -1
        if not depth:
            return found.start()
    return end
