"""Files that a shell sources, read without running anything: one statement after another by a pattern."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.core.errors import Location, location_of
from coinjar.dialects.base import ReadRemark


def statements(
    text: str, file: str, pattern: re.Pattern[str], shell: str, remarks: list[ReadRemark]
) -> Iterator[tuple[re.Match[str], Location]]:
    """Yield each statement that matches, with its place; a line that does not is skipped, and remarked upon.

    `pattern` matches one statement with its end, or an empty line.
    """
    at = 0
    while at < len(text):
        where = location_of(text, at, file)
        match = pattern.match(text, at)
        if match is None:
            remarks.append(ReadRemark(where, f"it needs {shell}: the line was skipped", lost=True))
            at = text.find("\n", at) + 1 or len(text)
            continue
        at = match.end()
        yield match, where
