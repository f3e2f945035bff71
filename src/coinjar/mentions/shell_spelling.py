"""A script as the grammar understands it: without a document's indentation, and without sums that are none."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Callable
from itertools import accumulate

_INDENTED = re.compile(rb"\n( +)(?=\S)")
_COMMAND = re.compile(rb"\$\(\((?=\s*[A-Za-z_][\w./-]*[ \t]+(?:[A-Za-z/.\"'$]|--[A-Za-z]))")
"""A word after a word, as no sum has it: a command in two parentheses, which the grammar takes for a sum."""
_PARENTHESES = re.compile(rb"""'[^']*'|"(?:\\.|[^"\\])*"|\\.|[()]""", re.DOTALL)


def dedented(data: bytes) -> tuple[bytes, Callable[[int], int]]:
    """Return a script without the indentation of its document, which no heredoc's end may have; and what has to be
    added to a position in it for the one in the document.
    """
    widths = [len(match[1]) for match in _INDENTED.finditer(data)] if b"<<" in data else []
    lines = data.split(b"\n")
    has_plain = any(line[:1] not in (b" ", b"\r", b"") for line in lines[1:])
    if not widths or has_plain:
        return data, lambda _: 0
    indentation = b" " * min(widths)
    taken = [len(indentation) if line.startswith(indentation) else 0 for line in lines]
    shorter = [line[count:] for line, count in zip(lines, taken, strict=True)]
    starts = [0, *accumulate(len(line) + 1 for line in shorter)]
    before = [*accumulate(taken)]
    return b"\n".join(shorter), lambda at: before[min(bisect_right(starts, at) - 1, len(before) - 1)]


def without_false_sums(data: bytes) -> bytes:
    """Return a script of the same length in which `$((a b) && c)` has one pair of parentheses less."""
    for match in _COMMAND.finditer(data):
        depth = 0
        for sign in _PARENTHESES.finditer(data, match.end() - 1):
            depth += (sign[0] == b"(") - (sign[0] == b")")
            if not depth:
                opening, closing = match.end() - 1, sign.start()
                data = data[:opening] + b" " + data[opening + 1 : closing] + b" " + data[closing + 1 :]
                break
    return data
