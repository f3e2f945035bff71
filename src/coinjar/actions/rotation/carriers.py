"""Which destinations carry a value: those for which a change of it changes what a service gets."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from coinjar.actions.delivery.selection import is_for, staying
from coinjar.actions.open_jar import OpenJar
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError
from coinjar.core.layers import Resolver
from coinjar.core.model import Destination, Jar
from coinjar.core.names import SHARED
from coinjar.core.references import Template
from coinjar.destinations import is_live, make, make_live
from coinjar.destinations.stage_view import RenderContext, StageView, gets, is_supplied, services_for


class Carriers(NamedTuple):
    """What carries a value on a stage: running systems, and files; the services that get it; and the names of what
    changes with it.
    """

    stage: str
    live: list[str]
    files: list[str]
    services: list[str]
    names: list[str]


def carriers(opened: OpenJar, before: Jar, after: Jar, names: Iterable[str], layer: str) -> list[Carriers]:
    """Return the stages on which services get something else than before, with the destinations that carry it.

    `names` are the variables of `layer` that change; what is computed from them changes with them. For shared, `shared`
    is among the stages if a running system has a place for values of all stages.
    """
    candidates = list(dict.fromkeys([*names, *_computed(after)]))
    result = []
    for stage in [*before.stage_names(), *([SHARED] if layer == SHARED else [])]:
        if "*" in stage:
            continue
        changed = _changed(opened.resolver(stage, jar=before), opened.resolver(stage, jar=after), candidates)
        if not changed:
            continue
        there = [
            left
            for destination in before.destinations.values()
            if is_for(before, destination, stage) and (left := staying(before, destination, stage)) is not None
        ]
        carrying = [destination for destination in there if _carries(before, destination, changed)]
        if stage == SHARED:
            carrying = [destination for destination in carrying if _takes_shared(opened, before, destination)]
            if not carrying:
                continue
        result.append(
            Carriers(
                stage,
                [destination.name for destination in carrying if is_live(destination)],
                [
                    destination.name
                    for destination in carrying
                    if not is_live(destination) and _writes_another(opened, destination, stage, before, after)
                ],
                [service for service in before.services if any(service == name for name, _ in changed)],
                list(dict.fromkeys(name for name in candidates if any(name == other for _, other in changed))),
            )
        )
    return result


def _takes_shared(opened: OpenJar, jar: Jar, destination: Destination) -> bool:
    """Return whether a destination has a place for values of all stages."""
    if not is_live(destination):
        return False
    context = RenderContext(jar, opened.folder, Masker(), opened.ring, opened.gate)
    return make_live(destination, context).takes_shared


def _computed(jar: Jar) -> list[str]:
    """Return the variables with a text with references somewhere."""
    layers = [{"": jar.defaults}, *jar.plain.values()]
    return [
        name
        for layer in layers
        for values in layer.values()
        for name, definition in values.items()
        if isinstance(definition.content, Template)
    ]


def _changed(before: Resolver, after: Resolver, names: Iterable[str]) -> set[tuple[str, str]]:
    """Return the services and names whose values differ."""
    return {
        (service, name)
        for name in names
        for service in before.services_of(before.jar.variables[name])
        if before.applies(before.jar.variables[name], service)
        and before.value(name, service).text != after.value(name, service).text
    }


def _writes_another(opened: OpenJar, destination: Destination, stage: str, before: Jar, after: Jar) -> bool:
    """Return whether the files of a destination change; so it is assumed where they cannot be computed."""
    contents = []
    for jar in (before, after):
        context = RenderContext(jar, opened.folder, Masker(), opened.ring, opened.gate)
        try:
            outputs = make(destination, context).outputs(StageView(opened.resolver(stage, jar=jar), destination))
        except CoinJarError:
            return True
        contents.append({output.path: output.data for output in outputs})
    return contents[0] != contents[1]


def _carries(jar: Jar, destination: Destination, changed: set[tuple[str, str]]) -> bool:
    services = services_for(destination, jar)
    writes_secrets = not destination.plain_only and destination.secrets is None
    return any(
        service in services
        and gets(destination, name)
        and not is_supplied(jar.variables[name], destination)
        and (writes_secrets or name not in jar.secret_names)
        for service, name in changed
    )
