"""Which lines of a file are secret, as its own reader finds them."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Mapping, Sequence

from coinjar.core.display import Masker
from coinjar.dialects.base import ReadItem, ReadResult

_MASK = "••••"
"""Shown for a line that continues a secret."""


Hidden = Callable[[bytes], Mapping[int, str]]
"""Returns which lines of a file (from 1) its own reader takes for secrets, each with what to show instead."""


def hidden_lines(
    reading: ReadResult, lines: Sequence[str], is_secret: Callable[[ReadItem], bool], masker: Masker
) -> dict[int, str]:
    """Return the lines from each secret to the next entry, and those that could not be read; comments and empty lines
    after a secret stay visible.

    Returns all lines where the reader does not know the line of a secret.
    """
    total = len(lines)
    texts = {
        item.text for item in reading.items if item.text and (item.secret or is_secret(item))
    }  # the same text elsewhere is no less secret
    if any(item.text in texts and not 0 < item.location.line <= total for item in reading.items):
        return dict.fromkeys(range(1, total + 1), "•••• (its reader does not know on which line a secret is)")
    marks = [
        (item.location.line, f"{item.name} = {masker.mask(item.text or '')}" if item.text in texts else None)
        for item in reading.items
    ]
    marks += [
        (remark.location.line, "•••• (ignored by its reader, may be a secret)")
        for remark in reading.remarks
        if remark.lost
    ]
    starts = sorted({line for line, _ in marks})
    result: dict[int, str] = {}
    for line, words in marks:
        if words is None:
            continue
        after = bisect_right(starts, line)
        following = starts[after] if after < len(starts) else total + 1
        result[line] = f"{result[line]}, {words}" if line in result else words
        for more in range(line + 1, following):
            result.setdefault(more, _MASK)
    for line, words in list(result.items()):
        shown = lines[line - 1].strip() if words == _MASK and line <= len(lines) else "x"
        if not shown or (shown.startswith("#") and not any(shown in text for text in texts)):
            del result[line]
    return result


def nothing_hidden(data: bytes) -> Mapping[int, str]:
    """Hide nothing: for files without secrets."""
    del data
    return {}
