"""Show or rename the application."""

from __future__ import annotations

from typing import Annotated

import typer

from coinjar.cli.common import JarOption, JsonOption, YesOption, counted, open_here, print_json
from coinjar.cli.structure import DryRunOption, PlanOptions, rename_part
from coinjar.core.name_change import APPLICATION, NameChange


def show_app(ctx: typer.Context, as_json: JsonOption = False, jar: JarOption = None) -> None:
    """Show the application's name, and what its jar has."""
    from coinjar.jarfile.load import load_declarations

    found = load_declarations(open_here(ctx, jar).folder)
    counts = {
        "services": len(found.services),
        "stages": len(found.stages),
        "variables": len(found.variables),
        "destinations": len(found.destinations),
        "proofs": len(found.proofs),
    }
    if as_json:
        print_json({"app": found.app, "formerly": list(found.formerly), **counts})
        return
    former = f" (formerly {', '.join(found.formerly)})" if found.formerly else ""
    words = ", ".join(counted(count, name.removesuffix("s")) for name, count in counts.items())
    print(f"{found.app}{former}: {words}")


def rename(
    ctx: typer.Context,
    old: Annotated[str, typer.Argument(metavar="OLD", help="The present name.")],
    new: Annotated[str, typer.Argument(metavar="NEW", help="The new name.")],
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Rename the application. Encrypted values and the approvals of readers are bound to its name, and so made again.

    Deliveries stay recorded. What is encrypted for others is kept; one of their readers runs the same command. It also
    repairs a jar whose application was renamed by hand.
    """
    rename_part(open_here(ctx, jar), NameChange(APPLICATION, old, new), PlanOptions(dry_run, yes, as_json))


COMMANDS = {
    "show": (show_app, "Show the application's name, and what its jar has."),
    "rename": (rename, "Rename the application."),
}
