"""`coinjar drop`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    ServicesOption,
    YesOption,
    ask_to_go_on,
    confirm_patterns,
    counted,
    layer_names,
    named_variables,
    open_here,
    print_json,
    variable_names,
    warn_unread,
)
from coinjar.cli.opening import complete_interrupted, print_status
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.actions.editing.removal import DroppedValue
    from coinjar.actions.open_jar import OpenJar


def run(
    ctx: typer.Context,
    names: Annotated[
        list[str],
        typer.Argument(metavar="NAME...", autocompletion=variable_names, help="The variables, also patterns."),
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
    as_json: JsonOption = False,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only show what would be removed.")] = False,
    yes: YesOption = False,
    jar: JarOption = None,
) -> None:
    """Remove values, or whole variables with --everywhere, which asks first, as a pattern does."""
    from coinjar.actions.editing.removal import drop, drop_everywhere, unread_values, where_set

    opened = open_here(ctx, jar)
    complete_interrupted(opened)
    if everywhere == bool(stage) or (everywhere and (service or mine)):
        raise UsageError("remove from where?", hint="name --stage STAGE, or use --everywhere for the variable itself")
    if everywhere:
        names = _present(opened, names, None)
        there = where_set(opened, names)
        if as_json:
            print_json(_as_json(names, there, []))
        for dropped in there:
            whose = "all services" if dropped.scope == "all" else dropped.scope
            print_status(f"{dropped.name}: {dropped.layer}, {whose}{', your own' if dropped.is_mine else ''}")
        warn_unread(unread_values(opened, names), ", ".join(names))
        if dry_run:
            raise typer.Exit(1)
        ask_to_go_on(f"Remove {', '.join(names)}, with the declaration and all values?", yes=yes)
        gone = drop_everywhere(opened, names)
        print_status(f"{', '.join(names)}: removed, with {counted(len(gone), 'value')}")
        return
    stages = list(dict.fromkeys(stage or []))
    services = list(dict.fromkeys(service or []))
    given, names = names, _present(opened, names, stages, mine=mine)
    if as_json:
        there = drop(opened, names, stages, services=services, mine=mine, only_plan=True)
        print_json(_as_json(names, there, _lacking(names, stages, there)))
    confirm_patterns(given, names, f"Remove from {', '.join(stages)}", dry_run=dry_run, yes=yes)
    gone = drop(opened, names, stages, services=services, mine=mine)
    for dropped in gone:
        print_status(
            f"{dropped.name}: removed from {dropped.layer}, "
            f"{'all services' if dropped.scope == 'all' else dropped.scope}"
        )
    whom = f" for {', '.join(services)}" if services else " for all services"
    if lacking := _lacking(names, stages, gone):
        print_status(f"there was no value to remove{whom}: {', '.join(f'{name} on {on}' for name, on in lacking)}")
        raise typer.Exit(1)


def _lacking(names: list[str], stages: list[str], gone: list[DroppedValue]) -> list[tuple[str, str]]:
    """Return the names, each with a layer, for which there is no value."""
    found = {(dropped.name, dropped.layer) for dropped in gone}
    return [(name, layer) for layer in stages for name in names if (name, layer) not in found]


def _as_json(names: list[str], gone: list[DroppedValue], lacking: list[tuple[str, str]]) -> dict[str, Any]:
    """docs/json.md"""
    return {
        "names": names,
        "values": [
            {"name": dropped.name, "layer": dropped.layer, "scope": dropped.scope, "mine": dropped.is_mine}
            for dropped in gone
        ],
        "lacking": [{"name": name, "layer": layer} for name, layer in lacking],
    }


def _present(opened: OpenJar, given: list[str], stages: list[str] | None, *, mine: bool = False) -> list[str]:
    """Return the variables that names and patterns mean: of those with a value on the stages, for None of all."""
    from coinjar.core.name_patterns import is_pattern

    if not any(is_pattern(word) for word in given):
        return list(dict.fromkeys(given))
    jar = opened.load()
    if stages is None:
        return named_variables(jar, given)
    layers = [opened.load([stage], mine=stage).mine if mine else jar.plain for stage in stages]
    held = {
        name: None
        for stage, plain in zip(stages, layers, strict=True)
        for values in plain.get(stage, {}).values()
        for name in values
    }
    return named_variables(jar, given, among=held)
