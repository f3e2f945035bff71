"""`coinjar value`."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    SecretsOption,
    ServiceOption,
    StageArgument,
    WithOption,
    named_variables,
    open_here,
    print_json,
    variable_names,
)
from coinjar.cli.opening import one_offs, print_status
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Iterator

    from coinjar.core.display import Masker
    from coinjar.core.layers import Resolver
    from coinjar.core.model import Resolved


def run(
    ctx: typer.Context,
    stage: StageArgument,
    names: Annotated[
        list[str],
        typer.Argument(
            metavar="NAME...", autocompletion=variable_names, help="The variable; several, or a pattern, print a list."
        ),
    ],
    service: ServiceOption = None,
    with_: WithOption = None,
    show_secrets: SecretsOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Print one value, without a line break after it, for scripts; of several names a list, with secrets masked.

    Exit code 1 if one has none: an empty value prints nothing, and exits with 0.
    """
    resolver = open_here(ctx, jar).resolver(stage, one_offs=one_offs(with_))
    wanted = named_variables(resolver.jar, names)
    if len(wanted) > 1 or wanted != names or as_json:
        _print_list(resolver, wanted, service, show_secrets=show_secrets, as_json=as_json)
        return
    name = wanted[0]
    resolved = _value(resolver, name, service)
    if resolved.fault:
        raise resolved.fault
    if resolved.text is None:
        print_status(f"{name} has no value on {stage}" + (": it is unset on purpose" if resolved.is_unset else ""))
        raise typer.Exit(1)
    terminal = sys.stdout.isatty()
    if resolved.secret and terminal and not show_secrets:
        raise UsageError(
            f"{name} is a secret, and stdout is a terminal",
            hint="add --show-secrets to see it; a pipe or a file gets it without",
        )
    sys.stdout.flush()
    sys.stdout.buffer.write(resolved.text.encode("utf-8", "surrogatepass"))
    sys.stdout.buffer.flush()
    if terminal:
        print()


def _value(resolver: Resolver, name: str, service: str | None) -> Resolved:
    from coinjar.cli.service_choice import service_that_sees

    variable = resolver.jar.variable(name)
    return resolver.value(name, service_that_sees(resolver, variable, service))


def _each_value(resolver: Resolver, names: list[str], service: str | None) -> Iterator[tuple[str, list[str], Resolved]]:
    """Yield each name with its value, once for all services that have the same; these are named if there are others."""
    from coinjar.cli.service_choice import services_that_see

    for name in names:
        groups = services_that_see(resolver, resolver.jar.variable(name), service)
        for group in groups:
            yield name, group if len(groups) > 1 else [], resolver.value(name, group[0])


def _print_list(
    resolver: Resolver, names: list[str], service: str | None, *, show_secrets: bool, as_json: bool
) -> None:
    from coinjar.cli.tables import StyledText, show, table, terminal_width
    from coinjar.core.display import Masker

    masker = Masker(show_secrets=show_secrets)
    values = list(_each_value(resolver, names, service))
    if as_json:
        print_json({"stage": resolver.stage, "values": [_as_json(*each, masker) for each in values]})
    else:
        rows = [
            [
                StyledText(name + (f" ({', '.join(services)})" if services else "")),
                StyledText(masker.show(value.text, secret=value.secret))
                if value.text is not None
                else StyledText(f"({_why_none(value)})", "dim"),
            ]
            for name, services, value in values
        ]
        for line in table(["variable", resolver.stage], rows, least=[20, 20], width=terminal_width()):
            show(line)
    if any(value.text is None for _, _, value in values):
        raise typer.Exit(1)


def _why_none(value: Resolved) -> str:
    if value.fault is not None:
        return value.fault.message
    return "unset on purpose" if value.is_unset else "no value"


def _as_json(name: str, services: list[str], value: Resolved, masker: Masker) -> dict[str, Any]:
    hidden = value.secret and not masker.show_secrets
    shown: dict[str, Any] = {
        "name": name,
        "services": services,
        "value": None if hidden else value.revealed,
        "has_value": value.text is not None,
        "secret": value.secret,
    }
    if hidden and value.text is not None:
        shown["masked"] = masker.mask(value.text)
    return shown | ({"fault": value.fault.message} if value.fault is not None else {})
