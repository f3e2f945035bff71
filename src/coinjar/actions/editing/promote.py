"""Promote values from one stage to another, and lift what all stages agree on. Planned first, written after a yes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from coinjar.actions.editing.value_changes import ValueChanges, as_yaml, edit_file
from coinjar.actions.editing.values import Assignment, misfits
from coinjar.actions.open_jar import OpenJar
from coinjar.core.compare import Difference, StageSide, compare
from coinjar.core.definition import Undecryptable
from coinjar.core.errors import CoinJarError, InputError, UsageError, is_encrypted_for_others, raise_all
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar, Variable
from coinjar.core.name_patterns import is_pattern, matched
from coinjar.core.names import ALL, SHARED
from coinjar.core.planned_values import (
    DEFAULT,
    PlannedValue,
    lifted,
    lifted_to_default,
    promoted,
    same_content,
    with_planned,
)
from coinjar.core.rules import RULES, run
from coinjar.core.rules.base import ERROR, CheckContext
from coinjar.core.rules.layering import repeated_values
from coinjar.documents.edit import Edit
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.local_folder import locked


class ValuePlan(NamedTuple):
    """Planned values; the comparison to show; and what is left out: name and reason."""

    values: list[PlannedValue]
    differences: list[Difference]
    left_out: list[tuple[str, str]]

    @property
    def names(self) -> list[str]:
        """The variables that change, in order."""
        return list(dict.fromkeys(value.name for value in self.values))


def plan_promotion(
    opened: OpenJar, source: str, target: str, given: Sequence[str], *, services: Sequence[str], per_stage: bool
) -> ValuePlan:
    """Plan to give the stage `target` the values of `source`, of these names and patterns (none: all that differ).

    Raises UsageError for a name, stage or service that does not exist; all reasons why the target does not accept a
    value, at once.
    """
    jar = opened.load()
    if source == target:
        raise UsageError(f"both are {source}", hint="name two stages", code="usage")
    if SHARED in (source, target):
        hint = f"`coinjar lift` moves values to {SHARED}" if target == SHARED else "every stage has its values already"
        raise UsageError(f"{SHARED} is not a stage", hint=hint, code="unknown-stage")
    for service in services:
        jar.service(service)
    names = matched(given, jar.variables) if given else list(jar.variables)
    exact = {word for word in given if not is_pattern(word)}
    one, other = opened.resolver(source, jar=jar), opened.resolver(target, jar=jar)
    values: list[PlannedValue] = []
    left: list[tuple[str, str]] = []
    faults: list[CoinJarError] = []
    for name in names:
        variable = jar.variables[name]
        planned, why, errors = _one(one, other, variable, services, per_stage=per_stage)
        if why:
            left.append((name, why))
        faults += errors if name in exact else []
        left += [(name, _reason(errors[0]))] if errors and name not in exact else []
        values += [] if errors else planned or []
    raise_all(faults)
    _require_no_new_errors(jar, with_planned(jar, values), target)
    changed = {value.name for value in values}
    asked = services or list(jar.services)
    then = opened.resolver(target, jar=with_planned(jar, values))
    rows = compare(StageSide(other, asked), StageSide(then, asked), asked)
    return ValuePlan(values, [row for row in rows if row.name in changed], left)


def _reason(fault: CoinJarError) -> str:
    return "encrypted for others" if is_encrypted_for_others(fault) else fault.message


def _one(
    source: Resolver, target: Resolver, variable: Variable, services: Sequence[str], *, per_stage: bool
) -> tuple[list[PlannedValue] | None, str, list[CoinJarError]]:
    """Return the planned values of one variable (None: none), why not ("" if nothing differs), and refusals."""
    name = variable.name
    here = [
        service
        for service in services or source.jar.services
        if source.applies(variable, service) and target.applies(variable, service)
    ]
    definitions = {service: source.winner(name, service) for service in here}
    different = [
        service for service in here if not same_content(variable, definitions[service], target.winner(name, service))
    ]
    if not different:
        return None, "", []
    if variable.per_stage and not per_stage:
        return None, "each stage has its own (per_stage)", []
    given = [service for service in different if definitions[service] not in (None, variable.default)]
    if not given:
        return None, f"{source.stage} sets no value; {target.stage} keeps its own", []
    for service in given:
        definition = definitions[service]
        if definition is not None and isinstance(definition.content, Undecryptable):
            return None, "", [definition.content.fault]
    whole = (
        not services
        and set(here) == set(target.services_of(variable))
        and all(definitions[service] not in (None, variable.default) for service in here)
    )
    asked = here if whole else given
    planned = promoted(source, target, variable, asked, for_all=whole)
    errors = [
        error
        for value in planned
        if value.content is not None
        for error in misfits(
            target.jar,
            variable,
            Assignment(name, value.content, in_argv=False),
            [target.stage],
            [] if value.scope == ALL else [value.scope],
        )
    ]
    return planned, "", errors


def _require_no_new_errors(before: Jar, after: Jar, stage: str) -> None:
    """Raise what rules of `check` would report as new errors on the stage."""
    rules = [rule for rule in RULES if rule.severity == ERROR]
    known = {finding.diagnostic.message for finding in run(CheckContext(before), rules)}
    faults: list[CoinJarError] = []
    for finding in run(CheckContext(after), rules):
        diagnostic = finding.diagnostic
        if diagnostic.message not in known and finding.accepted is None and diagnostic.stage in (None, stage):
            message = f"on {stage}, {finding.rule.code} would report: {diagnostic.message}"
            faults.append(InputError(message, hint=diagnostic.hint, code=finding.rule.code))
    raise_all(faults)


def plan_lift(opened: OpenJar, given: Sequence[str], *, to_default: bool = False) -> ValuePlan:
    """Plan to set once, on shared, what every stage agrees on, of these names and patterns; without names, of all that
    are not secret. Values that repeat the inherited one are removed.

    `to_default`: it becomes the default in jar.yaml, which no secret has. Raises UsageError for a name that does not
    exist, or that cannot be lifted.
    """
    jar = opened.load()
    if to_default and not given:
        raise UsageError("which variables?", hint="--to-default takes names or patterns", code="usage")
    kept = {finding.variable for finding in jar.accepted if finding.rule in _ACCEPTED}
    names = (
        matched(given, jar.variables)
        if given
        else [name for name in jar.variables if name not in jar.secret_names and name not in kept]
    )
    repeated: dict[str, list[PlannedValue]] = {}
    for value in repeated_values(CheckContext(jar)):
        repeated.setdefault(value.name, []).append(PlannedValue(value.layer, value.scope, value.name, None))
    exact = {word for word in given if not is_pattern(word)}
    stages = [name for name in jar.stage_names() if "*" not in name]
    resolvers = {stage: opened.resolver(stage, jar=jar) for stage in stages}
    values: list[PlannedValue] = []
    left: list[tuple[str, str]] = []
    faults: list[CoinJarError] = []
    for name in names:
        variable = jar.variables[name]
        there = [resolver for stage, resolver in resolvers.items() if jar.exists_on(variable, jar.chain(stage))]
        planned = [] if variable.per_stage or not there else _lifted(there, variable, to_default=to_default)
        planned = planned or ([] if to_default or variable.per_stage else repeated.get(name, []))
        values += planned
        if name in exact and not planned:
            why = (
                "each stage has its own (per_stage)"
                if variable.per_stage
                else "a secret has no default, which would be in plain text"
                if to_default and variable.secret
                else "its stages do not agree, or inherit it already"
            )
            faults.append(UsageError(f"{name} is not lifted: {why}", hint=f"`coinjar grid --name {name}`", code="lift"))
    raise_all(faults)
    return ValuePlan(values, [], left)


def _lifted(resolvers: Sequence[Resolver], variable: Variable, *, to_default: bool) -> list[PlannedValue]:
    if not to_default:
        return lifted(resolvers, variable, SHARED)
    return [] if variable.name in resolvers[0].jar.secret_names else lifted_to_default(resolvers, variable)


_ACCEPTED = ("CJ013", "CJ047")
"""Rules of `check` that propose a lift: a variable whose finding was accepted is lifted only by name."""


def apply_plan(opened: OpenJar, plan: ValuePlan, command: str, again: Callable[[], ValuePlan]) -> list[str]:
    """Write planned values for a command; return remarks on new keys. `again` plans again, under the lock.

    Raises InputError, with nothing changed, if the jar changed since the plan; DecryptionError for a stage whose key is
    not ours.
    """
    with locked(opened.folder, command):
        if again().values != plan.values:
            raise InputError(
                "the jar was changed by another process meanwhile", hint="run it again", code="changed-meanwhile"
            )
        change = ValueChanges(opened, opened.load())
        defaults = [value for value in plan.values if value.layer == DEFAULT and value.content is not None]
        if defaults:  # first: an interruption must not lose them
            edits = [
                Edit(("variables", value.name, "default"), as_yaml(value.content))
                for value in defaults
                if value.content is not None
            ]
            edit_file(JarLayout(opened.folder).declarations, edits)
        for value in plan.values:
            if value.content is None:
                change.drop(value.layer, value.scope, value.name)
        for value in plan.values:
            if value.content is not None and value.layer != DEFAULT:
                change.put(value.layer, value.scope, value.name, value.content, set_on=value.set_on)
        change.commit()
    return change.notes
