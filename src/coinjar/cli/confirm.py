"""`coinjar confirm`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    confirm_names,
    counted,
    known_stages,
    open_here,
    print_json,
    stage_names,
)
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.actions.running.confirm import ProofResult


def run(
    ctx: typer.Context,
    where: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="STAGE... [PROOF]...",
            autocompletion=confirm_names,
            help="One or more stages, then proofs (default: all).",
        ),
    ] = None,
    every_stage: Annotated[bool, typer.Option("--every-stage", help="All stages.")] = False,
    wait: Annotated[
        float,
        typer.Option(
            "--wait",
            metavar="SECONDS",
            min=0,
            help="Keep asking for up to this long until all proofs hold. Default: ask once.",
        ),
    ] = 0,
    allow_guarded: Annotated[
        list[str] | None,
        typer.Option(
            "--allow-guarded",
            metavar="STAGE",
            autocompletion=stage_names,
            help="Allow pipelines to be started for this guarded stage; may be repeated. Default: none.",
        ),
    ] = None,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Check running services against the declared proofs (proofs: in jar.yaml). Exit code 1 if one does not hold."""
    import asyncio

    from coinjar.actions.running.confirm import ConfirmOptions, confirm, split_names
    from coinjar.cli.main import print_error
    from coinjar.core.display import Masker

    opened = open_here(ctx, jar)
    declared = opened.load([])
    stages, names = split_names(declared, where or [])
    if every_stage:
        stages = declared.stage_names()
    if not stages:
        raise UsageError("which stage?", hint="name one or more, or add --every-stage")
    options = ConfirmOptions(wait, known_stages(declared, allow_guarded, "--allow-guarded"))
    results = asyncio.run(confirm(opened, stages, names, Masker(), options))
    if as_json:
        print_json({"proofs": [_as_json(result) for result in results]})
    else:
        _show(results, stages)
    for result in results:
        if result.fault:
            print_error(result.fault)
    faults = [result.fault for result in results if result.fault]
    if faults or not all(result.holds for result in results):
        raise typer.Exit(
            faults[0].exit_code if faults and all(result.holds or result.fault for result in results) else 1
        )


def _show(results: list[ProofResult], stages: list[str]) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width
    from coinjar.core.display import visible

    failed = sum(not result.holds for result in results)
    head = (
        f"{counted(len(results), 'proof')} asked, all hold"
        if not failed
        else f"{failed} of {counted(len(results), 'proof')} not as expected"
    )
    show(styled(head, "bold red" if failed else "bold"))
    proofs = list(dict.fromkeys(result.proof.name for result in results))
    by_place = {(result.proof.name, result.stage): result for result in results}
    rows = []
    for name in proofs:
        cells = []
        for stage in stages:
            outcome = by_place.get((name, stage))
            if outcome is None:
                cells.append(StyledText("–", "dim"))
            elif outcome.verdict is None:
                cells.append(StyledText("! not asked", "red"))
            elif outcome.holds:
                cells.append(StyledText(f"✓ {visible(outcome.verdict.actual)}", "green"))
            else:
                cells.append(StyledText(f"‼ {visible(outcome.verdict.actual)}", "red"))
        rows.append([StyledText(name), *cells])
    for line in (
        table(["proof", *stages], rows, least=[12, *[14] * len(stages)], width=terminal_width()) if rows else []
    ):
        show(line)
    for result in results:
        if result.verdict is not None and not result.holds:
            about = f" ({result.proof.about})" if result.proof.about else ""
            show(
                styled(
                    f"{result.proof.name} on {result.stage}{about}: {visible(result.verdict.actual)}, expected "
                    f"{visible(result.verdict.expected)}",
                    "red",
                )
            )


def _as_json(result: ProofResult) -> dict[str, Any]:
    messages = {
        "proof": result.proof.name,
        "stage": result.stage,
        "service": result.proof.service,
        "holds": result.holds,
    }
    values = (
        {"found": result.verdict.actual, "expected": result.verdict.expected}
        if result.verdict
        else {"found": None, "expected": None}
    )
    return messages | values | {"error": result.fault.message if result.fault else None}
