"""What the commands for stages, services and the application share: renames and lists."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer

from coinjar.cli.common import ask_to_go_on, counted, print_json, warn_unread
from coinjar.cli.opening import complete_interrupted, print_status
from coinjar.core.name_change import APPLICATION, COMMANDS, STAGE, NameChange

if TYPE_CHECKING:
    from collections.abc import Sequence

    from coinjar.actions.open_jar import OpenJar
    from coinjar.actions.structure.copy_part import PartCopy
    from coinjar.actions.structure.planned_files import PlannedFiles
    from coinjar.actions.structure.remove_part import PartRemoval
    from coinjar.actions.structure.rename_part import PartRename
    from coinjar.documents.removal import Path

DryRunOption = Annotated[bool, typer.Option("--dry-run", help="Only show what would change.")]


AboutOption = Annotated[str, typer.Option("--about", metavar="TEXT", help="What it is for, in one line.")]
WithoutSecretsOption = Annotated[
    bool, typer.Option("--without-secrets", help="Do not copy encrypted values. Needs no identity.")
]


class PlanOptions(NamedTuple):
    """What to do with a plan: only show it, write it without asking, print it as JSON."""

    dry_run: bool
    yes: bool
    as_json: bool


def rename_part(opened: OpenJar, change: NameChange, how: PlanOptions) -> None:
    """Show a rename, ask, and write it."""
    from coinjar.actions.structure.rename_part import apply_rename, plan_rename
    from coinjar.system.version_control import repository_of

    complete_interrupted(opened)
    renaming = plan_rename(opened, change)
    if how.as_json:
        print_json(_rename_json(renaming))
    if not list(renaming.files.changes()):
        print_status(f"Nothing to change: everything of {change.new} has this name.")
        return
    if not how.as_json:
        _show_rename(renaming)
    if change.what != APPLICATION and repository_of(opened.folder) is None:
        print_status("scripts that call coinjar with the old name were not looked for: this is no git repository")
    finish_plan(dry_run=how.dry_run)
    ask_to_go_on("Write this?", yes=how.yes)
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


def copy_part(opened: OpenJar, what: str, old: str, new: str, how: PlanOptions, *, secrets: bool) -> None:
    """Show a copy, ask, and write it."""
    from coinjar.actions.structure.copy_part import apply_copy, plan_copy

    complete_interrupted(opened)
    copy = plan_copy(opened, what, old, new, secrets=secrets)
    if how.as_json:
        counts = {"values": copy.values, "secrets": copy.secrets, "readers": copy.readers, "left_out": copy.left_out}
        print_json({"what": what, "old": old, "new": new, "files": _files_json(copy.files), **counts})
    else:
        _show_copy(copy)
    finish_plan(dry_run=how.dry_run)
    ask_to_go_on("Write this?", yes=how.yes)
    apply_copy(opened, copy)
    print_status("Copied. Commit jar/." + (f" Next: `coinjar compare {old} {new}`" if what == STAGE else ""))


def _show_copy(copy: PartCopy) -> None:
    from coinjar.cli.tables import show, styled

    what, old, new = copy.what, copy.old, copy.new
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


def remove_part(opened: OpenJar, what: str, name: str, how: PlanOptions) -> None:
    """Show a removal, ask, and write it."""
    from coinjar.actions.structure.remove_part import plan_service_removal, plan_stage_removal

    complete_interrupted(opened)
    removal = (plan_stage_removal if what == STAGE else plan_service_removal)(opened, name)
    if how.as_json:
        counts = {"values": removal.values, "secrets": removal.secrets}
        lists = {"entries": removal.entries, "idle": removal.idle, "stays_at": removal.stays_at}
        print_json({"what": what, "name": name, "files": _files_json(removal.files), **counts, **lists})
    else:
        _show_removal(removal)
    if removal.stays_at:
        print_status(f"what was delivered to {', '.join(removal.stays_at)} stays there: remove it there")
    warn_unread(removal.unread, name)
    finish_plan(dry_run=how.dry_run)
    ask_to_go_on(f"Remove the {what} {name}?", yes=how.yes)
    removal.files.write(opened, f"{COMMANDS[removal.what]} remove")
    print_status(f"Removed the {what} {name}. Commit jar/. `coinjar undo` and version control have its values.")


def _show_removal(removal: PartRemoval) -> None:
    from coinjar.cli.tables import show, styled

    what, name = removal.what, removal.name
    secret = f", {removal.secrets} of them encrypted" if removal.secrets else ""
    show(styled(f"{what} {name}: {counted(removal.values, 'value')} to remove{secret}", "bold"))
    show_files(removal.files)
    if removal.entries:
        show(f"removed from jar.yaml as a whole: {', '.join(removal.entries)}")
    if removal.idle:
        names = " ".join(removal.idle)
        show(f"no {what} has {', '.join(removal.idle)} then: `coinjar drop {names} --everywhere` removes them")


def finish_plan(*, dry_run: bool) -> None:
    """End the command after a plan was shown that is not to be written, with 1: there is something to do."""
    if dry_run:
        raise typer.Exit(1)


def _rename_json(renaming: PartRename) -> dict[str, Any]:
    what, old, new = renaming.change
    return {
        "what": what,
        "old": old,
        "new": new,
        "files": _files_json(renaming.files),
        "encrypted_again": sum(renaming.encrypted_again.values()),
        "kept_there": renaming.kept_there,
        "left": [
            {
                "file": left.location.file,
                "line": left.location.line,
                "column": left.location.column,
                "reason": left.reason,
            }
            for left in renaming.left
        ],
    }


def _show_rename(renaming: PartRename) -> None:
    from coinjar.cli.tables import show, styled

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


def _grouped(places: Sequence[Path]) -> list[str]:
    """Return the sections of jar.yaml with places in them, and the names of the entries."""
    result: dict[str, list[str]] = {}
    for path in places:
        result.setdefault(str(path[0]), []).extend(str(step) for step in path[1:2] if path[0] not in _ALONE)
    return [f"{section} ({', '.join(dict.fromkeys(names))})" if names else section for section, names in result.items()]


_ALONE = frozenset({"stages", "services", "accepted", "app"})
"""Sections whose entries are not listed one by one."""


def _files_json(files: PlannedFiles) -> list[dict[str, str]]:
    from coinjar.system.files import display_path

    targets = set(files.moves.values())
    rows = []
    for path, old, new in files.changes():
        if path in files.moves:
            rows.append({"path": display_path(path), "action": "move", "to": display_path(files.moves[path])})
        elif path not in targets:
            verb = "create" if old is None else "remove" if new is None else "change"
            rows.append({"path": display_path(path), "action": verb})
    return rows


def show_files(files: PlannedFiles) -> None:
    """Print one line per file that is written, moved or removed."""
    from coinjar.cli.tables import show

    for row in _files_json(files):
        show(f"  {row['path']} → {row['to']}" if row["action"] == "move" else f"  {row['action']} {row['path']}")
