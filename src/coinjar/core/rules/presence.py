"""Rules on values that are missing, out of place, or without effect."""

from __future__ import annotations

from collections.abc import Iterator

from coinjar.core.consent import ConsentMissing
from coinjar.core.definition import Definition
from coinjar.core.diagnostics import Diagnostic
from coinjar.core.errors import is_encrypted_for_others
from coinjar.core.layers import Resolver
from coinjar.core.model import Variable
from coinjar.core.names import ALL, SHARED
from coinjar.core.references import Template
from coinjar.core.rules.base import CheckContext, some_services


def required_and_missing(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ001"""
    needed = [variable for variable in context.jar.variables.values() if variable.required]
    for stage in context.stages:
        resolver = context.resolver(stage)
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
                    variable.location,
                    variable.name,
                    stage,
                    service,
                )


def _lacks(resolver: Resolver, variable: Variable, service: str) -> bool:
    resolved = resolver.value(variable.name, service)
    return resolved.fault is None and variable.is_missing(resolved.text)


def _has_value(resolver: Resolver, variable: Variable, service: str) -> bool:
    resolved = resolver.value(variable.name, service)
    return resolved.text is not None or resolved.fault is not None


def out_of_place(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ002"""
    absent = {stage: context.resolver(stage).absent for stage in context.jar.plain if stage != SHARED}
    limited = {
        name
        for name, variable in context.jar.variables.items()
        if variable.services is not None or variable.stages is not None
    }
    for definition in context.definitions_of(limited):
        variable = definition.variable
        if definition.scope != ALL and not variable.applies_to(definition.scope):
            message = f"{variable.name} has a value for {definition.scope}, which does not get the variable"
            fix = f"remove it, or add {definition.scope} to its services"
            yield Diagnostic(
                message, fix, definition.definition.location, variable.name, definition.stage, definition.scope
            )
        if variable.stages is not None and definition.stage and variable.name in absent[definition.stage]:
            message = f"{variable.name} has a value on {definition.stage}, where the variable does not exist"
            yield Diagnostic(
                message,
                f"remove it, or add {definition.stage} to its stages",
                definition.definition.location,
                variable.name,
                definition.stage,
            )


def half_filled(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ004"""
    for group in context.jar.together:
        members = [context.jar.variables[name] for name in group.members]
        for stage in context.stages:
            resolver = context.resolver(stage)
            lacking: dict[str, list[str]] = {}
            for service in context.jar.services:
                here = [variable for variable in members if resolver.applies(variable, service)]
                without = [str(variable.name) for variable in here if not _has_value(resolver, variable, service)]
                if 0 < len(without) < len(here):
                    lacking.setdefault(", ".join(without), []).append(service)
            for names, services in lacking.items():
                words, only = some_services(services, list(context.jar.services))
                message = f"the set '{group.name}' is incomplete on {stage}{words}: no value for {names}"
                yield Diagnostic(
                    message, "set all of them there, or none", group.location, names.split(", ")[0], stage, only
                )


def condition_not_met(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ005: a value without effect on every stage where it is used."""
    for variable in context.jar.variables.values():
        if not variable.only_with:
            continue
        idle: dict[int, tuple[Definition, list[str]]] = {}
        busy: set[int] = set()
        for stage in context.stages:
            resolver = context.resolver(stage)
            for service in resolver.services_of(variable):
                resolved = resolver.value(variable.name, service)
                if resolved.text is None or resolved.definition is None or resolved.definition is variable.default:
                    continue
                if unmet_conditions(resolver, variable, service):
                    stages = idle.setdefault(id(resolved.definition), (resolved.definition, []))[1]
                    stages += [stage] if stage not in stages else []
                else:
                    busy.add(id(resolved.definition))
        for key, (definition, stages) in idle.items():
            if key not in busy:
                conditions = ", ".join(name if text is None else f"{name}={text}" for name, text in variable.only_with)
                message = f"{variable.name} has no effect on {', '.join(stages)}: it requires {conditions}"
                yield Diagnostic(
                    message,
                    "meet the condition there, or remove the value",
                    definition.location,
                    variable.name,
                    stages[0],
                )


def unmet_conditions(resolver: Resolver, variable: Variable, service: str) -> bool:
    """Return whether a condition of the variable's `only_with` is not met for the service."""
    for name, wanted in variable.only_with:
        resolved = resolver.value(name, service)
        if resolved.fault is not None and is_encrypted_for_others(resolved.fault):
            continue  # cannot be decided here
        text = resolved.text
        if text is None or (wanted is not None and text != wanted):
            return True
    return False


def reaches_nothing(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ014"""
    spoken = set().union(*(values for _, _, values in context.scopes))
    absent_on = [context.resolver(stage).absent for stage in context.stages]
    for variable in context.jar.variables.values():
        services = (
            context.jar.services if variable.services is None else variable.services & context.jar.services.keys()
        )
        if not services or all(variable.name in absent for absent in absent_on):
            message = f"{variable.name} is not available to any service on any stage"
            yield Diagnostic(message, "correct its services and stages, or remove it", variable.location, variable.name)
        elif variable.name not in spoken and not variable.required and not variable.supplied_by:
            message = f"{variable.name} has no value on any stage, and no default"
            yield Diagnostic(
                message,
                "set a value or a default, declare `required: true`, or remove it",
                variable.location,
                variable.name,
            )
    yield from _for_all_and_none(context)


def _for_all_and_none(context: CheckContext) -> Iterator[Diagnostic]:
    """A layer's value for all services, where each service has a value of its own in the same layer."""
    for layer, scopes in context.jar.plain.items():
        for name in scopes.get(ALL, {}).keys() & {
            name for scope, values in scopes.items() if scope != ALL for name in values
        }:
            variable = context.jar.variables[name]
            services = (
                context.jar.services_with(variable)
                if layer == SHARED
                else context.resolver(layer).services_of(variable)
            )
            if services and all(name in scopes.get(service, {}) for service in services):
                whose = f"{services[0]} has" if len(services) == 1 else f"each of {', '.join(services)} has"
                message = f"{name}: the value for all services has no effect: {whose} its own in {layer}"
                stage = None if layer == SHARED else layer
                yield Diagnostic(
                    message, "remove it, or the values that override it", scopes[ALL][name].location, name, stage
                )


def cannot_be_worked_out(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ016: a cycle, a reference without a value, a missing file. Values that were not fetched are only counted."""
    for fault, variable, stage, service in context.derived_faults:
        if fault.code == "not-fetched":
            if fault.location:
                context.not_fetched[fault.location] = isinstance(fault, ConsentMissing)
        elif is_encrypted_for_others(fault):
            continue  # counted separately
        elif fault.code != "CJ003" and not _told_by_cj001(context, variable, stage, service):
            yield Diagnostic(
                f"{variable.name} on {stage}: {fault.message}",
                fault.hint,
                fault.location or variable.location,
                variable.name,
                stage,
                service,
            )


def _told_by_cj001(context: CheckContext, variable: Variable, stage: str, service: str | None) -> bool:
    """Return whether a reference lacks a value only because a required variable is missing."""
    resolver = context.resolver(stage)
    service = service or resolver.services_of(variable)[0]
    definition = resolver.winner(variable.name, service)
    if definition is None or not isinstance(definition.content, Template):
        return False
    other = [
        resolver.value(reference.name, reference.service or service) for reference in definition.content.references()
    ]
    return any(resolved.variable.is_missing(resolved.text) for resolved in other)
