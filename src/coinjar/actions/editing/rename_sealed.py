"""Rename variables in encrypted values."""

from __future__ import annotations

from collections.abc import Container, Mapping
from typing import TYPE_CHECKING

from coinjar.actions.editing.rename_edits import EditedFile, PlacedEdits, UnchangedUse
from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import Content, SealedEntry, SealedValue, Undecryptable
from coinjar.core.errors import Location, is_encrypted_for_others
from coinjar.core.model import Jar
from coinjar.core.reference_renames import in_references
from coinjar.core.references import Template, parse_template
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import value_layers
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.actions.secrets.transaction import SealedTransaction


def edits_of_sealed(opened: OpenJar, jar: Jar, renames: Mapping[str, str]) -> PlacedEdits:
    """Return encrypted values under their new names, and encrypted texts with their references renamed.

    Values that are encrypted for others stay.
    """
    from coinjar.actions.secrets.transaction import SealedTransaction

    named = {
        new: jar.variables[old if old in jar.variables else new]._replace(name=new) for old, new in renames.items()
    }
    after = jar._replace(
        variables={**jar.variables, **named}
    )  # with the old names, to which other values refer until then
    sealing = SealedTransaction(opened, after)
    moved, left = _opened(opened, jar, sealing, renames)
    for layer, scope, old, now, _ in moved:
        if now != old:
            sealing.drop(layer, scope, old)
    for layer, scope, _, now, value in moved:  # after every removal: one variable may get the name of another
        sealing.put_value(layer, scope, now, value)
    layers = value_layers(opened.folder)
    files = [
        EditedFile(JarLayout(opened.folder).sealed(layer), old, new)
        for layer in layers
        for old, new in sealing.values_of(layer)
    ]
    return PlacedEdits(files, left, len(moved))


def _opened(
    opened: OpenJar, jar: Jar, sealing: SealedTransaction, renames: Mapping[str, str]
) -> tuple[list[tuple[str, str, str, str, SealedValue]], list[UnchangedUse]]:
    """Return what must be encrypted again: layer, scope, name, new name, value; and what is encrypted for others."""
    moved, left = list[tuple[str, str, str, str, SealedValue]](), list[UnchangedUse]()
    for layer in value_layers(opened.folder):
        path = display_path(JarLayout(opened.folder).sealed(layer))
        for coin in sealing.lines(layer):
            value = sealing.ring.open(jar, layer, coin, path)
            content = value.content
            now = renames.get(coin.name, coin.name)
            if not isinstance(content, Undecryptable):
                new = _renamed(content, renames)
                if now != coin.name or new is not content or has_earlier_names(jar, sealing, layer, coin, renames):
                    moved.append((layer, coin.scope, coin.name, now, value._replace(content=new)))
            elif now != coin.name:
                if (
                    not is_encrypted_for_others(content.fault) or coin.name in renames.values()
                ):  # it would be read as the other's
                    raise content.fault
                words = (
                    f"{coin.name} keeps its old name in the encrypted values: {layer} has no value of {now} until "
                    "somebody who can decrypt it runs the same rename"
                )
                left.append(UnchangedUse(Location(path, coin.line, 1), words))
    return moved, left


def _renamed(content: Content, renames: Mapping[str, str]) -> Content:
    if isinstance(content, Template) and any(reference.name in renames for reference in content.references()):
        return parse_template(in_references(content.source, renames))
    return content


def has_earlier_names(
    jar: Jar, sealing: SealedTransaction, layer: str, entry: SealedEntry, names: Container[str]
) -> bool:
    """Return whether an encrypted text that can be read still refers to variables by these earlier names: somebody who
    could not decrypt it has renamed them.
    """
    if not any(old in names for variable in jar.variables.values() for old in variable.formerly):
        return False
    path = display_path(JarLayout(sealing.folder).sealed(layer))
    if not isinstance(sealing.ring.open(jar, layer, entry, path).content, Template):
        return False
    without = {
        name: variable._replace(formerly=tuple(old for old in variable.formerly if old not in names))
        for name, variable in jar.variables.items()
    }
    return isinstance(sealing.ring.open(jar._replace(variables=without), layer, entry, path).content, Undecryptable)
