"""Choose the service for a question about one variable."""

from __future__ import annotations

from coinjar.core.errors import UsageError
from coinjar.core.layers import Resolver
from coinjar.core.model import Variable


def service_that_sees(resolver: Resolver, variable: Variable, named: str | None) -> str:
    """Return the named service; else any, if all with the variable have the same value.

    Raises UsageError with those that differ.
    """
    groups = services_that_see(resolver, variable, named)
    if len(groups) > 1:
        message = f"services have different values of {variable.name} on {resolver.stage}"
        raise UsageError(
            message, hint=f"add --service: {', '.join(resolver.services_of(variable))}", code="which-service"
        )
    return groups[0][0]


def services_that_see(resolver: Resolver, variable: Variable, named: str | None) -> list[list[str]]:
    """Return the named service alone; else those with the variable, grouped by equal values. At least one group."""
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
