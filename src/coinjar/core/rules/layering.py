"""Rules on values that do not have the effect that their layer suggests."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from coinjar.core.definition import Definition, Undecryptable
from coinjar.core.diagnostics import Diagnostic
from coinjar.core.kinds import KINDS
from coinjar.core.layers import plain
from coinjar.core.model import Jar, Scope, Variable
from coinjar.core.names import ALL, SHARED
from coinjar.core.planned_values import lifted, same_content
from coinjar.core.rules.base import CheckContext


def overridden_service(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ012: reported on the overriding stage, not again on stages that follow it."""
    for stage in context.stages:
        resolver = context.resolver(stage)
        own = resolver.layers[-1].values
        below: dict[str, list[Scope]] = {}
        """By service, its own values on the layers below, the nearest one first."""
        for layer in reversed(resolver.layers[1:-1]):
            for service, values in layer.values.items():
                below.setdefault(service, []).append(values)
        for name, wide in own.get(ALL, {}).items():
            for service in sorted(resolver.own.get(name, ())):
                narrow = next((values[name] for values in below.get(service, ()) if name in values), None)
                if (
                    narrow is None
                    or name in own.get(service, {})
                    or not resolver.applies(context.jar.variables[name], service)
                ):
                    continue
                message = (
                    f"{name}: {service}'s own value ({narrow.location}) is overridden by the value for all services "
                    f"on {stage}"
                )
                sign = "" if context.jar.variables[name].secret else "=…"
                fix = f"`coinjar put {name}{sign} --stage {stage} --service {service}`, or remove the overridden value"
                yield Diagnostic(message, fix, wide.location, name, stage, service)


class RepeatedValue(NamedTuple):
    """A value that equals the one which would be inherited without it."""

    layer: str
    scope: str
    name: str
    definition: Definition
    inherited: Definition


def equal_to_inherited(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ013"""
    for value in repeated_values(context):
        message = f"{value.name} is set to the value it would inherit anyway ({value.inherited.location})"
        fix = f"`coinjar lift {value.name}`, or remove it, unless it should stay when the inherited one changes"
        yield Diagnostic(message, fix, value.definition.location, value.name, value.layer, None)


def repeated_values(context: CheckContext) -> Iterator[RepeatedValue]:
    """Yield the values without which every service would get the same."""
    spelled = {name for name, variable in context.jar.variables.items() if KINDS[variable.kind].has_normal_form}
    for layer, scopes in context.jar.plain.items():
        if layer == SHARED and not context.stages:
            continue
        common, own = _inherited(context, layer)
        wide = scopes.get(ALL, {})
        for scope, values in scopes.items():
            for name, definition in values.items():
                other = common.get(name)
                if scope != ALL:
                    other = wide.get(name) or own.get(name, {}).get(scope) or other
                elif name in own:
                    variable, narrow = context.jar.variables[name], own[name]
                    each = (narrow.get(service, other) for service in context.jar.services_with(variable))
                    other = _repeated(variable, definition, each)
                if other is None or (name not in spelled and _differ(definition, other)):
                    continue  # by far the most: the variable itself, in memory that is far away, is not looked at
                if _alike(context.jar.variables[name], definition, other):
                    yield RepeatedValue(layer, scope, name, definition, other)


def _equal(one: Definition, other: Definition) -> bool:
    """Return whether two values that are not encrypted are the same, letter by letter."""
    return type(one) is type(other) is Definition and one.content == other.content


def _differ(one: Definition, other: Definition) -> bool:
    """Return whether two values that are not encrypted differ in a letter."""
    return type(one) is type(other) is Definition and one.content != other.content


def _inherited(context: CheckContext, layer: str) -> tuple[Scope, dict[str, Scope]]:
    """Return what takes effect without a layer: the definitions for all services, and by name those for single ones."""
    if layer == SHARED:
        return context.jar.defaults, {}
    chain = context.jar.chain(layer)
    followed = context.resolver(chain[-2] if len(chain) > 1 else SHARED)
    return followed.common, followed.own


def _repeated(variable: Variable, definition: Definition, below: Iterable[Definition | None]) -> Definition | None:
    """Return the first of these, if there are any and all are like the definition; most are not, and end the search."""
    first = None
    for other in below:
        if other is None or not _alike(variable, definition, other):
            return None
        first = first or other
    return first


def same_on_every_stage(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ047"""
    jar = context.jar
    resolvers = {stage: context.resolver(stage) for stage in context.stages if "*" not in stage}
    for name, definition in _set_alike(jar, list(resolvers)):
        variable = jar.variables[name]
        there = [resolver for resolver in resolvers.values() if jar.exists_on(variable, resolver.chain)]
        planned = [] if variable.per_stage or variable.supplied_by else lifted(there, variable, SHARED)
        if any(value.content is not None for value in planned):
            where = ", ".join(dict.fromkeys(value.layer for value in planned if value.content is None))
            message = f"{name} is set to the same value on every stage, on {where} one by one"
            yield Diagnostic(message, f"set it once: `coinjar lift {name}`", definition.location, name)


def _set_alike(jar: Jar, stages: list[str]) -> Iterator[tuple[str, Definition]]:
    """Yield the variables that several stages set and may agree on, each with its first definition; no secrets, which
    are not decrypted for this. Most variables differ somewhere, and need no second look.
    """
    first: dict[str, Definition] = {}
    several: set[str] = set()
    different: dict[str, set[str]] = {}
    """By scope, the names whose values there differ between stages."""
    narrowed: dict[str, set[str]] = {}
    """By name, the services that a stage sets a value of their own for."""
    firsts: dict[str, Scope] = {}
    for stage in stages:
        for scope, values in jar.plain.get(stage, {}).items():
            several |= first.keys() & values.keys()
            of_scope, differ = firsts.setdefault(scope, {}), different.setdefault(scope, set())
            for name, definition in values.items():
                if name in differ:
                    continue  # noted before, and nothing more to find
                first.setdefault(name, definition)
                if scope != ALL:
                    narrowed.setdefault(name, set()).add(scope)
                other = of_scope.setdefault(name, definition)
                if other is definition or _equal(other, definition):
                    continue  # without a look at the variable, as above
                variable = jar.variables[name]
                if not variable.secret and not same_content(variable, other, definition):
                    differ.add(name)
    everywhere = different.pop(ALL, set())
    own = set().union(*different.values())
    for name, definition in first.items():
        variable = jar.variables[name]
        # A value for all takes effect on a service that no stage sets an own one for.
        takes_effect = name in everywhere and not narrowed.get(name, set()).issuperset(jar.services_with(variable))
        if name in several and name not in own and not takes_effect and not variable.secret:
            yield name, definition


def _alike(variable: Variable, definition: Definition, other: Definition) -> bool:
    if isinstance(definition.content, str) and isinstance(other.content, str):
        if definition.content == other.content:
            return plain(variable, definition).text is not None
        if not KINDS[variable.kind].has_normal_form:
            return False  # by far the most
        resolved, beside = plain(variable, definition), plain(variable, other)
        return resolved.text is not None and resolved.text == beside.text
    return (
        not isinstance(definition.content, Undecryptable)
        and type(definition.content) is type(other.content)
        and definition.content == other.content
    )
