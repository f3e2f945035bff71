"""Change values that contain an address of the old place to the new one, and deliver them, in the order of
dependence.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterator, Sequence
from typing import NamedTuple

from coinjar.actions.delivery.selection import is_for, staying
from coinjar.actions.editing.value_changes import ValueChanges, edit_file
from coinjar.actions.open_jar import OpenJar
from coinjar.core.dispositions import InboundReference, in_order
from coinjar.core.model import Destination, Jar
from coinjar.core.names import ALL, SHARED
from coinjar.core.references import Template, parse_template
from coinjar.core.secret import Secret, reveal
from coinjar.destinations import is_live
from coinjar.destinations.stage_view import gets, services_for
from coinjar.documents.edit import Edit
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.local_folder import locked
from coinjar.jarfile.sheets import RepointedValue

LEFT_TO_YOU = "left to you: not in the jar"


class AffectedService(NamedTuple):
    """A service on a stage with a changed value, and the running systems that have it."""

    stage: str
    service: str
    destinations: list[str]


async def repoint(
    opened: OpenJar,
    lines: Sequence[RepointedValue],
    besides: Sequence[str],
    deliver: Callable[[str, list[str]], Awaitable[None]],
) -> tuple[dict[int, str], list[AffectedService]]:
    """Rewrite the values in the jar, then deliver them.

    Return each line's result, by number, and the affected services. `besides` are the two endpoints.
    """
    ours = [repointed for repointed in lines if not repointed.pointing.scope.startswith("dest:")]
    with locked(opened.folder):
        jar = opened.load()
        change = ValueChanges(opened, jar)
        for repointed in ours:
            _rewrite(jar, change, repointed.pointing)
        change.commit()
        if change.declarations:
            edit_file(JarLayout(opened.folder).declarations, change.declarations)
            change.declarations.clear()
    reached = list(_reached(opened, opened.load(), [repointed.pointing for repointed in ours], besides))
    for affected in reached:
        await deliver(affected.stage, affected.destinations)
    outcomes = {
        repointed.number: f"now {repointed.pointing.replacement}" if repointed in ours else LEFT_TO_YOU
        for repointed in lines
    }
    return outcomes, reached


def _rewrite(jar: Jar, change: ValueChanges, reference: InboundReference) -> None:
    """Rewrite one value; do nothing if an earlier run has done it."""
    variable = jar.variables[reference.variable]
    definition = (
        variable.default
        if reference.stage == "default"
        else jar.plain.get(reference.stage, {}).get(reference.scope, {}).get(reference.variable)
    )
    content = definition.content if definition else None
    source = (
        content.source
        if isinstance(content, Template)
        else reveal(content).replace("$", "$$")
        if isinstance(content, str)
        else ""
    )
    if reference.address not in source:
        return
    new = source.replace(reference.address, reference.replacement)
    created = parse_template(new) if "${" in new else new.replace("$$", "$")
    if reference.stage == "default":
        change.declarations.append(
            Edit(
                ("variables", reference.variable, "default"),
                {"text": new} if isinstance(created, Template) else created,
            )
        )
    else:
        change.put(
            reference.stage,
            reference.scope,
            reference.variable,
            Secret(created) if isinstance(created, str) and variable.secret else created,
        )


def _reached(
    opened: OpenJar, jar: Jar, pointings: Sequence[InboundReference], besides: Sequence[str]
) -> Iterator[AffectedService]:
    touched: dict[str, dict[str, set[str]]] = {}
    for reference in pointings:
        services = jar.services_with(jar.variables[reference.variable]) if reference.scope == ALL else [reference.scope]
        for stage in [name for name in jar.stage_names() if reference.stage in ("default", SHARED, *jar.chain(name))]:
            for service in services:
                touched.setdefault(stage, {}).setdefault(service, set()).add(reference.variable)
    for stage, by_service in touched.items():
        own = any(reference.stage == stage for reference in pointings)
        for service in order_of(opened, jar, stage, sorted(by_service)):
            where = [
                destination.name
                for destination in jar.destinations.values()
                if destination.name not in besides
                and _holds(jar, destination, stage, service, by_service[service])
                and (own or _was_delivered(destination, stage))
            ]
            if where:
                yield AffectedService(stage, service, where)


def _holds(jar: Jar, destination: Destination, stage: str, service: str, names: set[str]) -> bool:
    instance = staying(jar, destination, stage) if is_live(destination) and is_for(jar, destination, stage) else None
    return (
        instance is not None and service in services_for(instance, jar) and any(gets(instance, name) for name in names)
    )


def _was_delivered(destination: Destination, stage: str) -> bool:
    """Return whether jar.yaml has its account on a stage: a stage that only follows another may have no place there."""
    account = destination.options.get("account")
    return account is not None and any(key.value.partition("/")[0] == stage for key, _ in account.value)


def order_of(opened: OpenJar, jar: Jar, stage: str, services: Sequence[str]) -> list[str]:
    """Return services in the order of dependence: each after those whose values it refers to."""
    resolver = opened.resolver(stage, jar=jar)
    needs: dict[str, set[str]] = {}
    for service in jar.services:
        for variable in jar.variables.values():
            definition = resolver.winner(variable.name, service) if variable.applies_to(service) else None
            if definition is not None and isinstance(definition.content, Template):
                needs.setdefault(service, set()).update(
                    reference.service
                    for reference in definition.content.references()
                    if reference.service and reference.service != service
                )
    return in_order(services, needs)
