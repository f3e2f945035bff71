"""Which services of a stage see the same value: those without a value of their own, here or where it refers to."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from coinjar.core.definition import Content
from coinjar.core.references import Template

if TYPE_CHECKING:
    from coinjar.core.layers import Resolver
    from coinjar.core.model import Variable


class AlikeServices:
    """The services of one resolver's stage. Caches what values refer to."""

    def __init__(self, resolver: Resolver) -> None:
        self.resolver = resolver
        self._involves: dict[str, set[str]] = {}

    def representatives(self, variable: Variable, services: Sequence[str]) -> Sequence[str]:
        """Return some of the services, all of which get the variable: every other one sees what one of them sees."""
        own, variables = self.resolver.own, self.resolver.jar.variables
        if variable.name not in own:
            common = self.resolver.common.get(variable.name)
            if common is None or self._is_for_all(common.content):
                return services[:1]  # by far the most
        names = self._involved(variable.name)
        speakers = {service for name in names for service in own.get(name, ())}
        limited = [variables[name] for name in names if name != variable.name and variables[name].services is not None]
        if not speakers and not limited:
            return services[:1]
        asked: dict[tuple[object, ...], str] = {}
        for service in services:
            asked.setdefault(
                (service if service in speakers else None, *(other.applies_to(service) for other in limited)), service
            )
        return list(asked.values())

    def _is_for_all(self, content: Content) -> bool:
        """Return whether every service surely sees the same: a plain text, or one with references to texts of all."""
        if not isinstance(content, Template):
            return isinstance(content, str)
        resolver = self.resolver
        for reference in content.references():
            other = resolver.common.get(reference.name)
            if reference.name in resolver.own or resolver.jar.variables[reference.name].services is not None:
                return False
            if other is not None and not isinstance(other.content, str):
                return False
        return True

    def _involved(self, name: str) -> set[str]:
        """Return the variable and everything it refers to, directly or indirectly, for every definition that takes
        effect.
        """
        if name not in self._involves:
            names, rest = {name}, [name]
            while rest:
                other_name = rest.pop()
                own = self.resolver.own.get(other_name, {})
                for definition in (self.resolver.common.get(other_name), *own.values()):
                    if definition is not None and isinstance(definition.content, Template):
                        new = {reference.name for reference in definition.content.references()} - names
                        names |= new
                        rest += new
            self._involves[name] = names
        return self._involves[name]
