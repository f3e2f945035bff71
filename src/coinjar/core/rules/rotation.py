"""Rules on the age of secrets, and on unfinished rotations."""

from __future__ import annotations

from collections.abc import Iterator

from coinjar.core.definition import SealedDefinition
from coinjar.core.diagnostics import Diagnostic
from coinjar.core.names import SHARED
from coinjar.core.rules.base import CheckContext
from coinjar.core.secret_ages import OVERDUE, SOON, UNDATED, SecretAge, secret_ages


def _ages(context: CheckContext) -> Iterator[SecretAge]:
    if any(variable.valid_days for variable in context.jar.variables.values()):
        yield from secret_ages(context.jar, context.today)


def overdue(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ048"""
    for age in _ages(context):
        name, where = age.variable.name, f"--stage {age.layer}"
        if age.state == OVERDUE:
            message = f"{name} on {age.layer} was good until {age.good_until}: it was set on {age.set_on}"
            yield Diagnostic(message, f"`coinjar rotate {name} {where}`", age.definition.location, name, age.stage)
        elif age.state == UNDATED:
            message = (
                f"the date of {name}'s value on {age.layer} is not recorded, and the variable has a term of validity"
            )
            fix = f"`coinjar rotate {name} {where}`; or record the date: `coinjar put {name} {where} --set-on DATE`"
            yield Diagnostic(message, fix, age.definition.location, name, age.stage)


def due_soon(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ049"""
    for age in _ages(context):
        if age.state == SOON:
            name = age.variable.name
            message = f"{name} on {age.layer} is good until {age.good_until}"
            fix = f"`coinjar rotate {name} --stage {age.layer}`"
            yield Diagnostic(message, fix, age.definition.location, name, age.stage)


def unfinished(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ050"""
    names = [name for name, variable in context.jar.variables.items() if variable.secret]
    for layer, name in [(layer, name) for layer in context.jar.plain for name in names]:
        entries = [values[name] for values in context.jar.plain[layer].values() if name in values]
        sealed = [entry for entry in entries if isinstance(entry, SealedDefinition)]
        definition = next((entry for entry in sealed if entry.sealed_value.other is not None), None)
        if definition is None or (other := definition.sealed_value.other) is None:
            continue
        kept = "its next value is made, but not in use" if other.is_next else "its previous value is still kept"
        message = f"{name} is being rotated on {layer}: {kept}"
        fix = f"`coinjar rotate {name} --stage {layer}` goes on, and with --back it goes back"
        yield Diagnostic(message, fix, definition.location, name, None if layer == SHARED else layer)
