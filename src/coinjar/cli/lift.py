"""`coinjar lift`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    YesOption,
    ask_to_go_on,
    counted,
    open_here,
    print_json,
    variable_names,
)
from coinjar.cli.opening import complete_interrupted, print_status
from coinjar.cli.promote import plan_json
from coinjar.cli.structure import DryRunOption, finish_plan

if TYPE_CHECKING:
    from coinjar.actions.editing.promote import ValuePlan


def run(
    ctx: typer.Context,
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[NAME...]",
            autocompletion=variable_names,
            help="Variables, also patterns. Default: all that are not secret.",
        ),
    ] = None,
    to_default: Annotated[
        bool, typer.Option("--to-default", help="Make it the default in jar.yaml, instead of setting it on shared.")
    ] = False,
    as_json: JsonOption = False,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    jar: JarOption = None,
) -> None:
    """Set once, on shared or as the default, what all stages agree on, and remove what merely repeats it. No service
    gets another value.

    Asks first. A lifted secret can be decrypted by all readers of shared.
    """
    from coinjar.actions.editing.promote import apply_plan, plan_lift

    opened = open_here(ctx, jar)
    complete_interrupted(opened)

    def planned() -> ValuePlan:
        return plan_lift(opened, names or [], to_default=to_default)

    plan = planned()
    if as_json:
        print_json(plan_json(plan))
    if not plan.values:
        secrets = "" if names else " Secrets are lifted only by name, and were not looked at."
        print_status(f"Nothing to lift: no value is the same on all stages.{secrets}")
        return
    if not as_json:
        _show(plan)
    finish_plan(dry_run=dry_run)
    ask_to_go_on("Write this?", yes=yes)
    for note in apply_plan(opened, plan, "lift", planned):
        print_status(note)
    print_status(f"Lifted {counted(len(plan.names), 'variable')}.")


def _show(plan: ValuePlan) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    show(styled(f"{counted(len(plan.names), 'variable')} to lift", "bold"))
    rows = []
    for name in plan.names:
        added, removed = (
            [
                value.layer + ("" if value.scope == "all" else f" ({value.scope})")
                for value in plan.values
                if value.name == name and (value.content is None) == is_removed
            ]
            for is_removed in (False, True)
        )
        rows.append([StyledText(name), StyledText(", ".join(added) or "inherited"), StyledText(", ".join(removed))])
    for line in table(["variable", "set on", "removed from"], rows, least=[20, 12, 20], width=terminal_width()):
        show(line)
