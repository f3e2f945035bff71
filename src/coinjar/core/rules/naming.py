"""Rules on names."""

from __future__ import annotations

from collections.abc import Iterator

from coinjar.core.diagnostics import Diagnostic
from coinjar.core.names import shell_can_set
from coinjar.core.rules.base import CheckContext


def differ_by_case(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ010"""
    first: dict[str, str] = {}
    for variable in context.jar.variables.values():
        other = first.setdefault(variable.name.casefold(), variable.name)
        if other != variable.name:
            message = f"{variable.name} and {other} differ only by case"
            yield Diagnostic(message, "rename one: some consumers ignore case", variable.location, variable.name)


def not_for_a_shell(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ011"""
    for variable in context.jar.variables.values():
        for name in (variable.name, *variable.also_as):
            if not shell_can_set(name):
                message = f"shells cannot set {name}"
                yield Diagnostic(
                    message, "use A to Z, digits and '_', without a leading digit", variable.location, variable.name
                )
