"""What happens to names in a shell script, in the order of the text."""

from __future__ import annotations

import re
from typing import NamedTuple

ASSIGNS, EXPORTS, CHILD, UNSET, READS, ASKS, INDIRECT = range(7)
NAME = re.compile(rb"[A-Za-z_]\w*")


class NameEvent(NamedTuple):
    """An event of a name."""

    what: int
    name: str
    start: int
    end: int
    default: str | None = None
