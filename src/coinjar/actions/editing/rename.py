"""Rename variables everywhere: in the jar, in encrypted values, in documents, templates and code. All or nothing."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.actions.editing.rename_code import _others
from coinjar.actions.editing.rename_edits import EditedFile, RenameEdits, RenameOptions, UnchangedUse
from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import Content, Undecryptable
from coinjar.core.errors import CoinJarError, InputError, Location, UsageError, is_encrypted_for_others, raise_all
from coinjar.core.model import Jar
from coinjar.core.names import name_fault, shell_can_set
from coinjar.core.reference_renames import in_references
from coinjar.core.references import Template, parse_template
from coinjar.documents.edit import Edit, apply
from coinjar.documents.writer import Plain
from coinjar.jarfile.journal import finish, is_unfinished, replace_all
from coinjar.jarfile.layout import JarLayout, locked
from coinjar.jarfile.load import read_bytes, value_layers
from coinjar.jarfile.renaming import in_description, in_jar_yaml, in_values
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.actions.secrets.transaction import SealedTransaction


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
    _check(jar, {old: new for old, new in renames.items() if old not in again})
    files = list(_jar_files(opened.folder, jar, renames, options, again))
    coins, count, left = _sealed(opened, jar, renames)
    left += [
        UnchangedUse(jar.variables[old].location, f"{by} sets {old} itself, and does not use the name {new}")
        for old, new in renames.items()
        if old in jar.variables
        for by in jar.variables[old].supplied_by
    ]
    definitions = {file.path: file for file in [*files, *coins]}
    others, more = ([], []) if options.jar_only else _others(opened, jar, renames, options)
    for file in others:
        definitions.setdefault(file.path, file)
    return RenameEdits(
        dict(renames), [file for file in definitions.values() if file.old != file.new], count, [*left, *more]
    )


def carry_out(opened: OpenJar, renames: Mapping[str, str], options: RenameOptions, shown: RenameEdits) -> None:
    """Write the edits in `shown`. Raises InputError, with nothing changed, if anything has changed since."""
    with locked(opened.folder):
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


def finish_earlier(opened: OpenJar) -> list[str]:
    """Finish an interrupted rename; return the files that it still wrote."""
    if not is_unfinished(opened.folder):
        return []
    with locked(opened.folder):
        return finish(opened.folder)


def _check(jar: Jar, renames: Mapping[str, str]) -> None:
    faults: list[CoinJarError] = []
    for old, new in renames.items():
        variable = jar.variable(old)
        if words := name_fault("variable", new):
            faults.append(UsageError(words, hint="choose another name", code="name"))
        elif shell_can_set(old) and not shell_can_set(new):
            faults.append(
                UsageError(
                    f"shells cannot set {new}", hint="use A to Z, digits and '_', without a leading digit", code="name"
                )
            )
        elif new in jar.variables and new not in renames:
            faults.append(
                UsageError(
                    f"{new} is already declared",
                    hint=f"remove one of them first: `coinjar why STAGE {new}`",
                    location=jar.variables[new].location,
                )
            )
        elif new == old:
            faults.append(UsageError(f"{old} already has that name", hint="choose another", code="name"))
        owner = jar.current_owner(new)
        if owner and owner.name != variable.name and owner.name not in renames:
            faults.append(
                UsageError(
                    f"{new} is a former name of {owner.name}",
                    hint=f"`coinjar rename --finish {new}` releases it",
                    location=owner.location,
                )
            )
    double = [new for new in renames.values() if list(renames.values()).count(new) > 1]
    if double:
        faults.append(
            UsageError(
                f"two variables would have the name {double[0]}", hint="choose a different name for each", code="name"
            )
        )
    raise_all(faults)


# Showing


# The jar's own files


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
    for path in JarLayout(folder).own_files():
        yield from _values(path, renames)
    for path in JarLayout(folder).platform_files():
        data = read_bytes(path)
        yield EditedFile(path, data, in_description(data, display_path(path), renames))


def _values(path: Path, renames: Mapping[str, str]) -> Iterator[EditedFile]:
    if path.exists():
        data = read_bytes(path)
        if data.strip():
            yield EditedFile(path, data, in_values(data, display_path(path), renames))


def _sealed(opened: OpenJar, jar: Jar, renames: Mapping[str, str]) -> tuple[list[EditedFile], int, list[UnchangedUse]]:
    """Return encrypted values under their new names, and encrypted texts with their references renamed; others' values
    stay.
    """
    from coinjar.actions.secrets.transaction import SealedTransaction

    named = {
        new: jar.variables[old if old in jar.variables else new]._replace(name=new) for old, new in renames.items()
    }
    after = jar._replace(
        variables={**{name: variable for name, variable in jar.variables.items() if name not in renames}, **named}
    )
    sealing = SealedTransaction(opened, after)
    moved, left = _opened(opened, jar, sealing, renames)
    for layer, scope, old, now, _ in moved:
        if now != old:
            sealing.drop(layer, scope, old)
    for layer, scope, _, now, content in moved:  # after every removal: one variable may get the name of another
        sealing.put(layer, scope, now, content)
    layers = value_layers(opened.folder)
    files = [
        EditedFile(JarLayout(opened.folder).sealed(layer), old, new)
        for layer in layers
        for old, new in sealing.values_of(layer)
    ]
    return files, len(moved), left


def _opened(
    opened: OpenJar, jar: Jar, sealing: SealedTransaction, renames: Mapping[str, str]
) -> tuple[list[tuple[str, str, str, str, Content]], list[UnchangedUse]]:
    """Return what must be encrypted again: layer, scope, name, new name, content; and what is encrypted for others."""
    moved, left = list[tuple[str, str, str, str, Content]](), list[UnchangedUse]()
    for layer in value_layers(opened.folder):
        path = display_path(JarLayout(opened.folder).sealed(layer))
        for coin in sealing.lines(layer):
            content = sealing.ring.open(jar, layer, coin, path)
            now = renames.get(coin.name, coin.name)
            if not isinstance(content, Undecryptable):
                new = _renamed(content, renames)
                if now != coin.name or new is not content:
                    moved.append((layer, coin.scope, coin.name, now, new))
            elif now != coin.name:
                if (
                    not is_encrypted_for_others(content.fault) or coin.name in renames.values()
                ):  # it would be read as the other's
                    raise content.fault
                words = (
                    f"{coin.name} keeps its old name in the encrypted values until somebody who can decrypt {layer} "
                    "runs the same rename"
                )
                left.append(UnchangedUse(Location(path, coin.line, 1), words))
    return moved, left


def _renamed(content: Content, renames: Mapping[str, str]) -> Content:
    if isinstance(content, Template) and any(reference.name in renames for reference in content.references()):
        return parse_template(in_references(content.source, renames))
    return content


# Documents, templates and code
