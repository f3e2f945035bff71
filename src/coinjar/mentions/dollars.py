"""References with a dollar sign, outside shells: `$NAME`, `${NAME}`, `${NAME:-word}`."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.mentions.base import PRESENCE, READ, Mention

_REFERENCE = re.compile(rb"\$\{([A-Za-z_]\w*)(?:(:?[-=+?])|(?=[}]))|\$([A-Za-z_]\w*)|\$\$")


def references(data: bytes, start: int, end: int, *, backslash: bool = False) -> Iterator[Mention]:
    """Yield the references between two offsets; `$$` is a dollar sign, and with `backslash` also `\\$`."""
    at = start
    while match := _REFERENCE.search(data, at, end):
        at = match.end()
        if backslash and data[match.start() - 1 : match.start()] == b"\\":
            continue
        if match[3]:
            yield Mention(match[3].decode(), *match.span(3))
        elif match[1]:
            close = _closing(data, match.start() + 2, end)
            word = data[at:close].decode(errors="replace") if match[2] else None
            asks = bool(match[2] and match[2].endswith(b"+"))
            default = (
                word
                if word is not None and not asks and not (match[2] or b"").endswith(b"?") and "$" not in word
                else None
            )
            yield Mention(match[1].decode(), *match.span(1), PRESENCE if asks else READ, default)
            yield from references(data, at, close, backslash=backslash)
            at = close


def _closing(data: bytes, at: int, end: int) -> int:
    """Return where the brace opened before `at` is closed."""
    depth = 1
    for match in re.compile(rb"\$\{|\}").finditer(data, at, end):
        depth += 1 if match[0] == b"${" else -1
        if not depth:
            return match.start()
    return end
