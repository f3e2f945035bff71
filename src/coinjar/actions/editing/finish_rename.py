"""The last step of a rename: release the old name."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from coinjar.actions.editing.rename_sealed import has_earlier_names
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.secrets.known_secrets import is_closed
from coinjar.core.errors import CoinJarError, InputError, Location, UsageError, raise_all
from coinjar.core.model import Jar, Variable
from coinjar.crypto.sealed_file import parse
from coinjar.documents.edit import Edit, apply
from coinjar.jarfile.journal import replace_all
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import load_declarations, read_bytes, value_layers
from coinjar.jarfile.local_folder import locked
from coinjar.system.files import display_path


def finish_old(opened: OpenJar, names: Sequence[str]) -> tuple[list[str], int]:
    """Stop exporting old names: remove them from `also_as` and `formerly`.

    Return the names that remain, and how many values are encrypted for others, so that their references are not known.
    Raises UsageError for a name that is neither, InputError for one that is still used in the encrypted values.
    """
    with locked(opened.folder, "rename"):
        jar = load_declarations(opened.folder)
        owners = {old: _owner_of(jar, old) for old in names}
        for old, owner in owners.items():
            if still := _still_sealed(opened, old):
                hint = f"somebody who can decrypt {still} must first run `coinjar rename {old} {owner.name}`"
                raise InputError(
                    f"{old} is still encrypted under that name on {still}",
                    hint=hint,
                    location=owner.location,
                    code="still-named",
                )
        unread = _require_no_references(opened, jar, owners)
        edits = []
        for owner in {variable.name: variable for variable in owners.values()}.values():
            for key in ("also_as", "formerly"):
                kept = [item for item in getattr(owner, key) if item not in names]
                if len(kept) != len(getattr(owner, key)):
                    edits.append(Edit(("variables", owner.name, key), [*kept] if kept else None, keeps=2))
        path = JarLayout(opened.folder).declarations
        data = read_bytes(path)
        replace_all(opened.folder, {path: (data, apply(data, display_path(path), edits))})
    return list(dict.fromkeys(owner.name for owner in owners.values())), unread


def _owner_of(jar: Jar, old: str) -> Variable:
    """Return the variable that had this name. Raises UsageError."""
    owner = jar.current_owner(old)
    if owner is None:
        kept = sorted({name for variable in jar.variables.values() for name in (*variable.also_as, *variable.formerly)})
        raise UsageError(
            f"no variable had the name {old}",
            hint=f"former names: {', '.join(kept) or 'none'}",
            code="unknown-variable",
        )
    return owner


def _still_sealed(opened: OpenJar, name: str) -> str | None:
    for layer in value_layers(opened.folder):
        path = JarLayout(opened.folder).sealed(layer)
        if path.exists() and any(entry.name == name for entry in parse(read_bytes(path), display_path(path))):
            return layer
    return None


def _require_no_references(opened: OpenJar, jar: Jar, owners: Mapping[str, Variable]) -> int:
    """Return how many values are encrypted for others.

    Raises InputError for every text that refers to an old name: nobody could read it without that name;
    DecryptionError without consent to decrypt.
    """
    from coinjar.actions.secrets.transaction import SealedTransaction

    sealing, unread, faults = SealedTransaction(opened, jar), 0, list[CoinJarError]()
    for layer in value_layers(opened.folder):
        path = display_path(JarLayout(opened.folder).sealed(layer))
        for entry in sealing.lines(layer):
            unread += is_closed(sealing.ring.open(jar, layer, entry, path).content)
            faults += [
                InputError(
                    f"the encrypted value of {entry.name} on {layer} still refers to {old}",
                    hint=f"first run `coinjar rename {old} {owner.name}`",
                    location=Location(path, entry.line, 1),
                    code="still-named",
                )
                for old, owner in owners.items()
                if has_earlier_names(jar, sealing, layer, entry, {old})
            ]
    raise_all(faults)
    return unread
