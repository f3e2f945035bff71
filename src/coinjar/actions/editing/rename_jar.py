"""Rename variables in the jar's own readable files: jar.yaml, plain values, the user's own values, platforms."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path

from coinjar.actions.editing.rename_edits import EditedFile, PlacedEdits, RenameOptions, UnchangedUse
from coinjar.actions.open_jar import OpenJar
from coinjar.core.model import Jar
from coinjar.documents.edit import Edit, apply
from coinjar.documents.writer import Plain
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes, value_layers
from coinjar.jarfile.local_folder import own_files
from coinjar.jarfile.renaming import in_description, in_jar_yaml, in_values
from coinjar.system.files import display_path


def edits_of_jar(
    opened: OpenJar, jar: Jar, renames: Mapping[str, str], options: RenameOptions, again: Mapping[str, str]
) -> PlacedEdits:
    """Return the edits of the jar's files. `again` are renames that an earlier run has declared already."""
    unchanged = [
        UnchangedUse(jar.variables[old].location, f"{by} sets {old} itself, and does not use the name {new}")
        for old, new in renames.items()
        if old in jar.variables
        for by in jar.variables[old].supplied_by
    ]
    return PlacedEdits(list(_jar_files(opened.folder, jar, renames, options, again)), unchanged)


def _jar_files(
    folder: Path, jar: Jar, renames: Mapping[str, str], options: RenameOptions, again: Mapping[str, str]
) -> Iterator[EditedFile]:
    path = JarLayout(folder).declarations
    old = read_bytes(path)
    new = in_jar_yaml(old, display_path(path), renames)
    edits = []
    for before, now in renames.items():
        variable = jar.variables[now if before in again else before]
        also = [alias for alias in variable.also_as if alias != now]
        is_gone = before not in renames.values()  # otherwise it is another variable's name now
        if options.keep_old and is_gone and before not in also and before not in again:
            also.append(before)
        formerly = [
            name
            for name in dict.fromkeys([*variable.formerly, *([before] if is_gone else [])])
            if name not in renames.values()
        ]
        for key, names, had in (("also_as", also, variable.also_as), ("formerly", formerly, variable.formerly)):
            if tuple(names) != had:
                listed: Plain | None = [*names] if names else None
                edits.append(Edit(("variables", now, key), listed, keeps=2))
    yield EditedFile(path, old, apply(new, display_path(path), edits) if edits else new)
    for layer in value_layers(folder):
        yield from _values(JarLayout(folder).plain(layer), renames)
    for path in own_files(folder):
        yield from _values(path, renames)
    for path in JarLayout(folder).platform_files():
        data = read_bytes(path)
        yield EditedFile(path, data, in_description(data, display_path(path), renames))


def _values(path: Path, renames: Mapping[str, str]) -> Iterator[EditedFile]:
    if path.exists():
        data = read_bytes(path)
        if data.strip():
            yield EditedFile(path, data, in_values(data, display_path(path), renames))
