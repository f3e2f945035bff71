"""What other installed packages add: entry points in the groups `coinjar.commands`, `.dialects`, `.destinations`,
`.rules` and `.sources`. docs/extending.md has an example of each.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Mapping
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint


_OURS = re.compile(rb"(?m)^\s*\[\s*coinjar\.")


@cache
def plugins(group: str) -> Mapping[str, EntryPoint]:
    """Return the entry points of `coinjar.GROUP` by name. The search takes some milliseconds: only where needed."""
    if not _are_installed():
        return {}
    from importlib.metadata import entry_points

    return {point.name: point for point in entry_points(group=f"coinjar.{group}")}


@cache
def _are_installed() -> bool:
    """Return whether a package may add something. Most often none does, and the library would take 15 ms to say so."""
    for folder in sys.path:
        try:
            packages = [*Path(folder).iterdir()]
        except NotADirectoryError:
            return True  # an archive, into which the library looks
        except OSError:
            continue
        for package in packages:
            if package.suffix == ".egg":
                return True
            if package.suffix in (".dist-info", ".egg-info"):
                with suppress(OSError):
                    if _OURS.search((package / "entry_points.txt").read_bytes()):
                        return True
    return False
