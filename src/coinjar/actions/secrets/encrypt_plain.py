"""Encrypt secrets that are stored in plain text, and re-encrypt those that too many scopes can decrypt."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from coinjar.actions.editing.value_changes import ValueChanges
from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import Content
from coinjar.core.errors import CoinJarError, InputError, raise_all
from coinjar.core.names import ALL, SHARED
from coinjar.core.rules.secrets import in_plain_text
from coinjar.documents.edit import Edit
from coinjar.jarfile.local_folder import locked


class EncryptedValue(NamedTuple):
    """One value that was encrypted; `file` is where it was in plain text, None if it was encrypted for too many
    services.
    """

    name: str
    layer: str
    file: str | None


class EncryptResult(NamedTuple):
    """What was encrypted, what could not be (name and reason), remarks on new keys."""

    encrypted: list[EncryptedValue]
    skipped: list[tuple[str, str]]
    notes: list[str]


def seal(opened: OpenJar, stages: Sequence[str] | None) -> EncryptResult:
    """Encrypt plain secrets of these stages (None: of all, and defaults, which go to `shared`). Placeholders stay.

    Raises InputError for a name that is also encrypted, with a different text; DecryptionError for a stage that is not
    ours with something to encrypt.
    """
    with locked(opened.folder):
        change = ValueChanges(opened, opened.load())
        faults: list[CoinJarError] = []
        moved = [
            value
            for layer in (change.jar.plain if stages is None else stages)
            for value in [*_plain(change, layer, faults), *_too_wide(change, layer)]
        ]
        raise_all(faults)
        left: list[tuple[str, str]] = []
        if stages is None:
            moved += _defaults(change, left)
        change.commit()
    return EncryptResult(moved, left, change.notes)


def _plain(change: ValueChanges, layer: str, faults: list[CoinJarError]) -> list[EncryptedValue]:
    moved = []
    for scope, values in change.plain(layer).items():
        for name, definition in values.items():
            if change.jar.variables[name].secret and in_plain_text(change.jar, definition.content):
                if fault := _contradiction(change, layer, scope, name, definition.content):
                    faults.append(fault)
                else:
                    change.put(layer, scope, name, definition.content, set_on="")
                    moved.append(EncryptedValue(name, layer, definition.file))
    return moved


def _contradiction(change: ValueChanges, layer: str, scope: str, name: str, content: Content) -> InputError | None:
    """Return the fault of an encrypted value with the same name and layer but a different text."""
    wanted = change.jar.variables[name].scopes_for(scope)
    if not any(coin.name == name for coin in change.sealing.lines(layer)):
        return None
    for entry in change.sealing.opened(layer, wanted):
        if entry.entry.name == name and entry.value.content != content:
            location = change.plain(layer)[scope][name].location
            hint = "remove the wrong one: the line here, or the encrypted one with `coinjar drop`"
            return InputError(
                f"{name} is also encrypted, with a different text", hint=hint, location=location, code="both"
            )
    return None


def _too_wide(change: ValueChanges, layer: str) -> list[EncryptedValue]:
    """Return what is encrypted for `all` but declared for some services: it is encrypted for those without a value of
    their own.
    """
    there = {coin.slot for coin in change.sealing.lines(layer)}
    wide = {name for scope, name in there if scope == ALL and change.jar.variables[name].services is not None}
    for entry in change.sealing.opened(layer, [ALL]) if wide else ():
        if entry.entry.name in wide:
            for service in change.jar.variables[entry.entry.name].scopes_for(ALL):
                if (service, entry.entry.name) not in there:
                    change.sealing.put_value(layer, service, entry.entry.name, entry.value)
            change.sealing.drop(layer, ALL, entry.entry.name)
    return [EncryptedValue(name, layer, None) for name in sorted(wide)]


def _defaults(change: ValueChanges, left: list[tuple[str, str]]) -> list[EncryptedValue]:
    """Move a secret's default in jar.yaml to an encrypted value in `shared`, if that has no value yet."""
    shared_names = {name for values in change.jar.plain.get(SHARED, {}).values() for name in values}
    moved = []
    for name, variable in change.jar.variables.items():
        if variable.secret and variable.default is not None and in_plain_text(change.jar, variable.default.content):
            if name in shared_names:
                left.append(
                    (name, "its default in jar.yaml stays, because shared has a value: remove the default by hand")
                )
                continue
            change.put(SHARED, ALL, name, variable.default.content, set_on="")
            change.declarations.append(Edit(("variables", name, "default"), None, keeps=2))
            moved.append(EncryptedValue(name, SHARED, variable.default.file))
    return moved
