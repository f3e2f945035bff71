"""Rename a stage, a service or the application everywhere in the jar; also where it was renamed by hand, in part.

Running systems keep the name that they know (`stage_names`, `service_names`), and deliveries stay recorded under the
first name (`formerly`): a rename in the jar changes nothing that runs.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import Path as FilePath
from typing import NamedTuple

from yaml.nodes import ScalarNode

from coinjar.actions.editing.rename_edits import UnchangedUse
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.structure.planned_files import PlannedFiles
from coinjar.actions.structure.sealed_names import SealedRename
from coinjar.core.consent import Act
from coinjar.core.errors import Location, UsageError
from coinjar.core.model import Destination, Jar
from coinjar.core.name_change import APPLICATION, COMMANDS, SERVICE, STAGE, NameChange
from coinjar.core.names import name_fault, suggestion
from coinjar.core.placeholders import fill
from coinjar.destinations import file_class_of, is_live
from coinjar.documents.edit import Edit, apply
from coinjar.documents.removal import Path
from coinjar.documents.tree import TreeNode, build_tree
from coinjar.documents.yamltext import one_line
from coinjar.jarfile.declarations import read_declarations
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes
from coinjar.jarfile.local_folder import own_files
from coinjar.jarfile.name_places import in_jar_yaml, in_values, names_in
from coinjar.system.files import display_path
from coinjar.system.version_control import lines_with

_SECTIONS = {STAGE: "stages", SERVICE: "services"}


class PartRename(NamedTuple):
    """A planned rename: its files, where jar.yaml names the part, the number of values that are encrypted again by
    stage, and what stays unchanged. `is_repair`: jar.yaml had the new name already.
    """

    change: NameChange
    files: PlannedFiles
    places: list[Path]
    encrypted_again: dict[str, int]
    kept_there: list[str]
    left: list[UnchangedUse]
    acts: list[Act]
    is_repair: bool


def plan_rename(opened: OpenJar, change: NameChange) -> PartRename:
    """Compute a rename without changing anything.

    Raises UsageError for a name that does not exist or cannot be used, InputError, DecryptionError.
    """
    layout = JarLayout(opened.folder)
    files = PlannedFiles()
    data = read_bytes(layout.declarations)
    shown = display_path(layout.declarations)
    root = build_tree(data.decode().removeprefix("\ufeff"))
    if root is None or root.kind != "map":
        read_declarations(data, shown)
        raise AssertionError("a jar without declarations is refused")
    is_repair = _check_names(root, change)
    places = [place.path for place in names_in(root, change.what, change.old)]
    former = _formerly(root, change)
    text = apply(in_jar_yaml(data, shown, change), shown, former)
    after = read_declarations(text, shown)
    kept = _names_there(after, change, is_back=_is_back(root, change))
    files.set(layout.declarations, apply(text, shown, [edit for _, edit in kept]))
    for path in [*layout.plain_files(), *own_files(opened.folder)]:
        old = files.read(path)
        assert old is not None, "listed before"
        files.move(path, path.with_stem(change.stage(path.stem)), in_values(old, display_path(path), change))
    sealed = SealedRename(opened, files, change, after.app)
    sealed.plan()
    _move_inputs(after, layout.folder.parent, files, change)
    if is_repair and former and not _has_old_name(files, sealed, places):
        raise _unknown(root, change)
    left = [*sealed.left, *_commands(layout.folder, change)]
    return PartRename(
        change, files, places, sealed.encrypted_again, [name for name, _ in kept], left, sealed.acts, is_repair
    )


def apply_rename(opened: OpenJar, renaming: PartRename) -> None:
    """Write a planned rename. Raises InputError with nothing changed, ExternalError."""
    renaming.files.write(opened, f"{COMMANDS[renaming.change.what]} rename")
    opened.gate.record(*renaming.acts)


def _declared(root: TreeNode, what: str) -> list[str]:
    if what == APPLICATION:
        app = root.child("app")
        return [app.text] if app is not None else []
    section = root.child(_SECTIONS[what])
    return [member.name for member in section.plain.members] if section is not None else []


def _check_names(root: TreeNode, change: NameChange) -> bool:
    """Return whether jar.yaml has the new name already: then the rest follows it. Raises UsageError."""
    what, old, new = change
    if old == new:
        raise UsageError(f"{old} is its name already", hint="give another name", code="name")
    if message := name_fault(what, new) or ("a pattern cannot be renamed" if "*" in f"{old}{new}" else None):
        raise UsageError(f"'{new}': {message}", hint="choose another name", code="name")
    known = _declared(root, what)
    if old in known and new in known:
        raise UsageError(f"there is already a {what} '{new}'", hint="choose another name", code="exists")
    if old in known:
        return False
    if new in known:  # renamed by hand: at least what is encrypted has the old name
        return True
    raise _unknown(root, change)


def _unknown(root: TreeNode, change: NameChange) -> UsageError:
    known = _declared(root, change.what)
    hint = suggestion(change.old, known, f"declared are {', '.join(known) or 'none'}")
    return UsageError(f"there is no {change.what} '{change.old}'", hint=hint, code=f"unknown-{change.what}")


def _has_old_name(files: PlannedFiles, sealed: SealedRename, places: Sequence[Path]) -> bool:
    """Return whether anything has the old name although jar.yaml has the new one: otherwise it is a typing error."""
    declarations = JarLayout(sealed.opened.folder).declarations
    others = [path for path, _, _ in files.changes() if path != declarations]
    return bool(places or others or sealed.left)


def _formerly(root: TreeNode, change: NameChange) -> list[Edit]:
    """Return the edit that records the earlier name."""
    section = () if change.what == APPLICATION else (_SECTIONS[change.what],)
    path = (*section, change.new, "formerly") if section else ("formerly",)
    had = _former_names(root, change)
    names = change.earlier_names(had)
    return [Edit(path, [*names] if names else None, keeps=2)] if tuple(names) != had else []


def _former_names(root: TreeNode, change: NameChange) -> tuple[str, ...]:
    """Return the earlier names in jar.yaml, of the old name or, where it was renamed by hand, of the new one."""
    for name in (change.old, change.new):
        node: TreeNode | None = root
        for step in (_SECTIONS[change.what], name) if change.what != APPLICATION else ():
            node = node.plain.child(step) if node is not None else None
        listed = node.plain.child("formerly") if node is not None and node.plain.kind == "map" else None
        if listed is not None:
            return tuple(element.text for element in listed.elements)
    return ()


def _is_back(root: TreeNode, change: NameChange) -> bool:
    """Return whether the new name is an earlier one."""
    return change.new in _former_names(root, change)


def _names_there(after: Jar, change: NameChange, *, is_back: bool) -> list[tuple[str, Edit]]:
    """Return the running systems that keep the old name, with the edits of jar.yaml that say so."""
    if change.what == APPLICATION:
        return []
    result = []
    key = f"{change.what}_names"
    for name, destination in after.destinations.items():
        there = _there(destination, key, change.new)
        if not is_live(destination):
            continue
        if there == change.new and is_back:  # as before the rename that is taken back
            result.append((name, Edit(("destinations", name, key, change.new), None, keeps=2)))
        elif there is None and _is_for(after, destination, change) and _depends_on_name(destination, change.what):
            result.append((name, Edit(("destinations", name, key, change.new), change.old)))
    return result


def _is_for(jar: Jar, destination: Destination, change: NameChange) -> bool:
    if change.what == SERVICE:
        return destination.services is None or change.new in destination.services
    followers = [name for name in jar.stages if "*" not in name and change.new in jar.chain(name)]
    return destination.stages is None or bool({*jar.chain(change.new), *followers} & destination.stages)


def _there(destination: Destination, key: str, name: str) -> str | None:
    """Return the name there that jar.yaml gives; None if it gives none."""
    node = destination.options.get(key)
    pairs = node.value if node is not None and isinstance(node.value, list) else []
    return next((str(value.value) for known, value in pairs if known.value == name), None)


def _depends_on_name(destination: Destination, what: str) -> bool:
    options = " ".join(one_line(node) for node in destination.options.values())
    return destination.type == "platform" or f"{{{what}}}" in options


def _move_inputs(after: Jar, base: FilePath, files: PlannedFiles, change: NameChange) -> None:
    """Move the files that people write and Coin Jar reads, where their paths contain the name."""
    if change.what == APPLICATION:
        return
    for destination in after.destinations.values():
        made = None if is_live(destination) else file_class_of(destination)
        node = destination.options.get(made.input_option) if made is not None and made.input_option else None
        if not isinstance(node, ScalarNode) or f"{{{change.what}}}" not in node.value:
            continue
        for stage, service in _pairs(after, change):
            names = {"stage": stage, "service": service}
            new = base / fill(node.value, **names)
            old = base / fill(node.value, **names | {change.what: change.old})
            for path in sorted(old.rglob("*")) if old.is_dir() else [old]:
                data = files.read(path) if path.is_file() and not path.is_symlink() else None
                target = new / path.relative_to(old) if path != old else new
                if data is not None and path not in files.moves:
                    files.move(path, target, data)


def _pairs(after: Jar, change: NameChange) -> Iterator[tuple[str, str]]:
    for stage in [change.new] if change.what == STAGE else [name for name in after.stages if "*" not in name]:
        for service in [change.new] if change.what == SERVICE else after.services:
            yield stage, service


def _commands(folder: FilePath, change: NameChange) -> Iterator[UnchangedUse]:
    """Return the lines outside the jar that call coinjar with the old name: scripts and pipelines."""
    if change.what == APPLICATION:
        return
    word = re.compile(rf"(?<![\w./-]){re.escape(change.old)}(?![\w./-])")
    for path, number, line in lines_with(folder.parent, f"coinjar.*{change.old}"):
        if folder not in path.parents and word.search(line):
            yield UnchangedUse(
                Location(display_path(path), number, 1), f"calls coinjar with {change.old}: change it by hand"
            )
