"""The last step of a rename: release the old name."""

from __future__ import annotations

from collections.abc import Sequence

from coinjar.actions.open_jar import OpenJar
from coinjar.core.errors import InputError, UsageError
from coinjar.core.model import Jar, Variable
from coinjar.crypto.sealed_file import parse
from coinjar.documents.edit import Edit, apply
from coinjar.jarfile.journal import replace_all
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import load_declarations, read_bytes, value_layers
from coinjar.jarfile.local_folder import locked
from coinjar.system.files import display_path


def finish_old(opened: OpenJar, names: Sequence[str]) -> list[str]:
    """Stop exporting old names: remove them from `also_as` and `formerly`.

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
        edits = []
        for owner in {variable.name: variable for variable in owners.values()}.values():
            for key in ("also_as", "formerly"):
                kept = [item for item in getattr(owner, key) if item not in names]
                if len(kept) != len(getattr(owner, key)):
                    edits.append(Edit(("variables", owner.name, key), [*kept] if kept else None, keeps=2))
        path = JarLayout(opened.folder).declarations
        data = read_bytes(path)
        replace_all(opened.folder, {path: (data, apply(data, display_path(path), edits))})
    return [
        f"{owner.name} is the only name that services get"
        for owner in {variable.name: variable for variable in owners.values()}.values()
    ]


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
