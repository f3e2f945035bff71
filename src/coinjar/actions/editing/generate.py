"""Generate values: a different one for every stage."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from coinjar.actions.editing.value_changes import ValueChanges
from coinjar.actions.open_jar import OpenJar
from coinjar.core.errors import UsageError
from coinjar.core.generators import Generator, make, recipe_of
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar, Variable
from coinjar.core.names import ALL, SHARED
from coinjar.core.secret import Secret
from coinjar.jarfile.local_folder import locked


class GenerateResult(NamedTuple):
    """The stages that got a value, those that kept theirs, and the strength of the new values."""

    variable: Variable
    recipe: Generator
    made: list[str]
    kept: list[str]
    notes: list[str]


def generate(
    opened: OpenJar,
    name: str,
    stages: Sequence[str],
    given: Mapping[str, object],
    *,
    services: Sequence[str],
    same: bool,
    replace: bool,
    only_plan: bool = False,
) -> GenerateResult:
    """Generate a value for each of the stages (none: every stage of the variable) and services; `same` generates one
    for all stages, `only_plan` none: it tells what would be done.

    Raises UsageError, with nothing written, for a named stage that already has a value, unless `replace`; and if no
    stage lacks one.
    """
    with locked(opened.folder, "generate"):
        jar = opened.load()
        variable = jar.variable(name)
        recipe = recipe_of(variable, given)
        wanted = _stages(jar, variable, stages)
        used = _used(opened, jar, variable, wanted, services)
        if used and not replace and (stages or used == wanted):
            raise UsageError(
                f"{name} already has a value on {', '.join(used)}",
                hint="--replace generates a new one; update every user of the old one",
            )
        chosen = wanted if replace else [stage for stage in wanted if stage not in used]
        kept = [] if replace else used
        if only_plan:
            return GenerateResult(variable, recipe, chosen, kept, [])
        shared: dict[str, Secret] = {}
        change = ValueChanges(opened, jar)
        for stage in chosen:
            for scope in services or [ALL]:
                new = make(recipe, variable)
                change.put(stage, scope, name, shared.setdefault(scope, new) if same else new)
        change.commit()
    return GenerateResult(variable, recipe, chosen, kept, change.notes)


def in_use(
    opened: OpenJar, name: str, stages: Sequence[str], given: Mapping[str, object], services: Sequence[str]
) -> list[str]:
    """Return which of the stages (none: every stage of the variable) have a value.

    Raises UsageError, and as `generate` for an invalid recipe.
    """
    jar = opened.load()
    variable = jar.variable(name)
    recipe_of(variable, given)
    return _used(opened, jar, variable, _stages(jar, variable, stages), services)


def _used(opened: OpenJar, jar: Jar, variable: Variable, stages: Sequence[str], services: Sequence[str]) -> list[str]:
    for service in services:
        if not variable.applies_to(jar.service(service).name):
            raise UsageError(
                f"{variable.name} is not for {service}",
                hint=f"its services are {', '.join(sorted(variable.services or ()))}",
            )
    return [stage for stage in stages if _in_use(opened, jar, variable, stage, services)]


def _stages(jar: Jar, variable: Variable, named: Sequence[str]) -> list[str]:
    if named:
        for stage in named:
            if stage != SHARED and not jar.exists_on(variable, jar.chain(stage)):
                hint = f"its stages are {', '.join(sorted(variable.stages or ()))}, and those that follow them"
                raise UsageError(f"{variable.name} does not exist on {stage}", hint=hint)
        return list(dict.fromkeys(named))
    return [stage for stage in jar.stage_names() if jar.exists_on(variable, jar.chain(stage))]


def _in_use(opened: OpenJar, jar: Jar, variable: Variable, stage: str, services: Sequence[str]) -> bool:
    """Return whether any service has a value there; one that cannot be decrypted counts."""
    if stage == SHARED:
        return any(variable.name in values for values in jar.plain.get(SHARED, {}).values())
    resolver: Resolver = opened.resolver(stage, jar=jar)
    asked = services or resolver.services_of(variable)
    return any(
        resolved.text is not None or resolved.fault is not None
        for resolved in (resolver.value(variable.name, name) for name in asked)
    )
