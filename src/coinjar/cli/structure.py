"""What the commands for stages, services and the application share: renames and lists."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from coinjar.cli.common import ask_to_go_on, complete_interrupted, counted, print_status
from coinjar.core.name_change import APPLICATION, COMMANDS, STAGE, NameChange

if TYPE_CHECKING:
    from collections.abc import Sequence

    from coinjar.actions.open_jar import OpenJar
    from coinjar.actions.structure.planned_files import PlannedFiles
    from coinjar.actions.structure.rename_part import PartRename
    from coinjar.documents.removal import Path

DryRunOption = Annotated[bool, typer.Option("--dry-run", help="Only show what would change.")]


AboutOption = Annotated[str, typer.Option("--about", metavar="TEXT", help="What it is for, in one line.")]
WithoutSecretsOption = Annotated[
    bool, typer.Option("--without-secrets", help="Do not copy encrypted values. Needs no identity.")
]


class CopyOptions(NamedTuple):
    """How to copy."""

    secrets: bool
    dry_run: bool
    yes: bool


def rename_part(opened: OpenJar, change: NameChange, *, dry_run: bool, yes: bool) -> None:
    """Show a rename, ask, and write it."""
    from coinjar.actions.structure.rename_part import apply_rename, plan_rename

    complete_interrupted(opened)
    renaming = plan_rename(opened, change)
    if not list(renaming.files.changes()):
        print_status(f"Nothing to change: everything of {change.new} has this name.")
        return
    _show_rename(opened, renaming)
    finish_plan(dry_run=dry_run)
    ask_to_go_on("Write this?", yes=yes)
    apply_rename(opened, renaming)
    print_status(f"Renamed. Commit jar/. Next: `coinjar check`{_next(change)}.")


def _next(change: NameChange) -> str:
    if change.what == APPLICATION:
        return "; rendered files and new objects get the new name"
    return ", and `coinjar render`: files that it wrote under the old name stay there, remove them"


def add_part(opened: OpenJar, files: PlannedFiles, what: str, name: str) -> None:
    """Write a new stage or service."""
    files.write(opened, f"{COMMANDS[what]} add")
    print_status(f"Added the {what} {name}.")
    show_files(files)


def copy_part(opened: OpenJar, what: str, old: str, new: str, how: CopyOptions) -> None:
    """Show a copy, ask, and write it."""
    from coinjar.actions.structure.copy_part import apply_copy, plan_copy
    from coinjar.cli.tables import show, styled

    complete_interrupted(opened)
    copy = plan_copy(opened, what, old, new, secrets=how.secrets)
    secret = f", {copy.secrets} of them encrypted" if copy.secrets else ""
    show(styled(f"{what} {old} copied to {new}: {counted(copy.values, 'value')}{secret}", "bold"))
    show_files(copy.files)
    if copy.readers:
        show(f"can decrypt it: {', '.join(copy.readers)}")
    if copy.left_out:
        each = "{" + what + "}"
        show(
            f"not for {', '.join(copy.left_out)}: one place for every {what} there; add {each} to it, then {new} to "
            f"{what}s in jar.yaml"
        )
    finish_plan(dry_run=how.dry_run)
    ask_to_go_on("Write this?", yes=how.yes)
    apply_copy(opened, copy)
    print_status("Copied. Commit jar/." + (f" Next: `coinjar compare {old} {new}`" if what == STAGE else ""))


def remove_part(opened: OpenJar, what: str, name: str, *, dry_run: bool, yes: bool) -> None:
    """Show a removal, ask, and write it."""
    from coinjar.actions.structure.remove_part import plan_service_removal, plan_stage_removal
    from coinjar.cli.tables import show, styled

    complete_interrupted(opened)
    removal = (plan_stage_removal if what == STAGE else plan_service_removal)(opened, name)
    secret = f", {removal.secrets} of them encrypted" if removal.secrets else ""
    show(styled(f"{what} {name}: {counted(removal.values, 'value')} to remove{secret}", "bold"))
    show_files(removal.files)
    if removal.entries:
        show(f"removed from jar.yaml as a whole: {', '.join(removal.entries)}")
    if removal.idle:
        names = " ".join(removal.idle)
        show(f"no {what} has {', '.join(removal.idle)} then: `coinjar drop {names} --everywhere` removes them")
    if removal.stays_at:
        print_status(f"what was delivered to {', '.join(removal.stays_at)} stays there: remove it there")
    finish_plan(dry_run=dry_run)
    ask_to_go_on(f"Remove the {what} {name}?", yes=yes)
    removal.files.write(opened, f"{COMMANDS[removal.what]} remove")
    print_status(f"Removed the {what} {name}. Commit jar/. `coinjar undo` and version control have its values.")


def finish_plan(*, dry_run: bool) -> None:
    """End the command after a plan was shown that is not to be written, with 1: there is something to do."""
    if dry_run:
        raise typer.Exit(1)


def _show_rename(opened: OpenJar, renaming: PartRename) -> None:
    from coinjar.cli.tables import show, styled
    from coinjar.system.version_control import repository_of

    what, old, new = renaming.change
    count = sum(renaming.encrypted_again.values())
    sealed = f", {counted(count, 'value')} encrypted again" if count else ""
    files = counted(len(list(renaming.files.changes())), "file")
    repair = ", which was renamed in part" if renaming.is_repair else ""
    show(styled(f"{what} {old} → {new}{repair}: {files} to change{sealed}", "bold"))
    show_files(renaming.files)
    if renaming.places:
        show(f"jar.yaml names it in {', '.join(_grouped(renaming.places))}")
    if renaming.kept_there:
        show(f"keeps its name {old} at: {', '.join(renaming.kept_there)} ({what}_names in jar.yaml)")
    for left in renaming.left:
        print_status(f"{left.location}: {left.reason}")
    if what != APPLICATION and repository_of(opened.folder) is None:
        print_status("scripts that call coinjar with the old name were not looked for: this is no git repository")


def _grouped(places: Sequence[Path]) -> list[str]:
    """Return the sections of jar.yaml with places in them, and the names of the entries."""
    result: dict[str, list[str]] = {}
    for path in places:
        result.setdefault(str(path[0]), []).extend(str(step) for step in path[1:2] if path[0] not in _ALONE)
    return [f"{section} ({', '.join(dict.fromkeys(names))})" if names else section for section, names in result.items()]


_ALONE = frozenset({"stages", "services", "accepted", "app"})
"""Sections whose entries are not listed one by one."""


def show_files(files: PlannedFiles) -> None:
    """Print one line per file that is written, moved or removed."""
    from coinjar.cli.tables import show
    from coinjar.system.files import display_path

    targets = set(files.moves.values())
    for path, old, new in files.changes():
        if path in files.moves:
            show(f"  {display_path(path)} → {display_path(files.moves[path])}")
        elif path not in targets:
            verb = "create" if old is None else "remove" if new is None else "change"
            show(f"  {verb} {display_path(path)}")
