"""Encrypted values that two branches changed: after a merge the file has both, and somebody takes one."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import SealedEntry, SealedValue
from coinjar.core.errors import CoinJarError, UsageError
from coinjar.crypto.sealed_file import parse
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import load_declarations, read_bytes
from coinjar.jarfile.local_folder import locked
from coinjar.jarfile.sealed_files import replace_sealed_file
from coinjar.system.files import display_path
from coinjar.system.revisions import RevisionFiles, commit_named


class MergedVersion(NamedTuple):
    """One of the values: its line, the value, and which side of the merge it is from ("" if unknown)."""

    entry: SealedEntry
    value: SealedValue
    origin: str


class MergedValue(NamedTuple):
    """A value with more than one line."""

    stage: str
    scope: str
    name: str
    versions: list[MergedVersion]


def merged_values(opened: OpenJar) -> list[MergedValue]:
    """Return every encrypted value that has several lines. Raises InputError for a file that cannot be read."""
    jar = load_declarations(opened.folder)
    layout = JarLayout(opened.folder)
    ring = opened.ring()
    sides = _sides(opened)
    result = []
    for path in sorted(layout.sealed_folder.glob("*.coins")):
        stage, shown = path.stem, display_path(path)
        slots: dict[tuple[str, str], list[SealedEntry]] = {}
        for entry in parse(read_bytes(path), shown):
            slots.setdefault(entry.slot, []).append(entry)
        for (scope, name), entries in slots.items():
            if len(entries) > 1:
                versions = [
                    MergedVersion(entry, ring.open(jar, stage, entry, shown), _origin(entry, stage, sides))
                    for entry in entries
                ]
                result.append(MergedValue(stage, scope, name, versions))
    return result


def _sides(opened: OpenJar) -> dict[str, Mapping[str, bytes]]:
    """Return the jar's files on both sides of the last merge; none outside version control or without a merge."""
    for pair in ({"ours": "HEAD", "theirs": "MERGE_HEAD"}, {"ours": "HEAD^1", "theirs": "HEAD^2"}):
        try:
            files = RevisionFiles(opened.folder)
            return {side: files.at(commit_named(opened.folder, revision)) for side, revision in pair.items()}
        except CoinJarError:
            continue
    return {}


def _origin(entry: SealedEntry, stage: str, sides: Mapping[str, Mapping[str, bytes]]) -> str:
    return next(
        (side for side, files in sides.items() if entry.sealed.encode() in files.get(f"coins/{stage}.coins", b"")), ""
    )


def take(opened: OpenJar, value: MergedValue, number: int) -> None:
    """Keep one version of a value, counted from 1, and remove the lines of the others.

    Raises UsageError for a number that does not exist, and if the file has changed since.
    """
    if not 1 <= number <= len(value.versions):
        raise UsageError(f"there is no version {number}", hint=f"they are 1 to {len(value.versions)}", code="version")
    kept = value.versions[number - 1].entry
    path = JarLayout(opened.folder).sealed(value.stage)
    with locked(opened.folder, "resolve"):
        data = read_bytes(path)
        entries = [entry for entry in parse(data, display_path(path)) if entry.slot == (value.scope, value.name)]
        if entries != [version.entry for version in value.versions]:
            raise UsageError("the file was changed meanwhile", hint="run it again", code="changed-meanwhile")
        gone = {entry.line for entry in entries if entry.line != kept.line}
        lines = data.split(b"\n")
        replace_sealed_file(path, b"\n".join(line for at, line in enumerate(lines, 1) if at not in gone))
