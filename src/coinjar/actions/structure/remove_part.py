"""Remove a stage or a service with everything that belongs to it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from coinjar.actions.open_jar import OpenJar
from coinjar.actions.secrets.known_secrets import closed
from coinjar.actions.structure.planned_files import PlannedFiles
from coinjar.core.definition import SealedDefinition
from coinjar.core.errors import InputError, Location, UsageError
from coinjar.core.model import Jar
from coinjar.core.name_change import SERVICE, STAGE
from coinjar.core.references import Template
from coinjar.crypto.sealed_file import changed, parse
from coinjar.destinations import is_live
from coinjar.documents.edit import Edit, apply
from coinjar.documents.removal import Path, node_at
from coinjar.documents.tree import TreeNode, build_tree
from coinjar.jarfile.declarations import read_declarations
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes
from coinjar.jarfile.local_folder import own_files
from coinjar.jarfile.name_places import ELEMENT, NamePlace, names_in
from coinjar.jarfile.readers import Readers, differences, load_readers
from coinjar.system.files import display_path


class PartRemoval(NamedTuple):
    """A planned removal: its files; the numbers of values, and of encrypted ones, that are lost; entries of jar.yaml
    that are removed as a whole; variables that exist nowhere then; running systems that keep what was delivered; how
    many encrypted values, unknown to this identity, may refer to it.
    """

    what: str
    name: str
    files: PlannedFiles
    values: int
    secrets: int
    entries: list[str]
    idle: list[str]
    stays_at: list[str]
    unread: int = 0


def plan_stage_removal(opened: OpenJar, name: str) -> PartRemoval:
    """Plan the removal of a stage. Raises UsageError if another stage follows it, InputError."""
    jar = opened.load()
    jar.stage(name)
    followers = [stage.name for stage in jar.stages.values() if stage.follows == name]
    if followers:
        follow = "follows" if len(followers) == 1 else "follow"
        raise UsageError(
            f"{', '.join(followers)} {follow} {name}, and would lose its values",
            hint=f"change `follows` of {', '.join(followers)} in jar.yaml first, or remove them",
            code="followed",
        )
    layout = JarLayout(opened.folder)
    files = PlannedFiles()
    entries, idle = _plan_declarations(files, layout, STAGE, name)
    for path in [
        layout.plain(name),
        layout.own(name),
        layout.sealed(name),
        layout.approval_key(name),
        *layout.keys_folder.glob(f"{name}.*.age"),
    ]:
        if files.read(path) is not None:
            files.set(path, None)
    _plan_readers(files, layout, name)
    values, secrets = _counted(jar, {name: None})
    return PartRemoval(STAGE, name, files, values, secrets, entries, idle, _delivered_to(jar, STAGE, name))


def plan_service_removal(opened: OpenJar, name: str) -> PartRemoval:
    """Plan the removal of a service.

    Raises UsageError if something refers to it, or a reader is for it alone, InputError.
    """
    jar = opened.load()
    jar.service(name)
    _require_unused(opened, jar, name)
    layout = JarLayout(opened.folder)
    files = PlannedFiles()
    entries, idle = _plan_declarations(files, layout, SERVICE, name)
    for path in [*layout.plain_files(), *own_files(opened.folder)]:
        data = files.read(path)
        root = build_tree(data.decode().removeprefix("\ufeff")) if data else None
        if data and root is not None and root.kind == "map" and root.member(name) is not None:
            files.set(path, apply(data, display_path(path), [Edit((name,), None)]))
    for path in sorted(layout.sealed_folder.glob("*.coins")):
        data = files.read(path)
        assert data is not None, "listed before"
        gone = {entry.slot: None for entry in parse(data, display_path(path)) if entry.scope == name}
        files.set(path, changed(data, display_path(path), gone))
    for path in layout.keys_folder.glob(f"*.{name}.age"):
        files.set(path, None)
    values, secrets = _counted(jar, dict.fromkeys(jar.plain, name))
    unread = sum(scope != name for scope, _ in closed(jar))
    return PartRemoval(SERVICE, name, files, values, secrets, entries, idle, _delivered_to(jar, SERVICE, name), unread)


def _require_unused(opened: OpenJar, jar: Jar, name: str) -> None:
    if len(jar.services) == 1:
        raise UsageError(f"{name} is the only service", hint="rename it, or add another first", code="only-one")
    readers = [reader.label for reader in load_readers(opened.folder).readers.values() if reader.service == name]
    if readers:
        raise UsageError(
            f"{', '.join(readers)} can decrypt the values of {name}",
            hint=f"remove the reader first: `coinjar readers remove {readers[0]} --everywhere`",
            code="has-readers",
        )
    for rotated in jar.variables.values():
        if rotated.rotation is not None and rotated.rotation.service == name:
            raise InputError(
                f"the programs that rotate {rotated.name} get the variables of {name}",
                hint="name another service in its `rotate`, or remove that",
                location=rotated.rotation.location,
                code="still-named",
            )
    for variable, location in _referring(jar, name):
        raise InputError(
            f"the value of {variable} refers to the service {name}",
            hint="change or remove the value first",
            location=location,
            code="still-named",
        )


def _referring(jar: Jar, service: str) -> Iterator[tuple[str, Location]]:
    layers = [{"": jar.defaults}, *jar.plain.values()]
    for layer in layers:
        for scope, values in layer.items():
            for variable, definition in values.items() if scope != service else ():
                content = definition.content
                if isinstance(content, Template) and any(
                    reference.service == service for reference in content.references()
                ):
                    yield variable, definition.location


def _counted(jar: Jar, layers: dict[str, str | None]) -> tuple[int, int]:
    """Return how many values these layers have, of one scope or of all, and how many are encrypted."""
    definitions = [
        definition
        for layer, wanted in layers.items()
        for scope, values in jar.plain.get(layer, {}).items()
        if wanted in (None, scope)
        for definition in values.values()
    ]
    return len(definitions), sum(isinstance(definition, SealedDefinition) for definition in definitions)


def _plan_declarations(files: PlannedFiles, layout: JarLayout, what: str, name: str) -> tuple[list[str], list[str]]:
    """Plan jar.yaml without the name; return the entries that go as a whole, and variables that exist nowhere then."""
    declarations = layout.declarations
    data = read_bytes(declarations)
    root = build_tree(data.decode().removeprefix("\ufeff"))
    assert root is not None, "the jar was loaded"
    edits: dict[Path, Edit] = {}
    entries: dict[str, None] = {}
    for place in names_in(root, what, name):
        edit = _edit_of(root, place, name)
        edits[edit.path] = edit
        if edit.path[0] in ("proofs", "accepted") and edit.value is None and len(edit.path) == 2:
            entries[".".join(map(str, edit.path))] = None
    kept = [edit for path, edit in edits.items() if not any(path[:length] in edits for length in range(1, len(path)))]
    text = apply(data, display_path(declarations), kept) if kept else data
    read_declarations(text, display_path(declarations))
    files.set(declarations, text)
    idle = [str(path[1]) for path, edit in edits.items() if path[0] == "variables" and edit.value == []]
    return list(entries), idle


def _edit_of(root: TreeNode, place: NamePlace, name: str) -> Edit:
    """Return the edit that removes a name: with the entry that is about nothing else."""
    path = place.path
    if path[0] in ("proofs", "accepted") and path[-1] in ("service", "stage"):
        return Edit(path[:2], None, keeps=1)
    if path[:2] == ("proofs", path[1]) and "expect_on" in path and len(node_at(root, path[:-1]).members) == 1:
        return Edit(path[:2], None, keeps=1)
    if path[0] == "destinations" and "places" in path and path[-1] == "stage":
        return Edit(path[:4], None, keeps=3)
    if place.part == ELEMENT:
        left = [element.text for element in node_at(root, path[:-1]).elements if element.text != name]
        return Edit(path, None) if left else Edit(path[:-1], [])
    return Edit(path, None, keeps=1 if len(path) == 2 else 2)


def _plan_readers(files: PlannedFiles, layout: JarLayout, stage: str) -> None:
    before = load_readers(layout.folder)
    after = Readers(
        {
            label: reader._replace(opens=tuple(other for other in reader.opens if other != stage))
            for label, reader in before.readers.items()
            if set(reader.opens) != {stage}
        },
        {name: lines for name, lines in before.approvals.items() if name != stage},
    )
    edits = differences(before, after)
    data = files.read(layout.readers)
    if edits and data is not None:
        files.set(layout.readers, apply(data, display_path(layout.readers), edits))


def _delivered_to(jar: Jar, what: str, name: str) -> list[str]:
    """Return the running systems that get the stage's or service's values now: they keep what they have."""
    result = []
    for destination in jar.destinations.values():
        limits = destination.stages if what == STAGE else destination.services
        names = jar.chain(name) if what == STAGE else [name]
        if is_live(destination) and (limits is None or limits & set(names)):
            result.append(destination.name)
    return result
