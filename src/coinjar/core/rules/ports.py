"""Rules on the ports that services listen on."""

from __future__ import annotations

from collections.abc import Iterator

from coinjar.core.diagnostics import Diagnostic, PortUse
from coinjar.core.layers import Resolver
from coinjar.core.model import Resolved, Variable
from coinjar.core.rules.base import CheckContext
from coinjar.core.secret_detection import words_of


def is_listen_port(variable: Variable) -> bool:
    """Return whether a service listens on this port: declared by `listens`, else inferred from the name (PORT, or with
    LISTEN or BIND).
    """
    if variable.kind != "port":
        return False
    listens = variable.constraints.get("listens")
    return (
        bool(listens)
        if listens is not None
        else variable.name.upper() == "PORT" or bool({"LISTEN", "BIND"} & set(words_of(variable.name)))
    )


def same_port(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ015"""
    ports = [variable for variable in context.jar.variables.values() if is_listen_port(variable)]
    for stage in context.stages:
        resolver = context.resolver(stage)
        declared = [context.jar.stage(name).hosts for name in reversed(resolver.chain)]
        for host, services in next((hosts for hosts in declared if hosts), {}).items():
            taken: dict[str, tuple[str, Resolved]] = {}
            for service in [name for name in context.jar.services if name in services]:
                for variable in ports:
                    resolved = resolver.value(variable.name, service)
                    if resolved.text is None or resolved.definition is None:
                        continue
                    other, first = taken.setdefault(resolved.text, (service, resolved))
                    if other != service:
                        names = ", ".join(dict.fromkeys((variable.name, first.variable.name)))
                        port = "a secret port" if resolved.secret else f"port {resolved.text}"
                        message = f"{service} and {other} both listen on {port} of {host} on {stage} ({names})"
                        yield Diagnostic(
                            message,
                            f"give {service} a port of its own on {stage}",
                            resolved.definition.location,
                            variable.name,
                            stage,
                            service,
                        )


def ports_elsewhere(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ020"""
    ports = [variable for variable in context.jar.variables.values() if is_listen_port(variable)]
    groups: dict[tuple[str, str, str, str], list[PortUse]] = {}
    for link in context.port_uses:
        groups.setdefault((link.location.file, link.words, link.service, link.stage), []).append(link)
    result: dict[tuple[str, str], tuple[PortUse, list[str], str]] = {}
    for (_, _, service, stage), links in groups.items():
        resolver = context.resolver(stage)
        if links[0].fixed:
            for link, variable, words in _fixed(links, ports, resolver, service):
                result.setdefault((words, variable.name), (link, [], service))[1].append(stage)
            continue
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
            f"read {name} there" if link.fixed else "use the same port in both",
            link.location,
            name,
            stages[0] if len(stages) == 1 else None,
            service,
        )


def _fixed(
    links: list[PortUse], ports: list[Variable], resolver: Resolver, service: str
) -> Iterator[tuple[PortUse, Variable, str]]:
    """Yield the ports that code listens on by a literal, with the variable that has no effect there: the one with that
    value, else the first that the service gets.
    """
    mine = [(one, resolver.value(one.name, service)) for one in ports if one.applies_to(service)]
    for link in links:
        same = [pair for pair in mine if pair[1].text == link.port and not pair[1].secret]
        for variable, resolved in (same or mine)[:1]:
            where = resolved.definition.location if resolved.definition else variable.location
            yield (
                link,
                variable,
                f"{service} listens on {link.port}, whatever the value of its {variable.name} is ({where})",
            )
