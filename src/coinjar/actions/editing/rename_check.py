"""Which names a rename accepts."""

from __future__ import annotations

from collections.abc import Mapping

from coinjar.core.errors import CoinJarError, UsageError, raise_all
from coinjar.core.model import Jar
from coinjar.core.names import name_fault, shell_can_set


def check_names(jar: Jar, renames: Mapping[str, str]) -> None:
    """Raise UsageError for every name that cannot be changed, or cannot be a new name."""
    faults: list[CoinJarError] = []
    for old, new in renames.items():
        variable = jar.variable(old)
        if message := name_fault("variable", new):
            faults.append(UsageError(message, hint="choose another name", code="name"))
        elif shell_can_set(old) and not shell_can_set(new):
            faults.append(
                UsageError(
                    f"shells cannot set {new}", hint="use A to Z, digits and '_', without a leading digit", code="name"
                )
            )
        elif new in jar.variables and new not in renames:
            faults.append(
                UsageError(
                    f"{new} is already declared",
                    hint=f"remove one of them first: `coinjar why STAGE {new}`",
                    location=jar.variables[new].location,
                )
            )
        elif new == old:
            faults.append(UsageError(f"{old} already has that name", hint="choose another", code="name"))
        owner = jar.current_owner(new)
        if owner and owner.name != variable.name and owner.name not in renames:
            faults.append(
                UsageError(
                    f"{new} is a former name of {owner.name}",
                    hint=f"`coinjar rename --finish {new}` releases it",
                    location=owner.location,
                )
            )
    double = [new for new in renames.values() if list(renames.values()).count(new) > 1]
    if double:
        faults.append(
            UsageError(
                f"two variables would have the name {double[0]}", hint="choose a different name for each", code="name"
            )
        )
    raise_all(faults)
