"""What code and documents outside the jar use of its variables, as input for the rules."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from coinjar.core.errors import Location
from coinjar.core.record import Record

if TYPE_CHECKING:
    from coinjar.core.model import Jar

HIDDEN = "••••"
"""Shown instead of a default that looks like a secret."""
READ, SET, PRESENCE = "read", "set", "presence"


class CodeUse(NamedTuple):
    """One use of a variable's name.

    `services` are the services whose code this is; empty for code of no single service.

    `access` is read, set or presence. `default` is what the code falls back to. `misplaced`: nothing expands such a
    reference there. `code`: a program reads the variable by name; in a script or a document a short word can be
    anything. `probable`: the helper or form by which it is taken for a variable, "" if it certainly is one. `kind`:
    what the code says of its kind.
    """

    name: str
    location: Location
    access: str
    services: tuple[str, ...] = ()
    default: str | None = None
    misplaced: bool = False
    code: bool = True
    probable: str = ""
    kind: str = ""

    @property
    def adverb(self) -> str:
        """The word before what is said of it."""
        return "probably " if self.probable else ""


class CodeLiteral(NamedTuple):
    """A variable's value written out in a file that also uses the variable."""

    variable: str
    text: str
    location: Location


class CodePaths(Record):
    """Where the code is (`code:` in jar.yaml): paths of no single service, functions that read the variable their
    caller names, and excluded paths.
    """

    paths: tuple[str, ...] = ()
    helpers: tuple[str, ...] = ()
    without: tuple[str, ...] = ()


def has_code(jar: Jar) -> bool:
    """Return whether jar.yaml declares where the code is."""
    return jar.code is not None or any(service.code for service in jar.services.values())
