"""What jar.yaml says about the rotation of a secret, and the step at which one is."""

from __future__ import annotations

from collections.abc import Mapping

from coinjar.core.definition import SealedValue
from coinjar.core.errors import Location
from coinjar.core.record import Record

MADE, CHANGED, SWITCHED, DELIVERED = "made", "changed", "switched", "delivered"
STEPS = (MADE, CHANGED, SWITCHED, DELIVERED)
"""The steps of a rotation in order; after the last, the previous value is forgotten."""


class RotationRules(Record, kw_only=True):
    """How a secret is rotated: the programs that make a new value, make the system accept it, and revoke the old one.

    `service`: whose variables the programs get. `turns`: variables that take turns between two values, such as the name
    of a database role. `proofs`: names of proofs that confirm it.
    """

    location: Location
    make: tuple[str, ...] = ()
    change: tuple[str, ...] = ()
    revoke: tuple[str, ...] = ()
    service: str | None = None
    turns: Mapping[str, tuple[str, str]] = {}
    proofs: tuple[str, ...] = ()

    def programs(self) -> list[tuple[str, ...]]:
        """Return the commands that it runs."""
        return [argv for argv in (self.make, self.change, self.revoke) if argv]


def step_of(value: SealedValue) -> str:
    """Return the last step that is known to be done: made, switched, or "" if no rotation is under way."""
    if value.other is None:
        return ""
    return MADE if value.other.is_next else SWITCHED


def other_turn(pair: tuple[str, str], text: str) -> str | None:
    """Return the other one of two values; None if the text is neither."""
    return None if text not in pair else pair[1] if text == pair[0] else pair[0]
