"""What `check` reports of a place, and what destinations report to it; a delivery loads no rules for that."""

from __future__ import annotations

from typing import NamedTuple

from coinjar.core.errors import Location


class Diagnostic(NamedTuple):
    """One result of a rule at one location; `hint` says what to do."""

    message: str
    hint: str
    location: Location
    variable: str | None = None
    stage: str | None = None
    service: str | None = None
    subject: str | None = None
    """The name that the diagnostic is about, if it is not a declared variable."""


class PortUse(NamedTuple):
    """A port that a file beside the jar gives a service on a stage. `words` says how (`exposes`, `listens on`).

    `fixed`: the service's own code listens there, whatever its variable says.
    """

    service: str
    stage: str
    port: str
    location: Location
    words: str
    fixed: bool = False
