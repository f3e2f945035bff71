"""What every service gets alike on a stage: worked out once, whatever the number of services."""

from __future__ import annotations

from coinjar.core.definition import Definition
from coinjar.core.layers import Resolver, plain
from coinjar.core.model import Resolved, Variable


class SettledValues:
    """The values of one stage and phase that every service of a variable gets, without a fault, by name."""

    def __init__(self, resolver: Resolver, phase: str) -> None:
        self.resolver = resolver
        self.phase = phase
        self.known: dict[str, Resolved] = {}
        self._is_whole = False

    def all_of(self, service: str) -> dict[str, Resolved] | None:
        """Return what a service gets if every service of each variable gets the same: where there are many services, by
        far the most, and only few variables of each are new.
        """
        resolver, known = self.resolver, self.known
        if resolver.layers[-1].kind == "one-off":
            return None
        self.whole()
        names = resolver.jar.names_for(service)
        for name in [name for name in names if name not in known]:
            variable = resolver.jar.variables[name]
            if not self._has(variable):
                return None
            self.value(variable, service)
            if name not in known:
                return None
        return dict(zip(names, map(known.__getitem__, names), strict=True))

    def value(self, variable: Variable, service: str) -> Resolved:
        """Return a variable's value, and note it if every service of it has the same, and no fault."""
        resolver = self.resolver
        definition = resolver.winner(variable.name, service)
        if definition is None or not isinstance(definition.content, str):
            return resolver.value(variable.name, service)
        resolved = definition.seen or plain(variable, definition)
        if variable.name not in resolver.own and resolved.fault is None and not variable.is_missing(resolved.text):
            self.known[variable.name] = resolved
        return resolved

    def whole(self) -> dict[str, Resolved]:
        """Return the values, after noting everything that is a plain text for every service; an encrypted value is
        noted only when it is asked for.
        """
        if not self._is_whole:
            self._is_whole = True
            self._settle()
        return self.known

    def _settle(self) -> None:
        resolver, variables, known = self.resolver, self.resolver.jar.variables, self.known
        own, absent, phases = resolver.own, resolver.absent, (self.phase, "both")
        for name, definition in resolver.common.items():
            if type(definition) is Definition and type(definition.content) is str and name not in own:
                variable = variables[name]
                if variable.phase in phases and name not in absent:
                    resolved = definition.seen or plain(variable, definition)
                    if resolved.fault is None and not variable.is_missing(resolved.text):
                        known[name] = resolved

    def _has(self, variable: Variable) -> bool:
        return variable.phase in (self.phase, "both") and variable.name not in self.resolver.absent
