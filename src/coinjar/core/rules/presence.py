"""Values that are missing, out of place, or without effect."""

from __future__ import annotations

from collections.abc import Iterator

from coinjar.core.errors import is_others
from coinjar.core.layers import Resolver
from coinjar.core.model import Definition, Variable
from coinjar.core.names import ALL, SHARED
from coinjar.core.references import Template
from coinjar.core.rules.base import CheckContext, Diagnostic, some_services


def required_and_missing(facts: CheckContext) -> Iterator[Diagnostic]:
    """CJ001"""
    needed = [variable for variable in facts.jar.variables.values() if variable.required]
    for stage in facts.stages:
        resolver = facts.resolver(stage)
        for variable in needed:
            services = resolver.services_of(variable)
            if not any(_lacks(resolver, variable, service) for service in resolver.distinct(variable, services)):
                continue
            lacking = [service for service in services if _lacks(resolver, variable, service)]
            if lacking:
                words, service = some_services(lacking, services)
                is_empty = all(resolver.value(variable.name, service).text == "" for service in lacking)
                fix = f"`coinjar put {variable.name}{'' if variable.secret else '=…'} --stage {stage}`, or "
                fix += "declare may_be_empty: true" if is_empty else "give it a default"
                how = "is empty" if is_empty else "has no value"
                yield Diagnostic(
                    f"{variable.name} is required and {how} on {stage}{words}",
                    fix,
                    variable.place,
                    variable.name,
                    stage,
                    service,
                )


def _lacks(resolver: Resolver, variable: Variable, service: str) -> bool:
    resolved = resolver.value(variable.name, service)
    return resolved.fault is None and variable.lacks(resolved.text)


def _has_value(resolver: Resolver, variable: Variable, service: str) -> bool:
    resolved = resolver.value(variable.name, service)
    return resolved.text is not None or resolved.fault is not None


def out_of_place(facts: CheckContext) -> Iterator[Diagnostic]:
    """CJ002"""
    absent = {stage: facts.resolver(stage).absent for stage in facts.jar.plain if stage != SHARED}
    for definition in facts.written:
        variable = definition.variable
        if definition.scope != ALL and not variable.serves(definition.scope):
            message = f"{variable.name} has a value for {definition.scope}, which does not get it"
            fix = f"remove it, or add {definition.scope} to its services"
            yield Diagnostic(message, fix, definition.written.place, variable.name, definition.stage, definition.scope)
        if variable.stages is not None and definition.stage and variable.name in absent[definition.stage]:
            message = f"{variable.name} has a value on {definition.stage}, where it does not exist"
            yield Diagnostic(
                message,
                f"remove it, or add {definition.stage} to its stages",
                definition.written.place,
                variable.name,
                definition.stage,
            )


def half_filled(facts: CheckContext) -> Iterator[Diagnostic]:
    """CJ004"""
    for group in facts.jar.together:
        members = [facts.jar.variables[name] for name in group.members]
        for stage in facts.stages:
            resolver = facts.resolver(stage)
            lacking: dict[str, list[str]] = {}
            for service in facts.jar.services:
                here = [variable for variable in members if resolver.applies(variable, service)]
                without = [str(variable.name) for variable in here if not _has_value(resolver, variable, service)]
                if 0 < len(without) < len(here):
                    lacking.setdefault(", ".join(without), []).append(service)
            for names, services in lacking.items():
                words, only = some_services(services, list(facts.jar.services))
                message = f"the set '{group.name}' is half-filled on {stage}{words}: no value for {names}"
                yield Diagnostic(
                    message, "give all of them values there, or none", group.place, names.split(", ")[0], stage, only
                )


def condition_not_met(facts: CheckContext) -> Iterator[Diagnostic]:
    """CJ005: a value that does nothing on any stage where it wins."""
    for variable in facts.jar.variables.values():
        if not variable.only_with:
            continue
        idle: dict[int, tuple[Definition, list[str]]] = {}
        busy: set[int] = set()
        for stage in facts.stages:
            resolver = facts.resolver(stage)
            for service in resolver.services_of(variable):
                resolved = resolver.value(variable.name, service)
                if resolved.text is None or resolved.written is None or resolved.written is variable.default:
                    continue
                if unmet(resolver, variable, service):
                    stages = idle.setdefault(id(resolved.written), (resolved.written, []))[1]
                    stages += [stage] if stage not in stages else []
                else:
                    busy.add(id(resolved.written))
        for key, (definition, stages) in idle.items():
            if key not in busy:
                conditions = ", ".join(name if text is None else f"{name}={text}" for name, text in variable.only_with)
                message = f"{variable.name} does nothing on {', '.join(stages)}: it works only with {conditions}"
                yield Diagnostic(
                    message, "meet the condition there, or remove the value", definition.place, variable.name, stages[0]
                )


def unmet(resolver: Resolver, variable: Variable, service: str) -> bool:
    """Whether a condition of the variable's `only_with` does not hold for the service."""
    for name, wanted in variable.only_with:
        resolved = resolver.value(name, service)
        if resolved.fault is not None and is_others(resolved.fault):
            continue  # nobody here can say
        text = resolved.text
        if text is None or (wanted is not None and text != wanted):
            return True
    return False


def reaches_nothing(facts: CheckContext) -> Iterator[Diagnostic]:
    """CJ014"""
    spoken = {definition.variable.name for definition in facts.written}
    for variable in facts.jar.variables.values():
        if not any(facts.resolver(stage).services_of(variable) for stage in facts.stages):
            message = f"{variable.name} reaches no service on any stage"
            yield Diagnostic(message, "correct its services and stages, or remove it", variable.place, variable.name)
        elif variable.name not in spoken and not variable.required and not variable.supplied_by:
            message = f"{variable.name} has no value on any stage, and no default"
            yield Diagnostic(
                message,
                "give it a value or a default, say `required: true`, or remove it",
                variable.place,
                variable.name,
            )
    yield from _for_all_and_none(facts)


def _for_all_and_none(facts: CheckContext) -> Iterator[Diagnostic]:
    """A layer's value for all services that each of them has a value of its own beside."""
    for layer, scopes in facts.jar.plain.items():
        for name in scopes.get(ALL, {}).keys() & {
            name for scope, values in scopes.items() if scope != ALL for name in values
        }:
            variable = facts.jar.variables[name]
            services = facts.jar.serving(variable) if layer == SHARED else facts.resolver(layer).services_of(variable)
            if services and all(name in scopes.get(service, {}) for service in services):
                whose = f"{services[0]} has" if len(services) == 1 else f"each of {', '.join(services)} has"
                message = f"{name}: the value for all services reaches none, for {whose} its own in {layer}"
                stage = None if layer == SHARED else layer
                yield Diagnostic(message, "remove it, or the one that covers it", scopes[ALL][name].place, name, stage)


def cannot_be_worked_out(facts: CheckContext) -> Iterator[Diagnostic]:
    """CJ016: a circle, a reference without a value, a file that is not there. What was not asked for is only counted."""
    for fault, variable, stage, service in facts.derived_faults:
        if fault.code == "not-fetched":
            if fault.place:
                facts.not_fetched.add(fault.place)
        elif is_others(fault):
            continue  # counted apart
        elif fault.code != "CJ003" and not _told_by_cj001(facts, variable, stage, service):
            yield Diagnostic(
                f"{variable.name} on {stage}: {fault.message}",
                fault.hint,
                fault.place or variable.place,
                variable.name,
                stage,
                service,
            )


def _told_by_cj001(facts: CheckContext, variable: Variable, stage: str, service: str | None) -> bool:
    """Whether a reference is without a value only because a required variable is missing."""
    resolver = facts.resolver(stage)
    service = service or resolver.services_of(variable)[0]
    definition = resolver.winner(variable.name, service)
    if definition is None or not isinstance(definition.content, Template):
        return False
    other = [
        resolver.value(reference.name, reference.service or service) for reference in definition.content.references()
    ]
    return any(resolved.variable.lacks(resolved.text) for resolved in other)
