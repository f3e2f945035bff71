"""What other installed packages add: entry points in the groups `coinjar.commands`, `.dialects`, `.destinations`,
`.rules` and `.sources`. docs/extending.md has an example of each.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint


@cache
def plugins(group: str) -> Mapping[str, EntryPoint]:
    """Return the entry points of `coinjar.GROUP` by name. The search takes about 15 ms: call it only where needed."""
    from importlib.metadata import entry_points

    return {point.name: point for point in entry_points(group=f"coinjar.{group}")}
