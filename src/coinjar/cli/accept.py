"""`coinjar accept`."""

from __future__ import annotations

from typing import Annotated

import typer

from coinjar.cli.common import JarOption, ServiceOption, counted, open_here, stage_names, variable_names
from coinjar.cli.opening import complete_interrupted, print_status


def run(
    ctx: typer.Context,
    rule: Annotated[str, typer.Argument(metavar="RULE", help="The rule of the finding, such as CJ013.")],
    name: Annotated[
        str | None,
        typer.Argument(metavar="[NAME]", autocompletion=variable_names, help="The variable. Default: any."),
    ] = None,
    reason: Annotated[str, typer.Option("--reason", metavar="TEXT", help="Why it is acceptable, in a few words.")] = "",
    stage: Annotated[
        str | None,
        typer.Option("--stage", metavar="STAGE", autocompletion=stage_names, help="The stage. Default: any."),
    ] = None,
    service: ServiceOption = None,
    jar: JarOption = None,
) -> None:
    """Accept a finding of `check`, with a reason in jar.yaml. Refuses what `check` does not report."""
    from coinjar.actions.editing.declare import Acceptance, accept

    opened = open_here(ctx, jar)
    complete_interrupted(opened)
    found = accept(opened, Acceptance(rule, name, stage, service), reason)
    print_status(f"accepted {counted(len(found), 'finding')}:")
    for finding in found:
        print_status(f"  {finding.diagnostic.location}: {finding.diagnostic.message}")
