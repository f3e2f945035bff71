"""The grid: variables down, stages (or the services of one stage) across."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from coinjar.core.definition import date_of
from coinjar.core.errors import is_encrypted_for_others
from coinjar.core.layers import Resolver, plain
from coinjar.core.model import Jar, Resolved, Variable
from coinjar.core.secret_ages import Day, day_of

OWN, INHERITED, SHARED, DEFAULT, MINE = "own", "inherited", "shared", "default", "mine"
MISSING, NONE, UNSET, NOT_HERE, FAULT, VARIES = "missing", "none", "unset", "not here", "fault", "varies"
SEALED = "sealed"

SAME, DIFFERENT, SINGLE, UNKNOWN = "same", "different", "single", "unknown"
_STATES = {"shared": SHARED, "mine": MINE, "one-off": MINE}


class Cell(NamedTuple):
    """One variable in one column.

    `text` is None where there is no single value; `variants` counts the different ones.
    """

    state: str
    text: str | None = None
    secret: bool = False
    derived: bool = False
    variants: int = 1
    fault: str | None = None


class GridRow(NamedTuple):
    """A variable's cells, and whether its columns agree (`single`: only one column has it; `unknown`: some are
    encrypted for others).
    """

    variable: Variable
    cells: tuple[Cell, ...]
    agreement: str

    @property
    def is_missing(self) -> bool:
        return any(cell.state in (MISSING, FAULT) for cell in self.cells)

    @property
    def by_default(self) -> bool:
        """Whether a column has the declared default, since no layer sets the variable there."""
        return any(cell.state == DEFAULT for cell in self.cells)


MadeCells = dict[str, dict[int, Cell]]
"""Cells of plain texts by state and by the definition's id: a definition has the same cell in every column where it has
the same state, and most columns share most of them.
"""


def _origins(resolver: Resolver) -> dict[int, str]:
    """Return the origin of each value, as a cell's state, by the value's id; defaults are omitted."""
    result: dict[int, str] = {}
    for layer in resolver.layers[1:]:
        state = _STATES.get(layer.kind) or (OWN if layer.name == resolver.stage else INHERITED)
        for values in layer.values.values():
            result.update(dict.fromkeys(map(id, values.values()), state))
    return result


def column(
    resolver: Resolver, variables: Iterable[tuple[Variable, Sequence[str]]], made: MadeCells | None = None
) -> list[Cell]:
    """Return one stage's cells: one per variable, for the services beside it, which must get the variable. `made` are
    the cells of other columns of the same jar, to which this one's are added.

    A hot loop: a large jar has hundreds of thousands of cells.
    """
    common, own, absent, origins = resolver.common, resolver.own, resolver.absent, _origins(resolver)
    by_state: MadeCells = {} if made is None else made
    for state in (OWN, INHERITED, SHARED, MINE, DEFAULT):
        by_state.setdefault(state, {})
    cells = []
    for variable, services in variables:
        name = variable.name
        if not services or name in absent:
            cells.append(_NOT_HERE)
            continue
        if name not in own:
            definition = common.get(name)
            if definition is None:
                cells.append(_LACKING if variable.required else _NOTHING)
                continue
            key = id(definition)
            same = by_state[origins.get(key, DEFAULT)]
            if (known := same.get(key)) is not None:
                cells.append(known)
                continue
            if isinstance(definition.content, str):  # one text for every service: by far the most cells
                resolved = definition.seen or plain(variable, definition)
                plain_text = resolved.text is not None and (resolved.text or not variable.is_missing(resolved.text))
                cell = (
                    Cell(origins.get(key, DEFAULT), resolved.text, resolved.secret)
                    if plain_text
                    else _single(resolved, origins)
                )
                same[key] = cell
                cells.append(cell)
                continue
        cells.append(_several(resolver, variable, services, origins))
    return cells


_NOT_HERE, _LACKING, _UNSET, _NOTHING = Cell(NOT_HERE), Cell(MISSING), Cell(UNSET), Cell(NONE)


def _several(resolver: Resolver, variable: Variable, services: Sequence[str], origins: dict[int, str]) -> Cell:
    """Return the cell of a variable that services may have different values of."""
    winners = resolver.winners(variable.name, services)
    # Twice as fast as a generator here.
    if all([definition is None or isinstance(definition.content, str) for definition in winners]):  # noqa: C419
        other = [definition.seen or plain(variable, definition) for definition in winners if definition is not None]
        texts = {resolved.text for resolved in other}
        if len(texts) > 1 and len(other) == len(winners) and None not in texts:
            return Cell(VARIES, None, variable.secret, variants=len(texts))
        if len(other) < len(winners):
            other.append(Resolved(variable, None, secret=variable.secret))
    else:
        other = [resolver.value(variable.name, service) for service in resolver.distinct(variable, services)]
    variants = len({(resolved.text, resolved.is_unset, resolved.fault is not None) for resolved in other})
    if variants == 1:
        return _single(other[-1], origins)  # of several origins the most common one, which is last
    secret = any(resolved.secret for resolved in other)
    faulty = next((resolved.fault.message for resolved in other if resolved.fault), None)
    if faulty and all(resolved.fault is None or is_encrypted_for_others(resolved.fault) for resolved in other):
        return Cell(SEALED, None, secret=True, derived=other[0].derived, fault=faulty)
    lacking = any(variable.is_missing(resolved.text) for resolved in other)
    state = FAULT if faulty else MISSING if lacking else VARIES
    return Cell(state, None, secret, other[0].derived, variants, faulty)


def _single(resolved: Resolved, origins: dict[int, str]) -> Cell:
    if resolved.text is not None:
        state = (
            MISSING if resolved.variable.is_missing(resolved.text) else origins.get(id(resolved.definition), DEFAULT)
        )
        return Cell(state, resolved.text, resolved.secret, resolved.derived)
    if resolved.fault is not None and is_encrypted_for_others(resolved.fault):
        return Cell(SEALED, None, secret=True, derived=resolved.derived, fault=resolved.fault.message)
    if resolved.fault is not None:
        return Cell(FAULT, None, resolved.secret, resolved.derived, fault=resolved.fault.message)
    return _LACKING if resolved.variable.required else _UNSET if resolved.is_unset else _NOTHING


def _agreement(cells: Iterable[Cell]) -> str:
    here = [cell for cell in cells if cell.state != NOT_HERE]
    if len(here) < 2:
        return SINGLE
    texts = {cell.text for cell in here}
    if len(texts) > 1 and (None not in texts or len({cell.text for cell in here if cell.state != SEALED}) > 1):
        return DIFFERENT
    states = {cell.state for cell in here}
    if SEALED in states:
        return UNKNOWN
    return DIFFERENT if VARIES in states or FAULT in states else SAME


def by_stage(jar: Jar, resolvers: Sequence[Resolver], services: Sequence[str]) -> list[GridRow]:
    """Return one row per variable that any of these services may get, with one cell per resolver (each of another
    stage).
    """
    services_with = [
        (variable, [service for service in services if variable.applies_to(service)])
        for variable in jar.variables.values()
    ]
    asked = [pair for pair in services_with if pair[1]]
    made: MadeCells = {}
    return _rows(asked, [column(resolver, asked, made) for resolver in resolvers])


def by_service(jar: Jar, resolver: Resolver, services: Sequence[str]) -> list[GridRow]:
    """Return one row per variable, with one cell per service of the resolver's stage."""
    variables = list(jar.variables.values())
    columns = [
        column(resolver, [(variable, [service] if variable.applies_to(service) else []) for variable in variables])
        for service in services
    ]
    return _rows([(variable, services) for variable in variables], columns)


def with_ages(rows: Iterable[GridRow], columns: Sequence[tuple[Resolver, Sequence[str]]], today: Day) -> list[GridRow]:
    """Return the rows of secrets with their ages in days instead of their values; a column is a resolver and
    services.
    """
    return [
        row._replace(
            cells=tuple(
                _with_age(cell, resolver, row.variable, services, today)
                for cell, (resolver, services) in zip(row.cells, columns, strict=True)
            )
        )
        for row in rows
        if any(cell.secret and not cell.derived for cell in row.cells)
    ]


def _with_age(cell: Cell, resolver: Resolver, variable: Variable, services: Sequence[str], today: Day) -> Cell:
    if cell.text is None and cell.state != VARIES:
        return cell
    if cell.derived:
        return cell._replace(text="computed", secret=False, derived=False)
    asked = [service for service in services if variable.applies_to(service)]
    winners = [definition for definition in resolver.winners(variable.name, asked) if definition is not None]
    dates = [day_of(date_of(definition)) for definition in winners]
    days = sorted((today - day).days for day in dates if day is not None)
    if len(days) < len(dates):
        return cell._replace(text="age unknown", secret=False)
    text = f"{days[0]} d" if days[0] == days[-1] else f"{days[0]} to {days[-1]} d"
    return cell._replace(text=text, secret=False)


def _rows(asked: Sequence[tuple[Variable, Sequence[str]]], columns: Sequence[list[Cell]]) -> list[GridRow]:
    return [
        GridRow(variable, cells, _agreement(cells))
        for (variable, _), cells in zip(asked, zip(*columns, strict=True), strict=True)
    ]
