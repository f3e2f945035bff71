"""`coinjar migrate`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    counted,
    known_stages,
    open_here,
    print_json,
    service_names,
    stage_names,
)
from coinjar.cli.opening import complete_interrupted, print_status
from coinjar.core.errors import InputError, UsageError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from coinjar.actions.delivery.deliver import Delivery
    from coinjar.actions.delivery.outcome import DeliveryOutcome
    from coinjar.actions.migration.migration import Migration
    from coinjar.actions.migration.sheet_builder import DraftSheet
    from coinjar.actions.open_jar import OpenJar

_GROUPS = {
    "carried": ("carried", "green", "="),
    "renamed": ("under another name", "yellow", "»"),
    "replaced": ("with another value", "yellow", "≠"),
    "left_behind": ("not moved", "dim", "-"),
    "supplied": ("supplied there", "cyan", "·"),
    "to_be_given": ("to be given", "red", "?"),
}


def run(
    ctx: typer.Context,
    ends: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="FROM TO [PATH]...", help="dest:NAME, dest:NAME@STAGE or a source; then code to search."
        ),
    ] = None,
    out: Annotated[str | None, typer.Option("--out", metavar="SHEET", help="The file to write the sheet to.")] = None,
    execute: Annotated[
        str | None,
        typer.Option("--execute", metavar="SHEET", help="Execute this sheet; an interrupted run continues."),
    ] = None,
    stage: Annotated[
        list[str] | None,
        typer.Option(
            "--stage",
            metavar="STAGE",
            autocompletion=stage_names,
            help="Only this stage; OLD=NEW: rename the stage; may be repeated. Default: all of FROM.",
        ),
    ] = None,
    service: Annotated[
        str | None,
        typer.Option(
            "--service",
            "-s",
            metavar="SERVICE",
            autocompletion=service_names,
            help="Their service, if FROM has no services.",
        ),
    ] = None,
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="With --execute: change nothing, show what would change.")
    ] = False,
    requests: Annotated[bool, typer.Option("--requests", help="With --dry-run: show the requests, masked.")] = False,
    restart: Annotated[
        bool,
        typer.Option(
            "--restart",
            help="Restart or redeploy what must read the new values, and wait for it. Default: report it as pending.",
        ),
    ] = False,
    empty_source: Annotated[
        bool,
        typer.Option(
            "--empty-source", help="After verification, remove the variables at the old place. Default: keep them."
        ),
    ] = False,
    allow_guarded: Annotated[
        list[str] | None,
        typer.Option(
            "--allow-guarded",
            metavar="STAGE",
            help="Change this guarded stage without asking; may be repeated. Default: ask.",
        ),
    ] = None,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask. Default: ask on a terminal.")] = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Move a set of variables to another place: write a sheet that lists what happens to each, then --execute it.

    The old place is only read, unless --empty-source is given.
    """
    import asyncio

    opened = _opened(ctx, jar)
    if execute is None:
        if out is None or len(ends or []) < 2:
            raise UsageError(
                "from where, to where, and into which sheet?",
                hint="`coinjar migrate FROM TO --out move.yaml`; then --execute move.yaml",
            )
        asyncio.run(_make(opened, list(ends or []), Path(out), stage or [], service, as_json=as_json))
        return
    from coinjar.actions.migration.migration import Migration, MigrationOptions
    from coinjar.jarfile.sheets import read_sheet

    if opened:
        complete_interrupted(opened)

    if requests and not dry_run:
        raise UsageError("--requests requires --dry-run", hint="add --dry-run: then only reading requests are sent")
    if requests and as_json:
        raise UsageError("--requests has no JSON form", hint="omit --json")
    options = MigrationOptions(restart, empty_source, list(ends or []))
    migration = Migration(opened, read_sheet(Path(execute)), options)
    if as_json:
        asyncio.run(_apply_as_json(migration, allow_guarded, dry_run=dry_run, yes=yes))
    else:
        asyncio.run(_apply(migration, allow_guarded, dry_run=dry_run, requests=requests, yes=yes))


async def _apply(
    migration: Migration, allow_guarded: list[str] | None, *, dry_run: bool, requests: bool, yes: bool
) -> None:
    """Show the sheet, check it against the old place, ask, and execute it."""
    _summary(migration)
    await migration.inspect()
    if dry_run:
        await _rehearse(migration, requests=requests)
        return
    jar = migration.reader.jar
    _ask(migration, known_stages(jar, allow_guarded, "--allow-guarded") if jar else [], yes=yes)
    await _execute(migration)


def _opened(ctx: typer.Context, jar: str | None) -> OpenJar | None:
    try:
        return open_here(ctx, jar)
    except InputError as fault:
        if fault.code != "no-jar" or jar:
            raise
        return None


async def _apply_as_json(migration: Migration, allow_guarded: list[str] | None, *, dry_run: bool, yes: bool) -> None:
    """Do the same, and print what happened at each target."""
    from coinjar.cli import migration_json

    await migration.inspect()
    if dry_run:
        shown, is_refused = await migration_json.rehearsed(migration)
    else:
        jar = migration.reader.jar
        _ask(migration, known_stages(jar, allow_guarded, "--allow-guarded") if jar else [], yes=yes)
        shown, is_refused = await migration_json.executed(migration)
    print_json(shown)
    if is_refused:
        raise typer.Exit(1 if dry_run else 5)


async def _make(
    opened: OpenJar | None, ends: list[str], out: Path, stages: list[str], service: str | None, *, as_json: bool
) -> None:
    from coinjar.actions.migration.sheet_builder import SheetBuilder
    from coinjar.jarfile.sheets import write_sheet

    draft = await SheetBuilder(opened, ends[0], ends[1], stages, ends[2:], service).sheet()
    write_sheet(out, ends[0], ends[1], draft.stages, draft.entries, draft.digests, draft.pointings, service)
    if as_json:
        from coinjar.cli.migration_json import drafted

        print_json(drafted(draft, out))
    else:
        _show_made(draft)
    print_status(
        f"Wrote {out}. Review it, move lines to other groups if necessary, then run `coinjar migrate --execute {out} "
        "--dry-run`."
    )


def _show_made(draft: DraftSheet) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    counts = [
        f"{number} {_GROUPS[group][0]}"
        for group in _GROUPS
        if (number := sum(entry.group == group for entry in draft.entries))
    ]
    counts += [f"{len(draft.pointings)} to repoint"] if draft.pointings else []
    show(styled(f"{draft.old.label} → {draft.new.label}: {', '.join(counts) or 'nothing there'}", "bold"))
    rows = [
        [
            StyledText(_GROUPS[entry.group][2], _GROUPS[entry.group][1]),
            StyledText(
                entry.variable if entry.new_name == entry.variable else f"{entry.variable} → {entry.new_name}", "bold"
            ),
            StyledText(", ".join(entry.where)),
            StyledText(entry.why),
        ]
        for entry in draft.entries
    ]
    rows += [
        [
            StyledText("→", "yellow"),
            StyledText(pointing.variable, "bold"),
            StyledText(f"{pointing.stage}/{pointing.scope}"),
            StyledText(pointing.why),
        ]
        for pointing in draft.pointings
    ]
    for line in (
        table(["", "variable", "where", "what happens to it"], rows, least=[1, 16, 14, 30], width=terminal_width())
        if rows
        else []
    ):
        show(line)
    for note in draft.notes:
        print_status(note)


def _summary(migration: Migration) -> None:
    from coinjar.cli.tables import show, styled

    sheet = migration.sheet
    counts = [f"{len(sheet.of(group))} {words}" for group, (words, _, _) in _GROUPS.items() if sheet.of(group)]
    counts += [f"{len(sheet.repointed)} to repoint"] if sheet.repointed else []
    show(styled(f"{sheet.source} → {sheet.target}: {', '.join(counts)}", "bold"))


def _ask(migration: Migration, allowed: list[str], *, yes: bool) -> None:
    """Ask for a guarded stage's name, or for consent. Raises UsageError without it."""
    guarded = [
        stage
        for stage in migration.reader.stages
        if migration.reader.jar and migration.reader.jar.stage(stage).guarded and stage not in allowed
    ]
    if guarded:
        raise UsageError(
            f"{guarded[0]} is guarded; nothing was done", hint=f"add --allow-guarded {guarded[0]}", code="guarded"
        )
    if not yes and not (sys.stdin.isatty() and typer.confirm("Do this?", err=True)):
        print_status("Nothing was done." + ("" if sys.stdin.isatty() else " Add --yes to do it."))
        raise typer.Exit(1)


def _tell(stage: str, outcomes: Sequence[DeliveryOutcome]) -> None:
    from coinjar.cli.delivery_output import show_errors, show_outcomes
    from coinjar.cli.tables import show

    show(f"\n{stage}")
    show_outcomes(outcomes, dry=False)
    show_errors([(outcome.label, outcome.fault) for outcome in outcomes if outcome.fault])


async def _execute(migration: Migration) -> None:
    from coinjar.cli.tables import show, styled

    await migration.run(print_status, _tell)
    done = len(migration.sheet.lines) - len(migration.failed)
    if migration.failed:
        show(
            styled(
                f"\n{counted(len(migration.failed), 'step')} failed; run it again after correcting that",
                "bold red",
            )
        )
        for words in dict.fromkeys(migration.failed):
            print_status(f"  {words}")
        raise typer.Exit(5)
    show(
        styled(
            f"\nall {done} changes applied as planned; {migration.sheet.path} contains the outcome of each",
            "bold",
        )
    )


async def _rehearse(migration: Migration, *, requests: bool) -> None:
    """Execute the sheet on a copy of the jar, and only inspect the new place."""
    from coinjar.actions.migration.jar_update import JarUpdate
    from coinjar.actions.migration.rehearsal import rehearsal
    from coinjar.cli.delivery_output import show_changes, show_errors, show_outcomes, show_requests
    from coinjar.core.display import Masker

    with rehearsal(migration) as copy:
        if copy is None:
            print_status("Nothing is sent: the new place is a file.")
            return
        await copy.reader.read()
        for note in await JarUpdate(copy).prepare():
            print_status(note)
        is_refused = False
        for stage in copy.reader.stages:
            delivery = copy.rehearse(stage)

            def report(planned: list[DeliveryOutcome], stage: str = stage, delivery: Delivery = delivery) -> None:
                print(f"\n{stage}")
                show_changes(planned, Masker())
                if requests:
                    show_requests(delivery)
                show_outcomes(planned, dry=True)
                show_errors([(outcome.label, outcome.fault) for outcome in planned if outcome.fault])

            outcomes = await delivery.run(report=report, dry_run=True)
            is_refused = is_refused or any(outcome.fault for outcome in outcomes)
        if is_refused:
            raise typer.Exit(1)
