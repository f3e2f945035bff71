"""`coinjar promote`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    ServicesOption,
    YesOption,
    ask_to_go_on,
    counted,
    open_here,
    print_json,
    stage_names,
    variable_names,
)
from coinjar.cli.opening import complete_interrupted, print_status
from coinjar.cli.structure import DryRunOption, finish_plan

if TYPE_CHECKING:
    from coinjar.actions.editing.promote import ValuePlan


def run(
    ctx: typer.Context,
    source: Annotated[
        str, typer.Argument(metavar="FROM", autocompletion=stage_names, help="The stage with the values.")
    ],
    target: Annotated[str, typer.Argument(metavar="TO", autocompletion=stage_names, help="The stage to change.")],
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[NAME...]",
            autocompletion=variable_names,
            help="Variables, also patterns. Default: all that differ.",
        ),
    ] = None,
    service: ServicesOption = None,
    per_stage: Annotated[
        bool,
        typer.Option(
            "--per-stage", help="Also those that each stage has of its own (per_stage). Default: leave them out."
        ),
    ] = False,
    as_json: JsonOption = False,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    jar: JarOption = None,
) -> None:
    """Give a stage the values of another, in the same form: references stay references, secrets are encrypted again.

    Shows a comparison and asks. Refuses what the other stage does not accept; a value that only TO has stays.
    """
    from coinjar.actions.editing.promote import apply_plan, plan_promotion

    opened = open_here(ctx, jar)
    complete_interrupted(opened)
    services = list(dict.fromkeys(service or []))

    def planned() -> ValuePlan:
        return plan_promotion(opened, source, target, names or [], services=services, per_stage=per_stage)

    plan = planned()
    print_json(plan_json(plan)) if as_json else _show(plan, source, target)
    if not plan.values:
        besides = "nothing else differs" if plan.left_out else f"{target} already has these values"
        print_status(f"Nothing to promote: {besides}.")
        return
    finish_plan(dry_run=dry_run)
    ask_to_go_on(f"Change {counted(len(plan.names), 'variable')} on {target}?", yes=yes)
    for note in apply_plan(opened, plan, "promote", planned):
        print_status(note)
    print_status(f"Promoted {counted(len(plan.names), 'variable')}. Next: `coinjar deliver {target}`")


def _show(plan: ValuePlan, source: str, target: str) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width
    from coinjar.core.display import Masker

    if plan.values:
        show(styled(f"{source} → {target}: {counted(len(plan.names), 'variable')} to change", "bold"))
    masker = Masker()
    rows = []
    for row in plan.differences:
        old, new = (
            masker.show(entry.text, secret=row.secret) if entry.text is not None else f"({entry.note or 'no value'})"
            for entry in (row.left, row.right)
        )
        name = f"{row.name} ({row.service})" if row.service else row.name
        if old != new:
            sign = StyledText("+", "green") if row.left.text is None else StyledText("≠", "yellow")
            rows.append([sign, StyledText(name), StyledText(old), StyledText(new)])
    titles = ["", "variable", f"{target} now", "then"]
    for line in table(titles, rows, least=[1, 20, 18, 18], width=terminal_width()) if rows else ():
        show(line)
    print_left_out(plan)


def print_left_out(plan: ValuePlan) -> None:
    """Print what is left out of a plan, by reason."""
    reasons: dict[str, list[str]] = {}
    for name, why in plan.left_out:
        reasons.setdefault(why, []).append(name)
    for why, names in reasons.items():
        print_status(f"left out: {', '.join(names)}: {why}")


def plan_json(plan: ValuePlan) -> dict[str, Any]:
    """docs/json.md"""
    return {
        "changes": [
            {"layer": value.layer, "scope": value.scope, "name": value.name, "removed": value.content is None}
            for value in plan.values
        ],
        "left_out": [{"name": name, "reason": why} for name, why in plan.left_out],
    }
