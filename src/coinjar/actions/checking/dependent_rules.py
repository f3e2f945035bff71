"""Rules on values that are computed from supplied ones."""

from __future__ import annotations

from collections.abc import Iterator

from coinjar.actions.checking.context import FileContext
from coinjar.core.diagnostics import Diagnostic
from coinjar.jarfile.layout import JarLayout


def outdated_supplied_value(context: FileContext) -> Iterator[Diagnostic]:
    """CJ034. Nothing is reported if nothing was delivered yet."""
    if not any(variable.supplied_by for variable in context.jar.variables.values()):
        return
    if context.jar.records is None and not JarLayout(context.opened.folder).records.exists():
        return
    from coinjar.actions.checking.outdated_values import outdated_values

    yield from outdated_values(context)
