"""The matrix: variables down, stages (or the services of one stage) across."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from coinjar.core.layers import Resolved, Resolver
from coinjar.core.model import Jar, Variable

OWN, INHERITED, SHARED, DEFAULT, MINE = "own", "inherited", "shared", "default", "mine"
MISSING, NONE, UNSET, NOT_HERE, FAULT, VARIES = "missing", "none", "unset", "not here", "fault", "varies"

SAME, DIFFERENT, SINGLE = "same", "different", "single"
_ORIGINS = {"default": DEFAULT, "shared": SHARED, "mine": MINE, "one-off": MINE}


class Cell(NamedTuple):
    """One variable in one column. `text` is None where there is no single value; `variants` counts the different ones."""

    state: str
    text: str | None = None
    secret: bool = False
    derived: bool = False
    variants: int = 1
    fault: str | None = None


class Row(NamedTuple):
    """A variable's cells, and whether its columns agree (`single`: only one column has it)."""

    variable: Variable
    cells: tuple[Cell, ...]
    agreement: str

    @property
    def is_missing(self) -> bool:
        return any(cell.state in (MISSING, FAULT) for cell in self.cells)


def origin(resolver: Resolver, seen: Resolved, service: str) -> str:
    """Where a winner was written, as a cell's state."""
    for layer in reversed(resolver.layers):
        values = layer.values
        for scope in (service, "all"):
            if scope in values and values[scope].get(seen.variable.name) is seen.written:
                return _ORIGINS.get(layer.kind) or (OWN if layer.name == resolver.stage else INHERITED)
    return NONE


def cell(resolver: Resolver, variable: Variable, services: Sequence[str]) -> Cell:
    """The variable on the resolver's stage as these services see it."""
    services = [service for service in services if variable.serves(service)]
    if not services or not resolver.jar.is_here(variable, resolver.chain):
        return _NOT_HERE
    first = resolver.value(variable.name, services[0])
    if len(services) > 1 and (variable.name in resolver.varying or first.is_derived):
        seen = [resolver.value(variable.name, service) for service in services]
        variants = len({(one.text, one.is_unset, one.fault is not None) for one in seen})
        if variants > 1:
            secret = any(one.secret for one in seen)
            faulty = next((one.fault.message for one in seen if one.fault), None)
            lacking = variable.required and any(one.text is None for one in seen)
            state = FAULT if faulty else MISSING if lacking else VARIES
            return Cell(state, None, secret, first.is_derived, variants, faulty)
    return _single(resolver, first, services[0])


_NOT_HERE = Cell(NOT_HERE)


def _single(resolver: Resolver, seen: Resolved, service: str) -> Cell:
    if seen.fault is not None:
        return Cell(FAULT, None, seen.secret, seen.is_derived, fault=seen.fault.message)
    if seen.text is None:
        lacking = seen.variable.required
        return Cell(MISSING if lacking else UNSET if seen.is_unset else NONE, secret=seen.secret)
    return Cell(origin(resolver, seen, service), seen.text, seen.secret, seen.is_derived)


def _agreement(cells: Iterable[Cell]) -> str:
    here = [cell for cell in cells if cell.state != NOT_HERE]
    if len(here) < 2:
        return SINGLE
    first = here[0]
    if any(cell.state in (VARIES, FAULT) for cell in here):
        return DIFFERENT
    if first.text is None:
        return SAME if all(cell.text is None for cell in here) else DIFFERENT
    return SAME if all(cell.text == first.text for cell in here) else DIFFERENT


def by_stage(jar: Jar, resolvers: Sequence[Resolver], services: Sequence[str]) -> list[Row]:
    """A row a variable that any of these services may see, a cell a resolver (each of another stage)."""
    rows = []
    for variable in jar.variables.values():
        if any(variable.serves(service) for service in services):
            cells = tuple([cell(resolver, variable, services) for resolver in resolvers])
            rows.append(Row(variable, cells, _agreement(cells)))
    return rows


def by_service(jar: Jar, resolver: Resolver, services: Sequence[str]) -> list[Row]:
    """A row a variable, a cell a service of the resolver's stage."""
    rows = []
    for variable in jar.variables.values():
        cells = tuple([cell(resolver, variable, [service]) for service in services])
        rows.append(Row(variable, cells, _agreement(cells)))
    return rows
