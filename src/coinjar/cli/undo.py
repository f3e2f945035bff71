"""`coinjar undo`."""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from coinjar.cli.common import JarOption, JsonOption, YesOption, ask_to_go_on, open_here, print_json
from coinjar.cli.opening import complete_interrupted, print_status
from coinjar.cli.structure import DryRunOption, finish_plan

if TYPE_CHECKING:
    from coinjar.jarfile.last_change import LastChange


def run(
    ctx: typer.Context,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Undo your last change of the jar: every file gets its exact bytes back. Asks first.

    Refuses if a file was changed after it. Running systems, readers and consents are not changed.
    """
    from coinjar.jarfile.last_change import read_last_change, undo
    from coinjar.jarfile.local_folder import locked
    from coinjar.system.files import display_path

    opened = open_here(ctx, jar)
    complete_interrupted(opened)
    change = read_last_change(opened.folder)
    rows = [
        {"path": display_path(path), "action": "remove" if old is None else "restore"}
        for path, old in change.files.items()
    ]
    if as_json:
        print_json({"command": change.command, "when": change.when.isoformat(), "files": rows})
    else:
        _show(change, rows)
    finish_plan(dry_run=dry_run)
    ask_to_go_on("Undo it?", yes=yes)
    with locked(opened.folder):
        undo(opened.folder, read_last_change(opened.folder))
    print_status("Undone.")


def _show(change: LastChange, rows: list[dict[str, str]]) -> None:
    from coinjar.cli.tables import show, styled

    show(styled(f"undo of `{change.command}` from {change.when:%Y-%m-%d %H:%M:%S} UTC", "bold"))
    for row in rows:
        show(f"  {row['action']} {row['path']}")
