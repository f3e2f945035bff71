"""`coinjar drop`."""

from __future__ import annotations

from typing import Annotated

import typer

from coinjar.cli.common import (
    JarOption,
    ServicesOption,
    YesOption,
    ask_to_go_on,
    complete_interrupted,
    counted,
    layer_names,
    open_here,
    print_status,
    variable_names,
)
from coinjar.core.errors import UsageError


def run(
    ctx: typer.Context,
    names: Annotated[
        list[str], typer.Argument(metavar="NAME...", autocompletion=variable_names, help="The variables.")
    ],
    stage: Annotated[
        list[str] | None,
        typer.Option(
            "--stage", metavar="STAGE", autocompletion=layer_names, help="The stage, or shared; may be repeated."
        ),
    ] = None,
    service: ServicesOption = None,
    mine: Annotated[bool, typer.Option("--mine", help="Remove your own values.")] = False,
    everywhere: Annotated[
        bool,
        typer.Option("--everywhere", help="Remove the variables themselves: declarations and all values. Asks first."),
    ] = False,
    yes: YesOption = False,
    jar: JarOption = None,
) -> None:
    """Remove values, or whole variables with --everywhere, which asks first."""
    from coinjar.actions.editing.removal import drop, drop_everywhere, where_set

    opened = open_here(ctx, jar)
    complete_interrupted(opened)
    if everywhere == bool(stage) or (everywhere and (service or mine)):
        raise UsageError("remove from where?", hint="name --stage STAGE, or use --everywhere for the variable itself")
    if everywhere:
        names = list(dict.fromkeys(names))
        for dropped in where_set(opened, names):
            whose = "all services" if dropped.scope == "all" else dropped.scope
            print_status(f"{dropped.name}: {dropped.layer}, {whose}{', your own' if dropped.is_mine else ''}")
        ask_to_go_on(f"Remove {', '.join(names)}, with the declaration and all values?", yes=yes)
        gone = drop_everywhere(opened, names)
        print_status(f"{', '.join(names)}: removed, with {counted(len(gone), 'value')}")
        return
    stages = list(dict.fromkeys(stage or []))
    services = list(dict.fromkeys(service or []))
    gone = drop(opened, names, stages, services=services, mine=mine)
    for dropped in gone:
        print_status(
            f"{dropped.name}: removed from {dropped.layer}, "
            f"{'all services' if dropped.scope == 'all' else dropped.scope}"
        )
    whom = f" for {', '.join(services)}" if services else " for all services"
    lacking = [
        f"{name} on {layer}"
        for layer in stages
        for name in names
        if not any(dropped.name == name and dropped.layer == layer for dropped in gone)
    ]
    if lacking:
        print_status(f"there was no value to remove{whom}: {', '.join(lacking)}")
        raise typer.Exit(1)
