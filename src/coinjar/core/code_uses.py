"""What code and documents beside the jar say of its variables, as facts for the rules."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from coinjar.core.errors import Location
from coinjar.core.record import Record

if TYPE_CHECKING:
    from coinjar.core.model import Jar

HIDDEN = "••••"
"""What stands for a default that looks like a secret."""
READ, SET, PRESENCE = "read", "set", "presence"


class CodeUse(NamedTuple):
    """One mention of a name. `services` are those whose code this is (empty for what belongs to none of them).

    `how` is read, set or presence; `default` what the code falls back to; `misplaced` says that nothing looks at such a reference there;
    `code` that a program asks for it by name; in a script or a document a small word may be anything.
    """

    name: str
    location: Location
    access: str
    services: tuple[str, ...] = ()
    default: str | None = None
    misplaced: bool = False
    code: bool = True


class CodeLiteral(NamedTuple):
    """A variable's value written out in a file that mentions the variable."""

    variable: str
    text: str
    location: Location


class CodePaths(Record):
    """Where the code is, in jar.yaml: paths of no single service, functions that read what their caller names, what is left out."""

    paths: tuple[str, ...] = ()
    helpers: tuple[str, ...] = ()
    without: tuple[str, ...] = ()


def has_code(jar: Jar) -> bool:
    """Whether jar.yaml says where the code is."""
    return jar.code is not None or any(service.code for service in jar.services.values())
