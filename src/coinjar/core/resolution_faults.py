"""The errors of values that are missing or without effect."""

from __future__ import annotations

from typing import TYPE_CHECKING

from coinjar.core.errors import InputError, UsageError

if TYPE_CHECKING:
    from coinjar.core.model import Variable


def idle_one_off(variable: Variable, stage: str, service: str) -> UsageError:
    """Return the error of a one-off value that no service would see."""
    where = f"is not for {service} on {stage}" if variable.phase != "build" else "is a build-time variable"
    return UsageError(
        f"{variable.name} {where}, so a one-off value has no effect",
        hint="omit it, or correct the stage and the service",
    )


def ask_supplier(variable: Variable) -> str:
    """Return the hint for a value that a destination supplies and that is not known yet."""
    return (
        f"{' or '.join(variable.supplied_by)} supplies it: `coinjar deliver` reads it from there"
        if variable.supplied_by
        else ""
    )


def missing(variable: Variable, stage: str, service: str | None, *, is_empty: bool = False) -> InputError:
    """Return the error of a required variable with no value or an empty one."""
    whose = f" for {service}" if service else ""
    hint = (
        f"`coinjar put {variable.name} --stage {stage}`"
        if variable.secret
        else f"`coinjar put {variable.name}=… --stage {stage}`"
    )
    return InputError(
        f"{variable.name} is required and {'is empty' if is_empty else 'has no value'} on {stage}{whose}",
        hint=ask_supplier(variable) or (f"{hint}, or declare may_be_empty: true" if is_empty else hint),
        location=variable.location,
        code="CJ001",
    )
