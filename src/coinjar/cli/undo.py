"""`coinjar undo`."""

from __future__ import annotations

import typer

from coinjar.cli.common import JarOption, YesOption, ask_to_go_on, complete_interrupted, open_here, print_status
from coinjar.cli.structure import DryRunOption, finish_plan


def run(
    ctx: typer.Context,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    jar: JarOption = None,
) -> None:
    """Undo your last change of the jar: every file gets its exact bytes back. Asks first.

    Refuses if a file was changed after it. Running systems and consents are not changed.
    """
    from coinjar.cli.tables import show, styled
    from coinjar.jarfile.last_change import read_last_change, undo
    from coinjar.jarfile.local_folder import locked
    from coinjar.system.files import display_path

    opened = open_here(ctx, jar)
    complete_interrupted(opened)
    change = read_last_change(opened.folder)
    show(styled(f"undo of `{change.command}` from {change.when:%Y-%m-%d %H:%M:%S} UTC", "bold"))
    for path, old in change.files.items():
        verb = "remove" if old is None else "restore"
        show(f"  {verb} {display_path(path)}")
    finish_plan(dry_run=dry_run)
    ask_to_go_on("Undo it?", yes=yes)
    with locked(opened.folder):
        undo(opened.folder, read_last_change(opened.folder))
    print_status("Undone.")
