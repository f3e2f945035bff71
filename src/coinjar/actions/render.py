"""A service's variables in a dialect."""

from __future__ import annotations

from coinjar.actions.opening import Resolution
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar
from coinjar.dialects import carriers, get
from coinjar.dialects.base import Dialect, Entry, Heading, render


def rendered(jar: Jar, resolution: Resolution, dialect: Dialect) -> bytes:
    """The file. Raises InputError naming every variable that the dialect cannot carry, and those dialects that can."""
    entries = [Entry(name, seen.text, seen.variable) for name, seen in resolution.emitted()]
    return render(dialect, entries, Heading(jar.app, resolution.stage, resolution.service), carriers())


def rendered_example(resolver: Resolver, service: str) -> bytes:
    """The committed example: what the service gets on this stage, from its declarations alone."""
    dialect = get("example")
    entries = []
    for variable in resolver.jar.variables.values():
        if resolver.applies(variable, service):
            default = variable.default.content if variable.default else None
            text = "change-me" if variable.secret or (variable.required and default is None) else default if isinstance(default, str) else None
            entries.append(Entry(variable.name, text, variable))
    return render(dialect, entries, Heading(resolver.jar.app, resolver.stage, service), [])
