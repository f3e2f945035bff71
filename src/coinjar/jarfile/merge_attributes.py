"""How version control merges the sealed part: jar/.gitattributes."""

from __future__ import annotations

from pathlib import Path

from coinjar.system.files import replace_file

ATTRIBUTES = """\
# Sealed values: where two branches add some in one place, both stay; a value that both changed stands twice, and coinjar says so.
coins/*.coins merge=union
# Readers that two branches add both stay; then nobody vouches for them until somebody has looked: `coinjar readers vouch`.
readers.yaml merge=union
# A wrapped key is one piece: of two versions take either, then `coinjar readers vouch`.
coins/keys/*.age -merge
"""


def write_attributes(folder: Path) -> None:
    """Make the file where there is none."""
    path = folder / ".gitattributes"
    if not path.exists():
        replace_file(path, ATTRIBUTES.encode())
