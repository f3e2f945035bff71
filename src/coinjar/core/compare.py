"""Compare two sets of variables."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple, Protocol

from coinjar.core.definition import Definition
from coinjar.core.errors import CoinJarError, is_encrypted_for_others
from coinjar.core.layers import Resolver, plain
from coinjar.core.model import Resolved

_NO_VALUE = "no value"
SAME, DIFFERENT, ONLY_LEFT, ONLY_RIGHT, UNKNOWN = "same", "different", "only left", "only right", "unknown"


class SideValue(NamedTuple):
    """One side's value of a variable: a text, or None and the reason (`note`)."""

    text: str | None = None
    secret: bool = False
    note: str = ""
    fault: CoinJarError | None = None


class Side(Protocol):
    """One side of a comparison."""

    label: str

    def names(self) -> Iterable[str]:
        """Return the variables that this side knows."""
        ...

    def entry(self, name: str, service: str | None) -> SideValue:
        """Return the value for a service (None: the value that all services share)."""
        ...

    def varies(self, name: str) -> bool:
        """Return whether services have different values."""
        ...


class Difference(NamedTuple):
    """One variable on both sides. `service` is None where all services have the same value."""

    name: str
    service: str | None
    left: SideValue
    right: SideValue
    verdict: str

    @property
    def secret(self) -> bool:
        return self.left.secret or self.right.secret


class FlatSide:
    """A side given as values by name: one map for all services (key None), and own maps for some."""

    def __init__(
        self, label: str, values: Mapping[str | None, dict[str, str | None]], secret: Iterable[str] = ()
    ) -> None:
        self.label = label
        self._values = values
        self._secret = frozenset(secret)

    def names(self) -> Iterable[str]:
        return dict.fromkeys(name for own in self._values.values() for name in own)

    def services(self) -> list[str]:
        """Return the services with a map of their own."""
        return [value for value in self._values if value is not None]

    def varies(self, name: str) -> bool:
        return len({own.get(name, ...) for own in self._values.values()}) > 1

    def entry(self, name: str, service: str | None) -> SideValue:
        own = self._values.get(service, self._values.get(None, {}))
        if service is None and name not in own:  # all services that have it have the same
            own = next((value for value in self._values.values() if name in value), own)
        if name not in own:
            return SideValue(note="absent")
        text = own[name]
        return SideValue(text, name in self._secret, "" if text is not None else "unset on purpose")


class StageSide:
    """A stage of the jar."""

    def __init__(self, resolver: Resolver, services: Sequence[str]) -> None:
        self.label = resolver.stage
        self._resolver = resolver
        self._services = services
        self._known: dict[str, Sequence[str]] = {}
        self._plain: dict[Definition, SideValue] = {}
        """By definition, what a text is for every service where it takes effect."""

    def names(self) -> Iterable[str]:
        some = bool(self._services)
        return [
            name
            for name, variable in self._resolver.jar.variables.items()
            if (variable.services is None and some) or any(map(variable.applies_to, self._services))
        ]

    def _here(self, name: str) -> Sequence[str]:
        if name not in self._known:
            variable = self._resolver.jar.variables.get(name)
            if variable is None or name in self._resolver.absent:
                self._known[name] = ()
            elif variable.services is None:
                self._known[name] = self._services
            else:
                self._known[name] = [service for service in self._services if service in variable.services]
        return self._known[name]

    def varies(self, name: str) -> bool:
        here = self._here(name)
        asked = self._resolver.distinct(self._resolver.jar.variables[name], here) if here else here
        if len(asked) < 2:
            return False  # by far the most
        first = self.entry(name, asked[0])
        return any(self.entry(name, other_name) != first for other_name in asked[1:])

    def entry(self, name: str, service: str | None) -> SideValue:
        here = self._known.get(name)
        if here is None:
            here = self._here(name)
        variable = self._resolver.jar.variables.get(name)
        if variable is None or not here or (service and service not in here):
            where = f"{self.label} for {service}" if here else self.label
            return SideValue(note=f"not for {where}" if variable is not None else "not declared")
        definition = self._resolver.winner(name, service or here[0])
        if definition is None:
            return SideValue(None, variable.secret, _NO_VALUE)
        if (made := self._plain.get(definition)) is None:
            if not isinstance(definition.content, str):
                return self._as_side_value(self._resolver.value(name, service or here[0]))
            made = self._plain[definition] = self._as_side_value(definition.seen or plain(variable, definition))
        return made

    @staticmethod
    def _as_side_value(resolved: Resolved) -> SideValue:
        if resolved.fault:
            note = "encrypted for others" if is_encrypted_for_others(resolved.fault) else "cannot be computed"
            return SideValue(None, resolved.secret, note, resolved.fault)
        note = "" if resolved.text is not None else "unset on purpose" if resolved.is_unset else _NO_VALUE
        return SideValue(resolved.text, resolved.secret, note)


def verdict(left: SideValue, right: SideValue) -> str:
    """Return the verdict on two values: same, different, only left or only right."""
    if left.fault or right.fault:
        return UNKNOWN
    if left.text == right.text:
        return SAME
    if left.text is None:
        return ONLY_RIGHT
    return ONLY_LEFT if right.text is None else DIFFERENT


def compare(left: Side, right: Side, services: Sequence[str]) -> list[Difference]:
    """Return one row per variable with a value on either side, in the left side's order; one row per service where
    services differ.
    """
    differences = []
    for name in dict.fromkeys([*left.names(), *right.names()]):
        whose: Sequence[str | None] = services if left.varies(name) or right.varies(name) else [None]
        for service in whose:
            side_value, other = left.entry(name, service), right.entry(name, service)
            if side_value.text is None and other.text is None and not side_value.fault and not other.fault:
                continue
            found = verdict(side_value, other)
            if side_value.secret or other.secret:
                side_value, other = side_value._replace(secret=True), other._replace(secret=True)
            differences.append(Difference(name, service, side_value, other, found))
    return differences
