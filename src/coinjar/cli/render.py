"""`coinjar render`."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    ByDefaultOption,
    DialectOption,
    JarOption,
    JsonOption,
    SecretsOption,
    ServiceOption,
    WithOption,
    counted,
    open_here,
    print_by_default,
    print_json,
    render_names,
)
from coinjar.cli.opening import print_status
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.actions.open_jar import OpenJar
    from coinjar.actions.output.render_files import RenderPlan
    from coinjar.core.display import Masker


def run(
    ctx: typer.Context,
    where: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="STAGE [DEST]...",
            autocompletion=render_names,
            help="The stage, then destinations (default: all).",
        ),
    ] = None,
    dialect: DialectOption = None,
    service: ServiceOption = None,
    with_: WithOption = None,
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="Write nothing: print a unified diff, secrets masked.")
    ] = False,
    verify: Annotated[bool, typer.Option("--verify", help="Write nothing: exit 1 if a file is out of date.")] = False,
    encrypt_to: Annotated[
        list[str] | None,
        typer.Option(
            "--encrypt-to",
            metavar="RECIPIENT",
            help="With exec-script: only for it; may be repeated.",
        ),
    ] = None,
    keep_set: Annotated[bool, typer.Option("--keep-set", help="With exec-script: keep what is already set.")] = False,
    every_stage: Annotated[bool, typer.Option("--every-stage", help="Render all stages, one after the other.")] = False,
    move_up: Annotated[
        bool,
        typer.Option("--move-up", help="In documents, move repeated entries one level up."),
    ] = False,
    stale: Annotated[bool, typer.Option("--stale", help="List the objects of manifests that nothing uses.")] = False,
    keep: Annotated[
        int | None,
        typer.Option("--keep", metavar="N", min=0, help="With --stale: how many of each to keep (3)."),
    ] = None,
    by_default: ByDefaultOption = False,
    show_secrets: SecretsOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Write the files of destinations (jar.yaml, destinations), or with --as one service's variables to stdout.

    Each value reaches the real reader byte for byte, or is refused by name. Nothing is written if anything is wrong.
    """
    from coinjar.cli.environment_printer import EnvironmentPrinter
    from coinjar.core.display import Masker

    names = list(where or [])
    if dialect is not None:
        _refuse_with_dialect(dry_run or verify or move_up or stale or as_json, names[0 if every_stage else 1 :])
        printing = EnvironmentPrinter(
            open_here(ctx, jar),
            dialect,
            service,
            with_ or [],
            show_secrets=show_secrets,
            by_default=by_default,
            keep_set=keep_set,
        )
        printing.run(None if every_stage else names, encrypt_to or [])
        return
    if service or with_ or encrypt_to or keep_set:
        raise UsageError(
            "--service, --with, --encrypt-to and --keep-set require --as",
            hint="a destination has services and keep_set in jar.yaml",
        )
    if keep is not None and not stale:
        raise UsageError("--keep requires --stale", hint="omit it")
    opened = open_here(ctx, jar)
    if not every_stage and not names:
        raise UsageError("which stage?", hint="name one, or add --every-stage")
    stages = opened.load([]).stage_names() if every_stage else [names.pop(0)]
    masker = Masker(show_secrets=show_secrets)
    if stale:
        _list_stale(opened, stages, names, masker, keep)
        return
    plan = _plan(opened, stages, names, masker, move_up=move_up, only_looks=dry_run or verify)
    if as_json:
        print_json(_as_json(plan))
    elif dry_run:
        _show_differences(plan, opened)
    else:
        _show(plan, verify=verify)
    _tell(plan)
    if by_default:
        _tell_by_default(opened, stages, names)
    if verify and plan.out_of_date:
        raise typer.Exit(1)


def _tell_by_default(opened: OpenJar, stages: list[str], names: list[str]) -> None:
    """Print what takes its default, of each service of the named destinations, of all if none is named."""
    for stage in stages:
        resolver = opened.resolver(stage)
        destinations = resolver.jar.destinations
        chosen = [destinations[name] for name in names] or list(destinations.values())
        for service in resolver.jar.services:
            if any(destination.services is None or service in destination.services for destination in chosen):
                print_by_default(resolver, service)


def _refuse_with_dialect(unfit: bool, more: list[str]) -> None:
    if unfit or more:
        raise UsageError(
            "--as writes to stdout, one service's variables",
            hint="omit --as for destinations: --dry-run, --verify, --move-up, --stale, --json require them",
        )


def _plan(
    opened: OpenJar,
    stages: list[str],
    names: list[str],
    masker: Masker,
    *,
    move_up: bool,
    only_looks: bool,
) -> RenderPlan:
    from coinjar.actions.output.render_files import plan, write
    from coinjar.cli.progress import progress

    if only_looks:
        return plan(opened, stages, names, masker, move_up=move_up, progress=progress())
    return write(opened, stages, names, masker, move_up=move_up, progress=progress())


def _list_stale(opened: OpenJar, stages: list[str], names: list[str], masker: Masker, keep: int | None) -> None:
    from coinjar.actions.output.render_files import stale
    from coinjar.system.files import display_path

    for path in stale(opened, stages, names, masker, keep):
        print(display_path(path))


def _show(plan: RenderPlan, *, verify: bool) -> None:
    from coinjar.actions.output.render_files import CHANGED, NEW
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width
    from coinjar.system.files import display_path

    changed = len(plan.out_of_date)
    total = counted(len(plan.files), "file")
    if verify:
        show(styled(f"{changed} of {total} out of date" if changed else _up_to_date(len(plan.files)), "bold"))
    else:
        show(styled(f"{counted(changed, 'file')} written, {len(plan.files) - changed} already up to date", "bold"))
    marks = {NEW: StyledText("+", "green"), CHANGED: StyledText("≠", "yellow")}
    rows = []
    for file in plan.out_of_date:
        private = StyledText(
            "0600" if file.output.secret and not file.output.program else "0700" if file.output.secret else "", "cyan"
        )
        rows.append(
            [
                marks[file.state],
                StyledText(display_path(file.path)),
                StyledText(file.destination, "dim"),
                StyledText(file.output.about),
                private,
            ]
        )
    for line in (
        table(
            ["", "file", "destination", "content", ""],
            rows,
            least=[1, max(len(display_path(file.path)) for file in plan.out_of_date), 10, 16, 4],
            width=terminal_width(),
        )
        if rows
        else []
    ):
        show(line)


def _up_to_date(files: int) -> str:
    return f"all {files} files up to date" if files != 1 else "the file is up to date"


def _show_differences(plan: RenderPlan, opened: OpenJar) -> None:
    from coinjar.actions.output.render_files import shown_difference
    from coinjar.actions.secrets.known_secrets import secret_texts
    from coinjar.cli.tables import show, styled
    from coinjar.core.redaction import Redactor

    redactor = Redactor(secret_texts(opened, opened.load()) if plan.out_of_date else {})
    styles = {"+": "green", "-": "red", "@": "cyan"}
    for file in plan.out_of_date:
        for number, line in enumerate(shown_difference(file, redactor)):
            show(styled(line, "bold" if number < 2 else styles.get(line[:1], "")))
    if not plan.out_of_date:
        print_status(f"coinjar: {_up_to_date(len(plan.files))}")


def _tell(plan: RenderPlan) -> None:
    """Print remarks on the destinations to stderr."""
    from coinjar.core.display import visible

    if plan.notices and sys.stdout.isatty():
        print_status("")
    for _, diagnostic in plan.notices:
        print_status(f"{diagnostic.location}: {visible(diagnostic.message)}")
        print_status(f"    {visible(diagnostic.hint)}")


def _as_json(plan: RenderPlan) -> dict[str, Any]:
    from coinjar.system.files import display_path

    return {
        "files": [
            {
                "path": display_path(file.path),
                "destination": file.destination,
                "stage": file.stage,
                "state": file.state,
                "secret": file.output.secret,
            }
            for file in plan.files
        ],
        "notices": [
            {
                "message": diagnostic.message,
                "fix": diagnostic.hint,
                "file": diagnostic.location.file,
                "line": diagnostic.location.line,
                "column": diagnostic.location.column,
            }
            for _, diagnostic in plan.notices
        ],
    }
