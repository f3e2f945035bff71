"""Unified diffs for display, with every secret masked. No other module prints file contents."""

from __future__ import annotations

from collections.abc import Iterator
from difflib import SequenceMatcher
from typing import NamedTuple

from coinjar.core.redaction import Redactor, shown_lines
from coinjar.destinations.hidden_lines import Hidden


class FileChange(NamedTuple):
    """A file before and after, and the names to show: `old_name` is /dev/null for a new one."""

    old: bytes
    new: bytes
    old_name: str
    new_name: str


def difference(sides: FileChange, hidden: Hidden, redactor: Redactor, *, context: int = 3) -> Iterator[str]:
    """Return the lines of a unified diff. `context`: unchanged lines shown around a change."""
    before, after = _lines(sides.old, hidden, redactor), _lines(sides.new, hidden, redactor)
    yield f"--- {sides.old_name}"
    yield f"+++ {sides.new_name}"
    matcher = SequenceMatcher(None, [real for real, _ in before], [real for real, _ in after], autojunk=False)
    for group in matcher.get_grouped_opcodes(context):
        yield f"@@ -{_span(group[0][1], group[-1][2])} +{_span(group[0][3], group[-1][4])} @@"
        for tag, start, end, start_new, end_new in group:
            if tag == "equal":
                yield from (f" {text}" for _, text in before[start:end])
            else:
                yield from (f"-{text}" for _, text in before[start:end])
                yield from (f"+{text}" for _, text in after[start_new:end_new])


def _lines(data: bytes, hidden: Hidden, redactor: Redactor) -> list[tuple[bytes, str]]:
    """Return each line, and its displayed form."""
    if not data:
        return []
    lines = data.split(b"\n")
    ends_open = lines[-1] != b""
    if not ends_open:
        lines.pop()
    shown = list(shown_lines([line.decode(errors="replace") for line in lines], hidden(data), redactor))
    if ends_open:
        lines[-1] += b"\0"
        shown[-1] += "   (no line break at the end)"
    return list(zip(lines, shown, strict=True))


def _span(start: int, end: int) -> str:
    """Return the position of a hunk in the notation of unified diffs."""
    length = end - start
    return f"{start + (1 if length else 0)}" + ("" if length == 1 else f",{length}")
