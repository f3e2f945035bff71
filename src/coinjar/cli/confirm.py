"""`coinjar confirm`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import CommandsOption, JarOption, JsonOption, confirm_names, counted, known_stages, open_here, print_json, stage_names
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.actions.running.confirm import ProofResult


def run(
    ctx: typer.Context,
    where: Annotated[
        list[str] | None, typer.Argument(metavar="STAGE... [PROOF]...", autocompletion=confirm_names, help="One or more stages, then proofs (default: all).")
    ] = None,
    every_stage: Annotated[bool, typer.Option("--every-stage", help="All stages.")] = False,
    wait: Annotated[float, typer.Option("--wait", metavar="SECONDS", min=0, help="Keep asking until all of them hold, at most so long.")] = 0,
    allow_guarded: Annotated[
        list[str] | None,
        typer.Option("--allow-guarded", metavar="STAGE", autocompletion=stage_names, help="Start pipelines for this guarded stage; may be repeated."),
    ] = None,
    allow_commands: CommandsOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Ask running things the proofs that jar.yaml declares (proofs:): whether they have what they should. Exit code 1 if one does not hold."""
    import asyncio

    from coinjar.actions.running.confirm import ConfirmOptions, confirm, split_names
    from coinjar.cli.main import tell
    from coinjar.core.display import Masker

    opened = open_here(ctx, jar)
    declared = opened.load([])
    stages, names = split_names(declared, where or [])
    if every_stage:
        stages = declared.stage_names()
    if not stages:
        raise UsageError("which stage?", hint="name one or more, or add --every-stage")
    options = ConfirmOptions(wait, allow_commands, known_stages(declared, allow_guarded, "--allow-guarded"))
    found = asyncio.run(confirm(opened, stages, names, Masker(), options))
    if as_json:
        print_json({"proofs": [_as_json(one) for one in found]})
    else:
        _show(found, stages)
    for one in found:
        if one.fault:
            tell(one.fault)
    faults = [one.fault for one in found if one.fault]
    if faults or not all(one.holds for one in found):
        raise typer.Exit(faults[0].exit_code if faults and all(one.holds or one.fault for one in found) else 1)


def _show(found: list[ProofResult], stages: list[str]) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width
    from coinjar.core.display import visible

    failed = sum(not one.holds for one in found)
    head = f"{counted(len(found), 'proof')} asked, all hold" if not failed else f"{failed} of {counted(len(found), 'proof')} not as expected"
    show(styled(head, "bold red" if failed else "bold"))
    proofs = list(dict.fromkeys(one.proof.name for one in found))
    by_place = {(one.proof.name, one.stage): one for one in found}
    rows = []
    for name in proofs:
        cells = []
        for stage in stages:
            one = by_place.get((name, stage))
            if one is None:
                cells.append(StyledText("–", "dim"))
            elif one.verdict is None:
                cells.append(StyledText("! not asked", "red"))
            elif one.holds:
                cells.append(StyledText(f"✓ {visible(one.verdict.found)}", "green"))
            else:
                cells.append(StyledText(f"‼ {visible(one.verdict.found)}", "red"))
        rows.append([StyledText(name), *cells])
    for line in table(["proof", *stages], rows, least=[12, *[14] * len(stages)], width=terminal_width()) if rows else []:
        show(line)
    for one in found:
        if one.verdict is not None and not one.holds:
            about = f" ({one.proof.about})" if one.proof.about else ""
            show(styled(f"{one.proof.name} on {one.stage}{about}: {visible(one.verdict.found)}, expected {visible(one.verdict.expected)}", "red"))


def _as_json(one: ProofResult) -> dict[str, Any]:
    told = {"proof": one.proof.name, "stage": one.stage, "service": one.proof.service, "holds": one.holds}
    seen = {"found": one.verdict.found, "expected": one.verdict.expected} if one.verdict else {"found": None, "expected": None}
    return told | seen | {"error": one.fault.message if one.fault else None}
