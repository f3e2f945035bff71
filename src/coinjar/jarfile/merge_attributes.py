"""Configure how version control merges the sealed part: jar/.gitattributes."""

from __future__ import annotations

from pathlib import Path

from coinjar.jarfile.layout import JarLayout
from coinjar.system.files import replace_file

ATTRIBUTES = """\
# Sealed values: lines that two branches add in one place are both kept; coinjar reports a value that both changed.
coins/*.coins merge=union
# Readers that two branches add are both kept; review them, then approve: `coinjar readers vouch`.
readers.yaml merge=union
# A wrapped key cannot be merged: keep either version, then run `coinjar readers vouch`.
coins/keys/*.age -merge
coins/approvals/*.age -merge
"""


def write_attributes(folder: Path) -> None:
    """Write the file if there is none."""
    path = JarLayout(folder).git_attributes
    if not path.exists():
        replace_file(path, ATTRIBUTES.encode())
