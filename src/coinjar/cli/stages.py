"""List, add, copy, rename and remove stages."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from coinjar.cli.common import JarOption, JsonOption, YesOption, open_here, print_json, stage_names
from coinjar.cli.opening import print_status
from coinjar.cli.structure import (
    AboutOption,
    DryRunOption,
    PlanOptions,
    WithoutSecretsOption,
    add_part,
    copy_part,
    remove_part,
    rename_part,
)
from coinjar.core.name_change import STAGE, NameChange

if TYPE_CHECKING:
    from coinjar.actions.structure.list_parts import StageRow

StageName = Annotated[str, typer.Argument(metavar="STAGE", autocompletion=stage_names, help="The stage.")]
NewName = Annotated[str, typer.Argument(metavar="NEW", help="The new stage's name.")]


def list_stages(ctx: typer.Context, as_json: JsonOption = False, jar: JarOption = None) -> None:
    """List the stages: what each follows, how many values it sets, who can decrypt it, the last delivery."""
    from coinjar.actions.structure.list_parts import list_stages as listed
    from coinjar.cli.tables import StyledText, show, table, terminal_width

    found = listed(open_here(ctx, jar))
    if as_json:
        rows = [
            row._asdict() | {"delivered": row.delivered.isoformat() + "Z" if row.delivered else None}
            for row in found.rows
        ]
        print_json({"stages": rows})
    elif not found.rows:
        print_status("There are no stages yet: `coinjar stages add NAME`")
    else:
        rows_shown = [
            [
                StyledText(row.name, "bold"),
                StyledText(row.follows or "–"),
                StyledText("pattern" if row.pattern else _counted(row) if row.values else "–"),
                StyledText(", ".join(row.readers) or "–"),
                StyledText(f"{row.delivered:%Y-%m-%d %H:%M} {row.delivered_to}" if row.delivered else "–"),
                StyledText("; ".join([*(["guarded"] if row.guarded else []), *([row.about] if row.about else [])])),
            ]
            for row in found.rows
        ]
        titles = ["stage", "follows", "values", "readers", "last delivery (UTC)", ""]
        for line in table(titles, rows_shown, least=[12, 8, 8, 8, 16, 8], width=terminal_width()):
            show(line)
    if found.unknown_deliveries:
        print_status(f"the last deliveries are unknown: {found.unknown_deliveries}")


def _counted(row: StageRow) -> str:
    return f"{row.values}, {row.secrets} secret" if row.secrets else str(row.values)


def add(
    ctx: typer.Context,
    name: NewName,
    follows: Annotated[
        str | None,
        typer.Option(
            "--follows", metavar="STAGE", autocompletion=stage_names, help="Inherit this stage's values. Default: none."
        ),
    ] = None,
    about: AboutOption = "",
    guarded: Annotated[bool, typer.Option("--guarded", help="Ask before a delivery.")] = False,
    jar: JarOption = None,
) -> None:
    """Add a stage without values. A name that ends in * is a pattern for every stage whose name matches."""
    from coinjar.actions.structure.add_part import plan_stage

    opened = open_here(ctx, jar)
    add_part(opened, plan_stage(opened, name, follows=follows, about=about, guarded=guarded), STAGE, name)


def copy(
    ctx: typer.Context,
    old: StageName,
    new: NewName,
    without_secrets: WithoutSecretsOption = False,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Copy a stage: its declaration and values, secrets encrypted again for the same readers, and where destinations
    and proofs name it.

    Asks first. A destination with one place for all stages does not get the copy.
    """
    how = PlanOptions(dry_run, yes, as_json)
    copy_part(open_here(ctx, jar), STAGE, old, new, how, secrets=not without_secrets)


def remove(
    ctx: typer.Context,
    name: StageName,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Remove a stage with all its values, encrypted ones too, and where jar.yaml names it.

    Asks first. What was delivered to running systems stays there.
    """
    remove_part(open_here(ctx, jar), STAGE, name, PlanOptions(dry_run, yes, as_json))


def rename(
    ctx: typer.Context,
    old: Annotated[str, typer.Argument(metavar="OLD", autocompletion=stage_names, help="The present name.")],
    new: NewName,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Rename a stage everywhere in the jar: files, encrypted values, readers, destinations, proofs.

    Running systems keep the name that they know, and deliveries stay recorded. Values that are encrypted for others
    are kept; one of their readers runs the same command. It also repairs a stage that was renamed by hand.
    """
    rename_part(open_here(ctx, jar), NameChange(STAGE, old, new), PlanOptions(dry_run, yes, as_json))


COMMANDS = {
    "list": (list_stages, "List the stages."),
    "add": (add, "Add a stage without values."),
    "copy": (copy, "Copy a stage with its values."),
    "rename": (rename, "Rename a stage everywhere in the jar."),
    "remove": (remove, "Remove a stage with its values."),
}
