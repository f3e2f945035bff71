"""How old secrets are, and until when they are good."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from datetime import date, timedelta
from typing import NamedTuple

from coinjar.core.definition import SealedDefinition, Undecryptable
from coinjar.core.model import Jar, Variable
from coinjar.core.names import SHARED

Day = date
"""A day of the calendar: the core asks no clock."""
OVERDUE, SOON, GOOD, UNDATED, UNLIMITED = "overdue", "soon", "good", "undated", "unlimited"
"""The states of a secret: too old; good for less than the warning time; good; with `valid`, but without a date; without
`valid`.
"""
_WARNING_DAYS = 14
_WARNING_SHARE = 4
_DAYS = {"d": 1, "w": 7, "y": 365}
_SPAN = re.compile(r"(?a)([1-9]\d{0,4})([dwy])")


def days_of(text: str) -> int | None:
    """Return the days of a span such as 90d, 12w or 1y (365 days); None if it is none."""
    match = _SPAN.fullmatch(text)
    return int(match[1]) * _DAYS[match[2]] if match else None


def day_of(text: str) -> Day | None:
    """Return a day that an encrypted entry has as ISO 8601; None for ""."""
    return date.fromisoformat(text) if text else None


class SecretAge(NamedTuple):
    """An encrypted value of a layer: since when it has been there (None: not known), and until when it is good (None:
    nobody said). `scopes` are `all` or the services that have it.
    """

    variable: Variable
    layer: str
    scopes: tuple[str, ...]
    definition: SealedDefinition
    set_on: Day | None
    good_until: Day | None
    state: str

    @property
    def stage(self) -> str | None:
        """The stage, None for a value that all stages share."""
        return None if self.layer == SHARED else self.layer

    def days(self, today: Day) -> int | None:
        """Return the age in days."""
        return None if self.set_on is None else (today - self.set_on).days


def secret_ages(jar: Jar, today: Day, warning_days: int | None = None) -> Iterator[SecretAge]:
    """Yield every encrypted value that can be decrypted, by variable and layer; one that several services have is one.

    `warning_days` before the end a value is due soon: by default 14, at most a quarter of its time.
    """
    for name, variable in jar.variables.items():
        for layer, scopes in jar.plain.items():
            groups: dict[tuple[object, str], list[SealedDefinition]] = {}
            for values in scopes.values():
                definition = values.get(name)
                if isinstance(definition, SealedDefinition) and not isinstance(definition.content, Undecryptable):
                    groups.setdefault((definition.content, definition.sealed_value.set_on), []).append(definition)
            for (_, set_on), definitions in groups.items():
                yield _age(variable, layer, definitions, set_on, today, warning_days)


def _age(
    variable: Variable,
    layer: str,
    definitions: list[SealedDefinition],
    set_on: str,
    today: Day,
    warning_days: int | None,
) -> SecretAge:
    since = day_of(set_on)
    until = since + timedelta(days=variable.valid_days) if since is not None and variable.valid_days else None
    if variable.valid_days is None:
        state = UNLIMITED
    elif until is None:
        state = UNDATED
    else:
        early = min(_WARNING_DAYS, variable.valid_days // _WARNING_SHARE) if warning_days is None else warning_days
        left = (until - today).days
        state = OVERDUE if left < 0 else SOON if left < early else GOOD
    scopes = tuple(definition.scope for definition in definitions)
    return SecretAge(variable, layer, scopes, definitions[0], since, until, state)


def undecryptable_count(jar: Jar, names: Iterable[str]) -> int:
    """Return how many encrypted values of these variables cannot be decrypted here: their dates are not known."""
    return sum(
        isinstance(definition, SealedDefinition) and isinstance(definition.content, Undecryptable)
        for scopes in jar.plain.values()
        for values in scopes.values()
        for name in names
        if (definition := values.get(name)) is not None
    )
