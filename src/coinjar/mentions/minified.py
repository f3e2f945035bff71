"""Recognise code that a tool has packed into few long lines, whatever its file is called: nobody edits it."""

from __future__ import annotations

MINIFIED = "minified"
PACKED = ("javascript", "typescript")
"""Modules of the languages that are packed."""
_SMALLEST = 8192
"""Bytes below which a file is read, however it is laid out."""
_LONG = 1000
"""Bytes of a line that people do not write."""
_PUNCTUATION = (b";", b",", b"{", b"}", b"(", b")")
_DENSE = 30
"""Bytes for each punctuation mark, at most, in packed code: long lines of data have fewer."""


def is_minified(data: bytes) -> bool:
    """Return whether most of a program is packed code: long lines full of punctuation."""
    if len(data) < _SMALLEST:
        return False
    long = [line for line in data.split(b"\n") if len(line) > _LONG]
    packed = sum(len(line) for line in long if sum(map(line.count, _PUNCTUATION)) * _DENSE > len(line))
    return packed * 2 > len(data)
