"""What the destinations' files say beside the jar. `check` looks into them; here it becomes findings."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from coinjar.core.rules.base import CheckContext, Diagnostic, PortUse
from coinjar.core.rules.ports import listens


def told(code: str) -> Callable[[CheckContext], Iterator[Diagnostic]]:
    """A rule whose spots the destinations told already."""

    def find(facts: CheckContext) -> Iterator[Diagnostic]:
        yield from facts.told.get(code, ())

    return find


def ports_elsewhere(facts: CheckContext) -> Iterator[Diagnostic]:
    """CJ020"""
    ports = [variable for variable in facts.jar.variables.values() if listens(variable)]
    groups: dict[tuple[str, str, str, str], list[PortUse]] = {}
    for link in facts.links:
        groups.setdefault((link.place.file, link.words, link.service, link.stage), []).append(link)
    result: dict[tuple[str, str], tuple[PortUse, list[str], str]] = {}
    for (_, _, service, stage), links in groups.items():
        resolver = facts.resolver(stage)
        for variable in ports:
            resolved = resolver.value(variable.name, service)
            if (
                resolved.text is None
                or resolved.written is None
                or resolved.secret
                or resolved.text in [link.port for link in links]
            ):
                continue
            words = f"{service} {links[0].words} {links[0].port}, and its {variable.name} is {resolved.text} ({resolved.written.place})"
            result.setdefault((words, variable.name), (links[0], [], service))[1].append(stage)
    for (words, name), (link, stages, service) in result.items():
        on = f" on {', '.join(stages)}"
        yield Diagnostic(
            words + on, "let both say the same", link.place, name, stages[0] if len(stages) == 1 else None, service
        )
