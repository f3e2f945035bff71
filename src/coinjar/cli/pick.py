"""Which service a question about one variable is asked for."""

from __future__ import annotations

from coinjar.core.errors import UsageError
from coinjar.core.layers import Resolver
from coinjar.core.model import Variable


def service_that_sees(resolver: Resolver, variable: Variable, named: str | None) -> str:
    """The named service; else any, if all that get the variable see the same. Raises UsageError with those that differ."""
    if named is not None:
        return resolver.jar.service(named).name
    services = resolver.services_of(variable)
    if not services:
        return next((one for one in resolver.jar.services if variable.serves(one)), next(iter(resolver.jar.services), ""))
    seen = {(one.text, one.is_unset) for one in (resolver.value(variable.name, service) for service in services)}
    if len(seen) == 1:
        return services[0]
    raise UsageError(
        f"services see different values of {variable.name} on {resolver.stage}", hint=f"add --service: {', '.join(services)}", code="which-service"
    )
