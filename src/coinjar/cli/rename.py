"""`coinjar rename`."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import JarOption, JsonOption, counted, open_here, print_json, warn_unread
from coinjar.cli.opening import complete_interrupted, print_status
from coinjar.core.errors import InputError, Location, UsageError

if TYPE_CHECKING:
    from coinjar.actions.editing.rename_edits import RenameEdits
    from coinjar.actions.open_jar import OpenJar


def run(
    ctx: typer.Context,
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="OLD NEW [PATH]...", help="The names, or two patterns with one *; then more code to change."
        ),
    ] = None,
    table: Annotated[
        str | None,
        typer.Option("--table", metavar="FILE", help="Rename several: a file with OLD and NEW on each line."),
    ] = None,
    keep_old: Annotated[
        bool,
        typer.Option(
            "--keep-old", help="Also export the old name (also_as), until --finish. Default: only the new one."
        ),
    ] = False,
    finish: Annotated[
        list[str] | None,
        typer.Option("--finish", metavar="OLD", help="Stop exporting this old name; may be repeated."),
    ] = None,
    probable: Annotated[
        bool, typer.Option("--probable", help="Also rename uses that are only probable. Default: list them.")
    ] = False,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only show the changes.")] = False,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Write without asking. Default: ask on a terminal.")] = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Rename variables everywhere: declarations, values, encrypted values, references, destinations, proofs, templates,
    documents and code.

    Shows every change first. All of it is written, or nothing.
    """
    from coinjar.actions.editing import rename
    from coinjar.actions.editing.finish_rename import finish_old
    from coinjar.actions.editing.rename_edits import RenameOptions

    opened = open_here(ctx, jar)
    if complete_interrupted(opened) and not names and not table and not finish:
        return
    if finish and as_json:
        raise UsageError("--finish has no JSON form", hint="omit --json")
    if finish:
        remaining, unread = finish_old(opened, finish)
        warn_unread(unread, ", ".join(finish))
        for name in remaining:
            print_status(f"{name} is the only name that services get")
        return
    renames, paths = _asked(opened, list(names or []), table)
    options = RenameOptions(paths, keep_old, probable=probable)
    edits = rename.plan(opened, renames, options)
    print_json(_as_json(edits)) if as_json else _show(edits, opened)
    if not edits.files:
        print_status("Nothing to change.")
        return
    if dry_run:
        raise typer.Exit(1)
    if not yes and not (sys.stdin.isatty() and typer.confirm("Write this?", err=True)):
        print_status("Nothing was written." + ("" if sys.stdin.isatty() else " Add --yes to write it."))
        raise typer.Exit(1)
    rename.apply_edits(opened, renames, options, edits)
    new = ", ".join(renames.values())
    print_status(
        f"Written: {counted(len(edits.files), 'file')}. Next: `coinjar check`, `coinjar render STAGE`, then deliver: "
        f"{new} replaces the old name."
    )
    if keep_old:
        print_status(f"The old name is exported too, until `coinjar rename --finish {next(iter(renames))}`.")


def _as_json(edits: RenameEdits) -> dict[str, Any]:
    from coinjar.system.files import display_path

    return {
        "renames": [{"old": old, "new": new} for old, new in edits.renames.items()],
        "files": [display_path(file.path) for file in edits.files],
        "encrypted_again": edits.sealed,
        "left": [
            {
                "file": left.location.file,
                "line": left.location.line,
                "column": left.location.column,
                "reason": left.reason,
            }
            for left in edits.unchanged
        ],
    }


def _asked(opened: OpenJar, names: list[str], table: str | None) -> tuple[dict[str, str], list[str]]:
    """Return what is to be renamed, and the paths. Raises UsageError, InputError."""
    from coinjar.core.name_patterns import is_pattern, renamed_by_pattern

    if table is None:
        if len(names) < 2:
            raise UsageError(
                "which name, and to which?",
                hint="write `coinjar rename OLD NEW`, or --table FILE with two names on each line",
            )
        if is_pattern(names[0]):
            from coinjar.jarfile.load import load_declarations

            declared = load_declarations(opened.folder).variables
            return renamed_by_pattern(names[0], names[1], declared), names[2:]
        return {names[0]: names[1]}, names[2:]
    from pathlib import Path

    from coinjar.jarfile.load import read_bytes

    renames: dict[str, str] = {}
    for number, line in enumerate(read_bytes(Path(table)).decode(errors="replace").split("\n"), 1):
        words = line.replace(",", " ").split("#")[0].split()
        if words and (len(words) != 2 or words[0] in renames):
            message = "a line has an old and a new name, each old one once"
            raise InputError(
                message,
                hint="write OLD and NEW, separated by spaces or a comma",
                location=Location(table, number, 1),
            )
        if words:
            renames[words[0]] = words[1]
    return renames, names


def _show(edits: RenameEdits, opened: OpenJar) -> None:
    from coinjar.actions.editing.rename_diff import shown_differences
    from coinjar.cli.tables import show, styled
    from coinjar.core.display import visible

    most = 3
    pairs = ", ".join(f"{old} → {new}" for old, new in list(edits.renames.items())[:most])
    pairs += f" and {len(edits.renames) - most} more" if len(edits.renames) > most else ""
    sealed = f", {counted(edits.sealed, 'sealed value')} encrypted again" if edits.sealed else ""
    show(styled(f"{pairs}: {counted(len(edits.files), 'file')} to change{sealed}", "bold"))
    styles = {"+": "green", "-": "red", "@": "cyan"}
    for line in shown_differences(opened, edits):
        show(styled(line, styles.get(line[:1], "")) if line[:1] in styles else line)
    for left in edits.unchanged:
        print_status(f"{left.location}: {visible(left.reason)}")
