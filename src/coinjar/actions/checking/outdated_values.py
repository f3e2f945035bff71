"""Values at destinations that were computed from an earlier supplied value."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from typing import TYPE_CHECKING

from coinjar.actions.delivery.records import fingerprint, open_records
from coinjar.actions.open_jar import OpenJar
from coinjar.core.diagnostics import Diagnostic
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError, DecryptionError
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar
from coinjar.core.references import Template
from coinjar.core.rules.base import CheckContext
from coinjar.destinations.stage_view import RenderContext
from coinjar.jarfile.naming_key import has_naming_key

if TYPE_CHECKING:
    from coinjar.actions.checking.context import FileContext


def outdated_values(context: FileContext) -> Iterator[Diagnostic]:
    """Yield what was delivered with an earlier supplied value; that the records cannot be read."""
    opened = context.opened
    try:
        with closing(open_records(opened, context.jar)) as records:
            delivered = records.every_last()
    except CoinJarError as fault:
        message = f"dependents could not be checked: {fault.message}"
        yield Diagnostic(message, fault.hint, fault.location or context.jar.location)
        return
    yield from _behind(opened, context, delivered)


def _behind(
    opened: OpenJar, context: CheckContext, delivered: list[tuple[str, str, str, str, str]]
) -> Iterator[Diagnostic]:
    jar = context.jar
    render_context = RenderContext(jar, opened.folder, Masker(), opened.ring, opened.gate)
    keys: dict[str, bytes] = {}
    for stage, destination, target, name, last in delivered:
        service = target.partition("@")[0]
        if name not in jar.variables or stage not in context.stages or not last or destination not in jar.destinations:
            continue
        resolver = context.resolver(stage)
        for other_name in [service] if service in jar.services else jar.services_with(jar.variables[name]):
            whose = _supplied_below(jar, resolver, name, other_name)
            resolved = resolver.value(name, other_name)
            if not whose or resolved.text is None or not has_naming_key(opened.folder, render_context.layers(stage)):
                continue
            try:
                key = keys.setdefault(stage, render_context.naming_key(stage))
            except DecryptionError:
                continue  # its secrets are encrypted for others, and counted separately
            if fingerprint(key, jar.recorded, (stage, destination, target), name, resolved.text) != last:
                message = (
                    f"{other_name} on {stage} still has an earlier {name} on {destination}, computed from {whose}, "
                    "which changed"
                )
                yield Diagnostic(
                    message,
                    f"`coinjar deliver {stage} {destination} --restart`",
                    jar.variables[name].location,
                    name,
                    stage,
                    other_name,
                )
                break


def _supplied_below(jar: Jar, resolver: Resolver, name: str, service: str) -> str:
    """Return the supplied variable that a value is computed from, directly or indirectly; "" if there is none."""
    rest, visited = [(name, service)], {(name, service)}
    while rest:
        other_name, whose = rest.pop()
        definition = resolver.winner(other_name, whose)
        if definition is None or not isinstance(definition.content, Template):
            continue
        for reference in definition.content.references():
            pair = (reference.name, reference.service or whose)
            if jar.variables[reference.name].supplied_by:
                return f"{reference.name} of {pair[1]}"
            if pair not in visited:
                visited.add(pair)
                rest.append(pair)
    return ""
