"""List, add, copy, rename and remove services."""

from __future__ import annotations

from typing import Annotated

import typer

from coinjar.cli.common import JarOption, JsonOption, YesOption, open_here, print_json, service_names
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
from coinjar.core.name_change import SERVICE, NameChange

ServiceName = Annotated[str, typer.Argument(metavar="SERVICE", autocompletion=service_names, help="The service.")]
NewName = Annotated[str, typer.Argument(metavar="NEW", help="The new service's name.")]


def list_services(ctx: typer.Context, as_json: JsonOption = False, jar: JarOption = None) -> None:
    """List the services: their descriptions, how many variables each gets, and how many values it has of its own."""
    from coinjar.actions.structure.list_parts import list_services as listed
    from coinjar.cli.tables import StyledText, show, table, terminal_width

    rows = listed(open_here(ctx, jar))
    if as_json:
        print_json({"services": [row._asdict() for row in rows]})
    elif not rows:
        print_status("There are no services yet: `coinjar services add NAME`")
    else:
        shown = [
            [
                StyledText(row.name, "bold"),
                StyledText(str(row.variables)),
                StyledText(str(row.own_values) if row.own_values else "–"),
                StyledText(", ".join(row.readers) or "–"),
                StyledText(", ".join(row.code) or "–"),
                StyledText(row.about),
            ]
            for row in rows
        ]
        titles = ["service", "variables", "own values", "readers of it alone", "code", ""]
        for line in table(titles, shown, least=[12, 9, 10, 8, 12, 8], width=terminal_width()):
            show(line)


def add(
    ctx: typer.Context,
    name: NewName,
    about: AboutOption = "",
    code: Annotated[
        list[str] | None,
        typer.Option("--code", metavar="PATH", help="A file or folder of its code; may be repeated."),
    ] = None,
    jar: JarOption = None,
) -> None:
    """Add a service. It gets the variables that are declared for all services."""
    from coinjar.actions.structure.add_part import plan_service

    opened = open_here(ctx, jar)
    add_part(opened, plan_service(opened, name, about=about, code=code or []), SERVICE, name)


def copy(
    ctx: typer.Context,
    old: ServiceName,
    new: NewName,
    without_secrets: WithoutSecretsOption = False,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Copy a service: its declaration, variables and own values, secrets encrypted again, and its proofs.

    Asks first. A destination with one place for all services does not get the copy.
    """
    how = PlanOptions(dry_run, yes, as_json)
    copy_part(open_here(ctx, jar), SERVICE, old, new, how, secrets=not without_secrets)


def remove(
    ctx: typer.Context,
    name: ServiceName,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Remove a service with the values that only it gets, its proofs, and where jar.yaml names it.

    Asks first. What was delivered to running systems stays there.
    """
    remove_part(open_here(ctx, jar), SERVICE, name, PlanOptions(dry_run, yes, as_json))


def rename(
    ctx: typer.Context,
    old: Annotated[str, typer.Argument(metavar="OLD", autocompletion=service_names, help="The present name.")],
    new: NewName,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Rename a service everywhere in the jar: values, references, encrypted values, readers, destinations, proofs.

    Running systems keep the name that they know, and deliveries stay recorded. Values that are encrypted for others
    are kept; one of their readers runs the same command. It also repairs a service that was renamed by hand.
    """
    rename_part(open_here(ctx, jar), NameChange(SERVICE, old, new), PlanOptions(dry_run, yes, as_json))


COMMANDS = {
    "list": (list_services, "List the services."),
    "add": (add, "Add a service without values."),
    "copy": (copy, "Copy a service with its values."),
    "rename": (rename, "Rename a service everywhere in the jar."),
    "remove": (remove, "Remove a service with its values."),
}
