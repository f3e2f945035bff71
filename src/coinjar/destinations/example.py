"""What stands in a committed example: declarations, and no value that anybody filled in."""

from __future__ import annotations

from coinjar.core.layers import Resolver
from coinjar.dialects.base import Entry
from coinjar.dialects.example import CHANGE_ME


def example_entries(resolver: Resolver, service: str) -> list[Entry]:
    """What the service gets on this stage, from its declarations alone."""
    entries = []
    for variable in resolver.jar.variables.values():
        if resolver.applies(variable, service):
            default = variable.default.content if variable.default else None
            text = CHANGE_ME if variable.secret or (variable.required and default is None) else default if isinstance(default, str) else None
            entries.append(Entry(variable.name, text, variable))
    return entries
