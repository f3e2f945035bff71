"""The descriptions that docs/platforms.md shows."""

from __future__ import annotations

import re
from pathlib import Path

PAGE = Path(__file__).parent.parent / "docs/platforms.md"


def description(name: str) -> str:
    """Return the description of a service, from the section below its heading."""
    heading = "## The description" if name == "millrace" else f"### Describing {name.capitalize()}"
    match = re.search(rf"{heading}\n\n```yaml\n(.*?)```", PAGE.read_text(), re.DOTALL)
    assert match, f"docs/platforms.md does not describe {name}"
    return match[1]
