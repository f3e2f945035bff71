"""The result of reading a source, and its faults."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from coinjar.core.inference import is_placeholder
from coinjar.core.model import Jar
from coinjar.core.name_spelling import is_foreign, plain_name
from coinjar.core.names import name_fault, quoted_name, shell_can_set
from coinjar.dialects.base import ParseContext, ReadItem, ReadRemark, ReadResult

if TYPE_CHECKING:
    from coinjar.core.consent import Gate
    from coinjar.jarfile.sealed_values import Ring

SET_BY_EVERYBODY = frozenset(
    "PATH HOME USER LOGNAME SHELL PWD OLDPWD SHLVL TERM LANG LANGUAGE LC_ALL LC_CTYPE HOSTNAME TZ TMPDIR EDITOR "
    "VISUAL PAGER DISPLAY "
    "MAIL PS1 PS2 IFS _ container KUBERNETES_PORT KUBERNETES_SERVICE_HOST KUBERNETES_SERVICE_PORT SSH_AUTH_SOCK "
    "XDG_RUNTIME_DIR".split()
)
"""Names that every image, shell or platform sets itself."""


class SourceContext(NamedTuple):
    """The context of a read: the jar, its folder, its keys and its gate, if there is one, and the stage to read from a
    source with several.
    """

    jar: Jar | None = None
    folder: Path | None = None
    stage: str | None = None
    ring: Ring | None = None
    gate: Gate | None = None

    def parse_context(self) -> ParseContext:
        """Return what readers need from the jar."""
        return ParseContext(self.jar.stage_names(), self.jar.variables) if self.jar else ParseContext()

    def services(self) -> Mapping[str, object]:
        """Return the jar's services."""
        return self.jar.services if self.jar else {}


class SourceVariables(NamedTuple):
    """Variables that were read.

    `why` says how the dialect was detected; `comments` are those above a variable, by file and line.
    """

    label: str
    dialect: str
    why: str
    reading: ReadResult
    comments: Mapping[tuple[str, int], str] = {}

    def of(self, service: str | None, stage: str | None = None) -> dict[str, ReadItem]:
        """Return what a service gets on a stage; of a duplicate name the last, as every reader of such files does."""
        return {
            item.name: item
            for item in self.reading.items
            if item.service in (None, service) and (stage is None or item.stage in (None, stage))
        }

    def services(self) -> list[str]:
        """Return the services that the source distinguishes."""
        return list(dict.fromkeys(item.service for item in self.reading.items if item.service))

    def stages(self) -> list[str]:
        """Return the stages that the source distinguishes."""
        return list(dict.fromkeys(item.stage for item in self.reading.items if item.stage))


def surprises(items: list[ReadItem]) -> Iterator[ReadRemark]:
    """Yield what is unexpected in a reading, whatever its source."""
    first: dict[tuple[str, str | None, str | None], ReadItem] = {}
    folded: dict[str, str] = {}
    for item in items:
        key = (item.name, item.stage, item.service)
        if key in first:
            yield ReadRemark(
                item.location,
                f"{item.name} is given twice (first in line {first[key].location.line}); the last one is used",
            )
        first.setdefault(key, item)
        other = folded.setdefault(item.name.casefold(), item.name)
        if other != item.name:
            yield ReadRemark(item.location, f"{item.name} and {other} differ only by case")
        if is_foreign(item.name):
            yield ReadRemark(item.location, f"not written like a name of the jar: {plain_name(item.name)}", lost=True)
        elif name_fault("variable", item.name):
            yield ReadRemark(item.location, f"ignored: {quoted_name(item.name)} is not a valid name", lost=True)
        elif not shell_can_set(item.name):
            yield ReadRemark(item.location, f"shells cannot set {item.name}: rename it")
        if item.text is not None and is_placeholder(item.text):
            yield ReadRemark(item.location, f"{item.name} has a placeholder, not a value")
        elif item.text and len(item.text) > 1 and item.text[0] == item.text[-1] and item.text[0] in "\"'`":
            yield ReadRemark(item.location, f"the value of {item.name} is wrapped in quotes, which are part of it")
