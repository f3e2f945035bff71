"""Which service a question about one variable is asked for."""

from __future__ import annotations

from coinjar.core.errors import UsageError
from coinjar.core.layers import Resolver
from coinjar.core.model import Variable


def service_that_sees(resolver: Resolver, variable: Variable, named: str | None) -> str:
    """The named service; else any, if all that get the variable see the same. Raises UsageError with those that differ."""
    groups = services_that_see(resolver, variable, named)
    if len(groups) > 1:
        words = f"services see different values of {variable.name} on {resolver.stage}"
        raise UsageError(
            words, hint=f"add --service: {', '.join(resolver.services_of(variable))}", code="which-service"
        )
    return groups[0][0]


def services_that_see(resolver: Resolver, variable: Variable, named: str | None) -> list[list[str]]:
    """The named service alone; else those that get the variable, those that see the same together. One group at least."""
    if named is not None:
        return [[resolver.jar.service(named).name]]
    groups: dict[tuple[str | None, bool, str], list[str]] = {}
    for service in resolver.services_of(variable):
        resolved = resolver.value(variable.name, service)
        groups.setdefault(
            (resolved.text, resolved.is_unset, resolved.fault.message if resolved.fault else ""), []
        ).append(service)
    return list(groups.values()) or [
        [
            next(
                (service for service in resolver.jar.services if variable.applies_to(service)),
                next(iter(resolver.jar.services), ""),
            )
        ]
    ]
