"""Values that do not do what their place suggests."""

from __future__ import annotations

from collections.abc import Iterator

from coinjar.core.errors import CoinJarError
from coinjar.core.explain import covered, explain
from coinjar.core.kinds import spell
from coinjar.core.layers import Resolver
from coinjar.core.model import Variable, Written
from coinjar.core.names import ALL
from coinjar.core.rules.base import Facts, Spot


def covered_service(facts: Facts) -> Iterator[Spot]:
    """CJ012"""
    told: set[tuple[int, int]] = set()
    for stage in facts.stages:
        resolver = facts.resolver(stage)
        for name in sorted(resolver.varying):
            for service in resolver.services_of(facts.jar.variables[name]):
                for narrow, wide in covered(list(explain(resolver, name, service).spoken)):
                    key = (id(narrow.written), id(wide.written))
                    if key not in told:
                        told.add(key)
                        message = f"{name}: {service}'s own value ({narrow.written.place}) is covered by the value for all services on {stage}"
                        fix = f"`coinjar put {name}=… --stage {stage} --service {service}`, or remove the one that is covered"
                        yield Spot(message, fix, wide.written.place, name, stage, service)


def equal_to_inherited(facts: Facts) -> Iterator[Spot]:
    """CJ013"""
    for name in [*facts.jar.plain]:
        stage = name if name != "shared" else next(iter(facts.stages), None)
        if stage is None:
            continue
        resolver = facts.resolver(stage)
        depth = next(place for place, layer in enumerate(resolver.layers) if layer.name == name and layer.kind != "default")
        for scope, values in resolver.layers[depth].values.items():
            for variable_name, written in values.items():
                variable = facts.jar.variables[variable_name]
                services = [one for one in facts.jar.services if variable.serves(one)] if scope == ALL else [scope]
                if variable_name not in resolver.varying:
                    services = services[:1]
                below = [_below(resolver, depth, scope, variable_name, service) for service in services]
                if below and all(other is not None and _alike(variable, written, other) for other in below):
                    assert below[0] is not None
                    message = f"{variable_name} is set to what it would inherit anyway ({below[0].place})"
                    yield Spot(message, "remove it, unless it is meant to stay when the other changes", written.place, variable_name, name, None)


def _below(resolver: Resolver, depth: int, scope: str, name: str, service: str) -> Written | None:
    """What would win for the service if the value in this layer and scope were not there."""
    own = resolver.layers[depth].values.get(ALL, {}).get(name) if scope != ALL else None
    if own is not None:
        return own
    for layer in reversed(resolver.layers[:depth]):
        for each in (service, ALL):
            found = layer.values.get(each, {}).get(name)
            if found is not None:
                return found
    return None


def _alike(variable: Variable, one: Written, other: Written) -> bool:
    if isinstance(one.content, str) and isinstance(other.content, str):
        try:
            return spell(variable, one) == spell(variable, other)
        except CoinJarError:
            return False
    return type(one.content) is type(other.content) and one.content == other.content
