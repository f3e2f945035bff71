"""What a source gives, and what is wrong with any of them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from coinjar.core.guess import is_placeholder
from coinjar.core.names import name_fault, shell_can_set
from coinjar.dialects.base import Item, Reading, Remark

SET_BY_EVERYBODY = frozenset(
    "PATH HOME USER LOGNAME SHELL PWD OLDPWD SHLVL TERM LANG LANGUAGE LC_ALL LC_CTYPE HOSTNAME TZ TMPDIR EDITOR VISUAL PAGER DISPLAY "
    "MAIL PS1 PS2 IFS _ container KUBERNETES_PORT KUBERNETES_SERVICE_HOST KUBERNETES_SERVICE_PORT SSH_AUTH_SOCK XDG_RUNTIME_DIR".split()
)
"""Names that every image, shell or platform sets by itself."""


class Source(NamedTuple):
    """Variables as they were read. `why` says how the dialect was told; `comments` are the ones above a variable, by line."""

    label: str
    dialect: str
    why: str
    reading: Reading
    comments: Mapping[int, str] = {}

    def values(self) -> dict[str, str | None]:
        """Name to text; of a name given twice the last, as every reader of such files has it."""
        return {item.name: item.text for item in self.reading.items}


def surprises(items: list[Item]) -> Iterator[Remark]:
    """What is wrong with what was read, whatever it was read from."""
    first: dict[str, Item] = {}
    folded: dict[str, str] = {}
    for item in items:
        if item.name in first:
            yield Remark(item.place, f"{item.name} stands twice (first in line {first[item.name].place.line}); the last one counts")
        first.setdefault(item.name, item)
        other = folded.setdefault(item.name.casefold(), item.name)
        if other != item.name:
            yield Remark(item.place, f"{item.name} and {other} differ only by case")
        if name_fault("variable", item.name):
            yield Remark(item.place, f"left out: '{item.name}' cannot be a name", lost=True)
        elif not shell_can_set(item.name):
            yield Remark(item.place, f"no shell can set {item.name}: rename it")
        if item.text is not None and is_placeholder(item.text):
            yield Remark(item.place, f"{item.name} holds a placeholder, not a value")
        elif item.text and len(item.text) > 1 and item.text[0] == item.text[-1] and item.text[0] in "\"'`":
            yield Remark(item.place, f"the value of {item.name} is wrapped in quotes, which are part of it")
