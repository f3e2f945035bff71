"""A new name of a stage, a service or the application, and what it changes in the names of places."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

STAGE, SERVICE, APPLICATION = "stage", "service", "application"
"""What can have a new name besides variables."""
COMMANDS = {STAGE: "stages", SERVICE: "services", APPLICATION: "app"}
"""The command that changes each."""

_ADDITIONS = re.compile(r"(\$\$)|\$\{\w+((?:@\w+(?::[a-z0-9_-]+)?)+)")
_SERVICE = re.compile(r"@of:([a-z0-9_-]+)")


class NameChange(NamedTuple):
    """`what` (STAGE, SERVICE or APPLICATION) gets the name `new` instead of `old`."""

    what: str
    old: str
    new: str

    def _of(self, what: str, name: str) -> str:
        return self.new if what == self.what and name == self.old else name

    def stage(self, name: str) -> str:
        """Return the new name of a stage."""
        return self._of(STAGE, name)

    def service(self, name: str) -> str:
        """Return the new name of a service, or of `all`."""
        return self._of(SERVICE, name)

    def app(self, name: str) -> str:
        """Return the new name of the application."""
        return self._of(APPLICATION, name)

    def reversed(self) -> NameChange:
        """Return the change back."""
        return NameChange(self.what, self.new, self.old)

    def earlier_names(self, formerly: tuple[str, ...]) -> list[str]:
        """Return the earlier names after the change, the first one first; a change back forgets what came between."""
        if self.new in formerly:
            return list(formerly[: formerly.index(self.new)])
        return [*formerly, *([self.old] if self.old not in formerly else [])]


def service_references(text: str, old: str) -> Iterator[tuple[int, int]]:
    """Return where a text with references names this service: `${NAME@of:SERVICE}`."""
    for match in _ADDITIONS.finditer(text):
        for named in _SERVICE.finditer(match[2] or ""):
            if named[1] == old:
                yield match.start(2) + named.start(1), match.start(2) + named.end(1)
