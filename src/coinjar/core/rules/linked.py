"""Rules on the files of destinations. `check` collects the diagnostics; this module makes them findings."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from coinjar.core.rules.base import CheckContext, Diagnostic, PortUse
from coinjar.core.rules.ports import is_listen_port


def told(code: str) -> Callable[[CheckContext], Iterator[Diagnostic]]:
    """Return a rule whose diagnostics the destinations already collected."""

    def find(context: CheckContext) -> Iterator[Diagnostic]:
        yield from context.collected.get(code, ())

    return find


def ports_elsewhere(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ020"""
    ports = [variable for variable in context.jar.variables.values() if is_listen_port(variable)]
    groups: dict[tuple[str, str, str, str], list[PortUse]] = {}
    for link in context.port_uses:
        groups.setdefault((link.location.file, link.words, link.service, link.stage), []).append(link)
    result: dict[tuple[str, str], tuple[PortUse, list[str], str]] = {}
    for (_, _, service, stage), links in groups.items():
        resolver = context.resolver(stage)
        for variable in ports:
            resolved = resolver.value(variable.name, service)
            if (
                resolved.text is None
                or resolved.definition is None
                or resolved.secret
                or resolved.text in [link.port for link in links]
            ):
                continue
            words = (
                f"{service} {links[0].words} {links[0].port}, but its {variable.name} is {resolved.text} "
                f"({resolved.definition.location})"
            )
            result.setdefault((words, variable.name), (links[0], [], service))[1].append(stage)
    for (words, name), (link, stages, service) in result.items():
        on = f" on {', '.join(stages)}"
        yield Diagnostic(
            words + on,
            "use the same port in both",
            link.location,
            name,
            stages[0] if len(stages) == 1 else None,
            service,
        )
