"""The grid: variables down, stages (or the services of one stage) across."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from itertools import chain, islice
from typing import NamedTuple

from coinjar.core.definition import Definition, date_of
from coinjar.core.errors import is_encrypted_for_others
from coinjar.core.layers import Resolver, plain
from coinjar.core.model import Jar, Resolved, Variable
from coinjar.core.names import SHARED as BASE
from coinjar.core.secret_ages import Day, day_of
from coinjar.core.stage_changes import StageChanges

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


def _origins(resolver: Resolver) -> dict[int, str]:
    """Return the origin of each value, as a cell's state, by the value's id; defaults are omitted."""
    result: dict[int, str] = {}
    for layer in resolver.layers[1:]:
        state = _STATES.get(layer.kind) or (OWN if layer.name == resolver.stage else INHERITED)
        for values in layer.values.values():
            result.update(dict.fromkeys(map(id, values.values()), state))
    return result


def column(resolver: Resolver, variables: Iterable[tuple[Variable, Sequence[str]]]) -> list[Cell]:
    """Return one stage's cells: one per variable, for the services beside it, which must get the variable.

    A hot loop: a large jar has hundreds of thousands of cells.
    """
    common, own, absent, origins = resolver.common, resolver.own, resolver.absent, _origins(resolver)
    cells = []
    for variable, services in variables:
        name = variable.name
        if not services or name in absent:
            cells.append(_NOT_HERE)
            continue
        definition = common.get(name)
        if name in own:
            winners = resolver.winners(name, services)
            definition = winners[-1]
            if len(winners) > 1 and any([winner is not definition for winner in winners]):  # noqa: C419 - twice as fast
                cells.append(_of_several(resolver, variable, services, winners, origins))
                continue
        if definition is None:
            cells.append(_LACKING if variable.required else _NOTHING)
        elif isinstance(definition.content, str):  # one text for every service: by far the most cells
            cells.append(_of_text(variable, definition, origins))
        else:
            cells.append(_computed(resolver, variable, services, origins))
    return cells


_NOT_HERE, _LACKING, _UNSET, _NOTHING = Cell(NOT_HERE), Cell(MISSING), Cell(UNSET), Cell(NONE)


@cache
def _varying(variants: int, secret: bool) -> Cell:
    return Cell(VARIES, None, secret, variants=variants)


def _of_text(variable: Variable, definition: Definition, origins: Mapping[int, str]) -> Cell:
    """Return the cell of a plain text that all services have."""
    content = definition.content
    if content and variable.takes_any_text and "\0" not in content:  # type: ignore[operator]  # a text, says the caller
        return Cell(origins.get(id(definition), DEFAULT), content)  # type: ignore[arg-type]  # as above
    return _single(definition.seen or plain(variable, definition), origins)


def _of_several(
    resolver: Resolver,
    variable: Variable,
    services: Sequence[str],
    winners: Sequence[Definition | None],
    origins: Mapping[int, str],
) -> Cell:
    """Return the cell of a variable of which services have different definitions: `winners`."""
    texts: set[str | None] = set()
    takes_any_text = variable.takes_any_text
    for definition in winners:
        content = definition.content if definition is not None else None
        if definition is None or not isinstance(content, str):
            return _computed(resolver, variable, services, origins)
        if takes_any_text and "\0" not in content:
            texts.add(content)
        else:
            texts.add((definition.seen or plain(variable, definition)).text)
    last = winners[-1]  # of several origins the most common one
    if last is not None and None not in texts:
        return _varying(len(texts), variable.secret) if len(texts) > 1 else _of_text(variable, last, origins)
    return _computed(resolver, variable, services, origins)


def _computed(resolver: Resolver, variable: Variable, services: Sequence[str], origins: Mapping[int, str]) -> Cell:
    """Return the cell of a variable from its value for each service that may see another one."""
    different = resolver.distinct(variable, services)
    other = [resolver.value(variable.name, service) for service in different]
    if len(other) == 1:
        return _single(other[0], origins)
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


def _single(resolved: Resolved, origins: Mapping[int, str]) -> Cell:
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


def _agreement(cells: Sequence[Cell]) -> str:
    first = None
    for cell in cells:  # most rows end here, after a few cells
        if (text := cell.text) is not None:
            if first is None:
                first = text
            elif text != first:
                return DIFFERENT
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


class StageGrid:
    """A grid with one column per stage, of which any rows can be made: those of the variables that any of these
    services may get.
    """

    def __init__(self, jar: Jar, services: Sequence[str]) -> None:
        self.jar = jar
        with_services = [
            (
                variable,
                services if variable.services is None else [name for name in services if name in variable.services],
            )
            for variable in jar.variables.values()
        ]
        self.asked: dict[str, tuple[Variable, Sequence[str]]] = {
            variable.name: (variable, some) for variable, some in with_services if some
        }
        """By name, in the order of declaration: a variable, and which of the services get it."""

    def rows(
        self, resolvers: Iterable[Resolver], names: Iterable[str], changes: StageChanges | None = None
    ) -> list[GridRow]:
        """Return one row per name, with one cell per resolver (each of another stage). Each resolver is used once: of
        hundreds of stages, not all need to exist together. `changes` must have been asked about these names.
        """
        asked = [self.asked[name] for name in names]
        rest = iter(resolvers)
        first = list(islice(rest, 3))
        inheriting = _InheritedColumns(self.jar, asked, changes) if len(first) == 3 else None
        columns = []
        for resolver in chain(first, rest):
            is_usual = (
                resolver.jar is self.jar and len(resolver.layers) == len(resolver.chain) + 2
            )  # nobody's own values
            columns.append(inheriting.column(resolver) if inheriting and is_usual else column(resolver, asked))
        return _rows(asked, columns)


def by_stage(jar: Jar, resolvers: Iterable[Resolver], services: Sequence[str]) -> list[GridRow]:
    """Return all rows of a grid of stages."""
    grid = StageGrid(jar, services)
    return grid.rows(resolvers, grid.asked)


class _InheritedColumns:
    """Columns of one jar's stages without anybody's own values: each is the column of what it follows, except for what
    the stage may change. Most cells are worked out once for a whole chain of stages.
    """

    def __init__(self, jar: Jar, asked: Sequence[tuple[Variable, Sequence[str]]], changes: StageChanges | None) -> None:
        self.jar = jar
        self.asked = asked
        self.places = {str(variable.name): place for place, (variable, _) in enumerate(asked)}
        self.changes = changes or StageChanges(jar, self.places)
        self.made = {"": column(Resolver(jar, BASE), self._without_special(asked))}
        """By stage; "" is what every stage inherits."""
        self.own_places: dict[str, list[int]] = {"": []}
        self.passed_on: dict[str, list[Cell]] = {}
        """By stage, the cells as a stage that follows it has them."""

    def _without_special(self, asked: Sequence[tuple[Variable, Sequence[str]]]) -> list[tuple[Variable, Sequence[str]]]:
        """Return the same with no services for special names: for a column that is only inherited, where nothing should
        be fetched.
        """
        special = self.changes.special
        return [(variable, () if variable.name in special else services) for variable, services in asked]

    def column(self, resolver: Resolver, *, is_shown: bool = True) -> list[Cell]:
        """Return a stage's cells."""
        followed = resolver.chain[-2] if len(resolver.chain) > 1 else ""
        if followed not in self.made:
            self.column(Resolver(self.jar, followed), is_shown=False)
        cells = self._inherited_from(followed).copy()
        # In the order of declaration: the member of a cycle that is reported must not change from run to run.
        places = sorted(self.places[name] for name in self.changes.on(resolver) if name in self.places)
        asked = [self.asked[place] for place in places]
        for place, cell in zip(
            places, column(resolver, asked if is_shown else self._without_special(asked)), strict=True
        ):
            cells[place] = cell
        self.made[resolver.stage] = cells
        self.own_places[resolver.stage] = places
        return cells

    def _inherited_from(self, stage: str) -> list[Cell]:
        if stage not in self.passed_on:
            cells = self.made[stage].copy()
            for place in self.own_places[stage]:
                if (cell := cells[place]).state == OWN:
                    cells[place] = Cell(INHERITED, *cell[1:])
            self.passed_on[stage] = cells
        return self.passed_on[stage]


def by_service(variables: Sequence[Variable], resolver: Resolver, services: Sequence[str]) -> list[GridRow]:
    """Return one row per variable, with one cell per service of the resolver's stage."""
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
