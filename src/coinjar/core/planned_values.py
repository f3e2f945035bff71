"""Planned changes of values: what is set or removed where, and the jar as it would be then."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import partial
from typing import NamedTuple

from coinjar.core.definition import (
    UNSET,
    Content,
    Definition,
    SealedDefinition,
    SealedEntry,
    SealedValue,
    Undecryptable,
    date_of,
)
from coinjar.core.kinds import KINDS
from coinjar.core.layers import Resolver, plain
from coinjar.core.model import Jar, Layer, Variable
from coinjar.core.names import ALL
from coinjar.core.references import Template

PLANNED = "(planned)"
"""The file of a definition that is only planned."""
DEFAULT = "default"
"""The layer of a planned value that becomes the variable's default in jar.yaml."""


class PlannedValue(NamedTuple):
    """A value to set in a layer for `all` or a service; `content` None removes it. `set_on` is a secret's date."""

    layer: str
    scope: str
    name: str
    content: Content | None
    set_on: str = ""


def with_planned(jar: Jar, planned: Iterable[PlannedValue]) -> Jar:
    """Return the jar as it would be after the changes."""
    layers: dict[str, Layer] = {
        name: {scope: dict(values) for scope, values in layer.items()} for name, layer in jar.plain.items()
    }
    for value in planned:
        variable = jar.variables[value.name]
        layer = layers.setdefault(value.layer, {})
        is_sealed = variable.secret and (isinstance(value.content, str | Template) or value.content is UNSET)
        for scope in variable.scopes_for(value.scope) if is_sealed else [value.scope]:
            if value.content is None:
                layer.get(scope, {}).pop(value.name, None)
            elif is_sealed:
                sealed = SealedValue(value.content, value.set_on)
                entry = SealedEntry(scope, value.name, "", "")
                layer.setdefault(scope, {})[value.name] = SealedDefinition(partial(_known, sealed), entry, PLANNED)
            else:
                layer.setdefault(scope, {})[value.name] = Definition(value.content, PLANNED, 0, 0)
    return jar._replace(plain=layers)


def _known(value: SealedValue, _: SealedEntry) -> SealedValue:
    return value


def same_content(variable: Variable, one: Definition | None, other: Definition | None) -> bool:
    """Return whether two definitions have the same content; texts are compared in the kind's normal form. None, and
    what cannot be decrypted, equals nothing but itself.
    """
    if one is other or one is None or other is None:
        return one is other
    if isinstance(one.content, Undecryptable) or isinstance(other.content, Undecryptable):
        return False
    if isinstance(one.content, str) and isinstance(other.content, str):
        if one.content == other.content or not KINDS[variable.kind].has_normal_form:
            return one.content == other.content
        first, second = plain(variable, one), plain(variable, other)
        return first.text is not None and first.text == second.text
    return type(one.content) is type(other.content) and one.content == other.content


def promoted(
    source: Resolver, target: Resolver, variable: Variable, services: Sequence[str], *, for_all: bool
) -> list[PlannedValue]:
    """Return the changes of the target's stage that give it the source's values of a variable, in the same form.

    `services` are those that have the variable on both stages and a value on the source; `for_all`: they are all of its
    services. A value that most of them share is set for all.
    """
    wanted = {service: source.winner(variable.name, service) for service in services}
    contents: list[list[str]] = []
    for service in services:
        group = next((group for group in contents if same_content(variable, wanted[group[0]], wanted[service])), None)
        (contents.append([service]) if group is None else group.append(service))
    common = max(contents, key=len) if for_all else []
    own = target.jar.plain.get(target.stage, {})
    result = []
    if common:
        result.append(_set(target.stage, ALL, variable, wanted[common[0]]))
        result += [
            PlannedValue(target.stage, service, variable.name, None)
            for service in common
            if variable.name in own.get(service, {})
        ]
    result += [_set(target.stage, service, variable, wanted[service]) for service in services if service not in common]
    return result


def _inherited(layer: Layer, scope: str, variable: Variable) -> Definition | None:
    """Return what a scope gets from a layer or the default."""
    return layer.get(scope, {}).get(variable.name) or layer.get(ALL, {}).get(variable.name) or variable.default


def _set(stage: str, scope: str, variable: Variable, definition: Definition | None) -> PlannedValue:
    assert definition is not None, "services without a value are not promoted"
    return PlannedValue(stage, scope, variable.name, definition.content, date_of(definition))


def lifted_to_default(resolvers: Sequence[Resolver], variable: Variable) -> list[PlannedValue]:
    """Return the changes that make the value on which all stages and services agree the variable's default; none if
    they do not agree, or if it is the default already.

    `resolvers` are those of all stages that have the variable.
    """
    winners = [
        resolver.winner(variable.name, service) for resolver in resolvers for service in resolver.services_of(variable)
    ]
    first = winners[0] if winners else None
    if first is None or first.content is UNSET or not all(same_content(variable, first, other) for other in winners):
        return []
    removed = [
        PlannedValue(layer, scope, variable.name, None)
        for layer, scopes in resolvers[0].jar.plain.items()
        for scope, values in scopes.items()
        if variable.name in values
    ]
    return [PlannedValue(DEFAULT, ALL, variable.name, first.content), *removed] if removed else []


def lifted(resolvers: Sequence[Resolver], variable: Variable, layer: str) -> list[PlannedValue]:
    """Return the changes that set a value once in `layer` (shared) instead of on every stage; none if the stages do not
    agree, or inherit it already.

    `resolvers` are those of all stages that have the variable.
    """
    if len(resolvers) < 2:
        return []
    first, name = resolvers[0], variable.name
    services = [service for service in first.jar.services if variable.applies_to(service)]
    for resolver in resolvers[1:] if services else ():  # most variables differ for any service
        if not same_content(variable, first.winner(name, services[0]), resolver.winner(name, services[0])):
            return []
    own_values = {service for resolver in resolvers for service in resolver.own.get(name, ())}
    asked = [service for service in services if service in own_values]
    asked += [service for service in services if service not in own_values][:1]  # all others get the same as this one
    if not asked or any(first.winner(name, service) is None for service in asked):
        return []
    for resolver in resolvers[1:]:
        for service in asked:
            if not same_content(variable, first.winner(name, service), resolver.winner(name, service)):
                return []
    agreed = {service: first.winner(name, service) for service in services}
    jar = first.jar
    removed = [
        PlannedValue(stage, scope, variable.name, None)
        for stage, scopes in jar.plain.items()
        if stage != layer and any(stage in resolver.chain for resolver in resolvers)
        for scope, values in scopes.items()
        if variable.name in values
    ]
    if not removed:
        return []
    own = jar.plain.get(layer, {})
    alike = all(same_content(variable, agreed[services[0]], definition) for definition in agreed.values())
    scopes = {ALL: agreed[services[0]]} if alike else agreed
    added = [
        _set(layer, scope, variable, definition)
        for scope, definition in scopes.items()
        if not same_content(variable, _inherited(own, scope, variable), definition)
    ]
    stale = [
        PlannedValue(layer, scope, variable.name, None)
        for scope, values in own.items()
        if alike and variable.name in values and scope != ALL
    ]
    return [*added, *stale, *removed]
