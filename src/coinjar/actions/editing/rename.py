"""Rename variables everywhere: in the jar, in encrypted values, in documents, templates and code. All or nothing.

`plan` finds every place and makes one list of edits; the caller shows it; `apply_edits` writes it.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from coinjar.actions.editing.rename_check import check_names
from coinjar.actions.editing.rename_code import edits_of_code
from coinjar.actions.editing.rename_edits import EditedFile, PlacedEdits, RenameEdits, RenameOptions
from coinjar.actions.editing.rename_jar import edits_of_jar
from coinjar.actions.editing.rename_sealed import edits_of_sealed
from coinjar.actions.open_jar import OpenJar
from coinjar.core.errors import CoinJarError, InputError
from coinjar.jarfile.journal import replace_all
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import value_layers
from coinjar.jarfile.local_folder import locked


def plan(opened: OpenJar, renames: Mapping[str, str], options: RenameOptions) -> RenameEdits:
    """Compute a rename without changing anything.

    Raises UsageError for invalid names, InputError for files that cannot be changed.
    """
    jar = opened.load()
    again = {
        old: new
        for old, new in renames.items()
        if old not in jar.variables and new in jar.variables and old in jar.variables[new].formerly
    }
    check_names(jar, {old: new for old, new in renames.items() if old not in again})
    places = [edits_of_jar(opened, jar, renames, options, again), edits_of_sealed(opened, jar, renames)]
    if not options.jar_only:
        places.append(edits_of_code(opened, jar, renames, options))
    return _together(renames, places)


def _together(renames: Mapping[str, str], places: list[PlacedEdits]) -> RenameEdits:
    """Return all edits as one list, each file once."""
    files: dict[Path, EditedFile] = {}
    for edits in places:
        for file in edits.files:
            files.setdefault(file.path, file)
    return RenameEdits(
        dict(renames),
        [file for file in files.values() if file.old != file.new],
        sum(edits.sealed for edits in places),
        [use for edits in places for use in edits.unchanged],
    )


def apply_edits(opened: OpenJar, renames: Mapping[str, str], options: RenameOptions, shown: RenameEdits) -> None:
    """Write the edits in `shown`. Raises InputError, with nothing changed, if anything has changed since."""
    with locked(opened.folder, "rename"):
        now = plan(opened, renames, options)
        sealed = {JarLayout(opened.folder).sealed(layer) for layer in value_layers(opened.folder)}
        if _facts(now, sealed) != _facts(shown, sealed):
            raise InputError("something was changed meanwhile", hint="run it again", code="changed-meanwhile")
        replace_all(opened.folder, {file.path: (file.old, file.new) for file in now.files})
        try:
            opened.load()
        except CoinJarError as fault:
            replace_all(opened.folder, {file.path: (file.new, file.old) for file in now.files})
            raise InputError(
                f"the jar would not be valid any more ({fault}); nothing was changed",
                hint="please report this, and rename by hand",
                code="edit",
            ) from None


def _facts(rename_edits: RenameEdits, sealed: set[Path]) -> list[object]:
    return [
        (file.path, file.old, None if file.path in sealed else file.new) for file in rename_edits.files
    ]  # encryption gives a different text each time
