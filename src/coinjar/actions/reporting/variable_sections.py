"""The variables of a report: where each is set, what every stage gets and why, who uses it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from coinjar.actions.reporting.contents import (
    CellReason,
    CodeMention,
    ReportedCell,
    ReportedPlace,
    ReportedVariable,
)
from coinjar.core.definition import Definition, date_of
from coinjar.core.display import Masker, visible
from coinjar.core.explain import Explanation, explain, form_of, layer_text, value_words
from coinjar.core.grid import VARIES, Cell, GridRow, by_stage
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar, Variable
from coinjar.core.progress import Progress, told
from coinjar.destinations.stage_view import gets, services_for

_RULE_WORDS = {"min": "at least {}", "max": "at most {}", "pattern": "matches {}", "choices": "one of {}"}
_WORDS_OF_CELLS = {"missing": "missing", "fault": "cannot be computed", "sealed": "encrypted", "unset": "unset"}


def variable_sections(
    jar: Jar,
    resolvers: Sequence[Resolver],
    mentions: Mapping[str, list[CodeMention]],
    masker: Masker,
    progress: Progress | None,
) -> list[ReportedVariable]:
    """Return every variable that a service gets, in the order of declaration."""
    rows = by_stage(jar, resolvers, [str(name) for name in jar.services])
    return [_section(jar, row, resolvers, mentions, masker) for row in told(rows, "variables", progress)]


def _section(
    jar: Jar, row: GridRow, resolvers: Sequence[Resolver], mentions: Mapping[str, list[CodeMention]], masker: Masker
) -> ReportedVariable:
    variable = row.variable
    places = _Places(variable, masker)
    cells = [
        ReportedCell(cell.state, _cell_words(cell, masker), cell.secret, tuple(places.reasons(resolver)))
        for cell, resolver in zip(row.cells, resolvers, strict=True)
    ]
    return ReportedVariable(
        name=variable.name,
        about=visible(variable.about),
        kind=variable.kind,
        rules=list(rule_words(variable)),
        default=_default_words(variable, masker),
        secret=variable.secret,
        required=variable.required,
        services=jar.services_with(variable),
        stages=sorted(variable.stages) if variable.stages is not None else None,
        agreement=row.agreement,
        missing=row.is_missing,
        places=places.rows,
        cells=cells,
        mentions=mentions.get(variable.name, []),
        destinations=[
            destination.name
            for destination in jar.destinations.values()
            if gets(destination, variable.name)
            and any(variable.applies_to(service) for service in services_for(destination, jar))
        ],
    )


def _cell_words(cell: Cell, masker: Masker) -> str:
    if cell.text is None:
        return f"{cell.variants} values" if cell.state == VARIES else _WORDS_OF_CELLS.get(cell.state, "")
    return f"{'ƒ ' if cell.derived else ''}{masker.show(cell.text, secret=cell.secret, short=True)}"


def _default_words(variable: Variable, masker: Masker) -> str | None:
    if variable.default is None:
        return None
    _, text = form_of(variable.default)
    return masker.show(text, secret=variable.secret) if text is not None else None


def rule_words(variable: Variable) -> Iterator[str]:
    """Yield what a variable's values must be, and whom they are for, in words."""
    if variable.required:
        yield "required" + (", may be empty" if variable.may_be_empty else "")
    for name, limit in variable.constraints.items():
        shown = ", ".join(map(str, limit)) if isinstance(limit, list | tuple | frozenset) else str(limit)
        yield visible(_RULE_WORDS.get(name, f"{name.replace('_', ' ')} {{}}").format(shown))
    if variable.phase != "run":
        yield "for the build" if variable.phase == "build" else "for the build and at run time"
    for other, value in variable.only_with:
        yield f"only with {other}" + (f" = {visible(value)}" if value is not None else "")
    if variable.per_stage:
        yield "each stage has its own"
    if variable.valid_days:
        yield f"good for {variable.valid_days} days"
    for names, words in ((variable.also_as, "also as"), (variable.formerly, "formerly")):
        if names:
            yield f"{words} {', '.join(names)}"
    if variable.supplied_by:
        yield f"supplied by {', '.join(variable.supplied_by)}"


class _Places:
    """The places that set one variable, each once."""

    def __init__(self, variable: Variable, masker: Masker) -> None:
        self.variable = variable
        self.rows: list[ReportedPlace] = []
        self._masker = masker
        self._numbers: dict[int, int] = {}

    def reasons(self, resolver: Resolver) -> Iterator[CellReason]:
        """Yield why the services of a stage get what they get, once for all that get the same by the same layers."""
        services = resolver.services_of(self.variable)
        groups: dict[tuple[object, ...], list[str]] = {}
        explanations: dict[tuple[object, ...], Explanation] = {}
        for service in resolver.distinct(self.variable, services) if services else ():
            explanation = explain(resolver, self.variable.name, service)
            key = tuple(id(place.definition) for place in explanation.layers), explanation.resolved.text
            groups.setdefault(key, []).append(service)
            explanations.setdefault(key, explanation)
        alone = len(groups) == 1
        for group, explanation in explanations.items():
            numbers = [self._number(explanation, index) for index in range(len(explanation.layers))]
            winner = next((numbers[i] for i, place in enumerate(explanation.layers) if place.wins), None)
            names = () if alone else tuple(_alike(resolver, self.variable, groups[group], services))
            words = value_words(explanation.resolved, self._masker)
            yield CellReason(names, words, tuple(numbers), winner, tuple(map(visible, explanation.remarks)))

    def _number(self, explanation: Explanation, index: int) -> int:
        place = explanation.layers[index]
        key = id(place.definition)
        if key not in self._numbers:
            self._numbers[key] = len(self.rows)
            says = layer_text(place, self.variable.secret, self._masker)
            where = _location(place.definition)
            self.rows.append(ReportedPlace(place.layer, says, where, date_of(place.definition)))
        return self._numbers[key]


def _alike(resolver: Resolver, variable: Variable, speakers: Sequence[str], services: Sequence[str]) -> Iterator[str]:
    """Yield the services for which these speak: those whose effective definition and value are the same."""
    seen = {
        (id(resolver.winner(variable.name, speaker)), resolver.value(variable.name, speaker).text)
        for speaker in speakers
    }
    for service in services:
        if (id(resolver.winner(variable.name, service)), resolver.value(variable.name, service).text) in seen:
            yield service


def _location(definition: Definition) -> str:
    return f"{definition.file}:{definition.line}" if definition.line else definition.file
