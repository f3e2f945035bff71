"""Remove values from a jar, or whole variables."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.editing.value_changes import ValueChanges, layer_path
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.secrets.known_secrets import closed
from coinjar.core.errors import CoinJarError, InputError, raise_all
from coinjar.core.model import Jar
from coinjar.core.names import ALL, SHARED
from coinjar.core.references import Template
from coinjar.crypto.sealed_file import changed, parse
from coinjar.destinations.document_places import names_in_places
from coinjar.documents.edit import Edit, apply
from coinjar.documents.spelling_reader import spelled_exactly
from coinjar.documents.tree import build_tree
from coinjar.documents.yamltext import compose
from coinjar.jarfile.journal import replace_all
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import load_declarations, read_bytes, value_layers
from coinjar.jarfile.local_folder import locked, own_files
from coinjar.jarfile.sealed_files import read_sealed_file
from coinjar.system.files import display_path


class DroppedValue(NamedTuple):
    """One value that was removed."""

    name: str
    layer: str
    scope: str
    is_sealed: bool = False
    is_mine: bool = False


def drop(
    opened: OpenJar,
    names: Sequence[str],
    stages: Sequence[str],
    *,
    services: Sequence[str],
    mine: bool,
    only_plan: bool = False,
) -> list[DroppedValue]:
    """Remove values from the layers of these stages. Return what was removed; with `only_plan`, what would be."""
    with locked(opened.folder, "drop"):
        jar = opened.load()
        for name in names:
            jar.variable(name)
        for service in services:
            jar.service(service)
        change = ValueChanges(opened, jar)
        gone = []
        for stage in stages:
            if stage != SHARED:
                jar.stage(stage)
            own = opened.load([stage], mine=stage).mine if mine else jar.plain
            for name in names:
                scopes = services or (
                    [ALL, *jar.variables[name].scopes_for(ALL)] if jar.variables[name].secret and not mine else [ALL]
                )
                for scope in dict.fromkeys(scopes):
                    if name in own.get(stage, {}).get(scope, {}):
                        change.drop(stage, scope, name, mine=mine)
                        gone.append(DroppedValue(name, stage, scope, is_mine=mine))
        if not only_plan:
            change.commit()
    return gone


def where_set(opened: OpenJar, names: Sequence[str]) -> list[DroppedValue]:
    """Return every value of the names, declared or not, in the jar's files: plain, encrypted, and a person's own
    (`.local`).

    Raises UsageError for a name that is neither declared nor set, InputError for a file that cannot be read, and if
    anything still refers to one.
    """
    jar = load_declarations(opened.folder)
    found = list(_set_in(opened.folder, names, _old_names(jar, names)))
    for name in names:
        if not any(dropped.name == name for dropped in found):
            jar.variable(name)
    whole = _other_faults(opened, names)
    raise_all([fault for name in names for fault in _still_named(jar if whole is None else whole, name, names)])
    return found


def drop_everywhere(opened: OpenJar, names: Sequence[str]) -> list[DroppedValue]:
    """Remove whole variables: every value, then the declaration.

    Raises InputError, with nothing changed, if anything still refers to one.

    This also removes a name with values and without a declaration, which makes a jar invalid.
    """
    folder = opened.folder
    with locked(folder, "drop"):
        gone = where_set(opened, names)
        declared = load_declarations(folder)
        files = {
            path: (old, apply(old, display_path(path), edits))
            for path, edits in _removals(folder, declared, gone, names)
            for old in [read_bytes(path)]
        }
        for layer in dict.fromkeys(dropped.layer for dropped in gone if dropped.is_sealed):
            path = JarLayout(folder).sealed(layer)
            old = read_sealed_file(path) or b""
            going = {*names, *_old_names(declared, names)}
            lines = {entry.slot: None for entry in parse(old, display_path(path)) if entry.name in going}
            files[path] = (old, changed(old, display_path(path), lines))  # no key is needed for that
        replace_all(folder, files)
        try:
            opened.load()
        except CoinJarError:
            replace_all(folder, {path: (new, old) for path, (old, new) in files.items()})
            raise
    return gone


def _other_faults(opened: OpenJar, names: Sequence[str]) -> Jar | None:
    """Return the jar with its values, to look for references; None if only the names to remove make it invalid.

    Raises every other fault.
    """
    try:
        return opened.load()
    except CoinJarError as fault:
        raise_all([error for error in fault.each() if error.code != "unknown-variable" or error.subject not in names])
        return None


def unread_values(opened: OpenJar, names: Sequence[str]) -> int:
    """Return how many encrypted values of other variables, unknown to this identity, may refer to these."""
    jar = _other_faults(opened, names)
    return 0 if jar is None else sum(name not in names for _, name in closed(jar))


def _removals(
    folder: Path, declared: Jar, gone: Sequence[DroppedValue], names: Sequence[str]
) -> Iterator[tuple[Path, list[Edit]]]:
    """Return what to remove from which YAML file."""
    for path in dict.fromkeys(
        layer_path(folder, dropped.layer, mine=dropped.is_mine) for dropped in gone if not dropped.is_sealed
    ):
        mine = [
            dropped
            for dropped in gone
            if not dropped.is_sealed and layer_path(folder, dropped.layer, mine=dropped.is_mine) == path
        ]
        yield path, [Edit((dropped.scope, dropped.name), None) for dropped in mine]
    if edits := [Edit(("variables", name), None) for name in names if name in declared.variables]:
        yield JarLayout(folder).declarations, edits


def _old_names(jar: Jar, names: Sequence[str]) -> dict[str, str]:
    """Return names under which values of these may still be encrypted, each with its present name."""
    return {old: name for name in names if name in jar.variables for old in jar.variables[name].formerly}


def _set_in(folder: Path, names: Sequence[str], former: Mapping[str, str]) -> Iterator[DroppedValue]:
    layout = JarLayout(folder)
    own = own_files(folder)
    for path in [*layout.plain_files(), *own]:
        data = read_bytes(path)
        compose(data, display_path(path))  # the same limits as for every file that is read
        root = build_tree(data.decode().removeprefix("\ufeff"))
        for scope in root.members if root is not None else ():
            yield from (
                DroppedValue(member.name, path.stem, scope.name, is_mine=path in own)
                for member in scope.value.members
                if member.name in names
            )
    for layer in value_layers(folder):
        path = JarLayout(folder).sealed(layer)
        if (lines := read_sealed_file(path)) is not None:
            for entry in parse(lines, display_path(path)):
                if entry.name in names or entry.name in former:
                    yield DroppedValue(former.get(entry.name, entry.name), layer, entry.scope, is_sealed=True)


def _still_named(jar: Jar, name: str, leaving: Sequence[str]) -> list[CoinJarError]:
    """Return what else refers to a variable that is to be removed."""
    places = [(group.location, f"the set '{group.name}'") for group in jar.together if name in group.members]
    places += [(accepted.location, "an accepted finding") for accepted in jar.accepted if accepted.variable == name]
    places += [(proof.location, f"the proof {proof.name}") for proof in jar.proofs.values() if name in proof.names()]
    places += [
        (destination.location, f"'names' of {destination.name}")
        for destination in jar.destinations.values()
        if name in spelled_exactly(destination.options.get("names"))
    ]
    places += [
        (destination.location, f"'{key}' of {destination.name}")
        for destination in jar.destinations.values()
        for key, listed in (
            ("variables", destination.variables),
            ("without", destination.without),
            ("places", names_in_places(destination.options.get("places"))),
        )
        if name in listed
    ]
    for variable in jar.variables.values():
        if variable.name in leaving:
            continue
        if any(other == name for other, _ in variable.only_with):
            places.append((variable.location, f"only_with of {variable.name}"))
        if variable.rotation is not None and name in variable.rotation.turns:
            places.append((variable.rotation.location, f"rotate of {variable.name}"))
        definitions = [variable.default] if variable.default else []
        definitions += [
            values[variable.name]
            for scopes in jar.plain.values()
            for values in scopes.values()
            if variable.name in values
        ]
        for definition in definitions:
            if isinstance(definition.content, Template) and any(
                reference.name == name for reference in definition.content.references()
            ):
                places.append((definition.location, f"the value of {variable.name}"))
    return [
        InputError(f"{what} still refers to {name}", hint="change that first", location=location, code="still-named")
        for location, what in places
    ]
