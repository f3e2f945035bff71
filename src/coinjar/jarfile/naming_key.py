"""The key for the names of Kubernetes Secrets, so that a name reveals nothing of its content."""

from __future__ import annotations

import os
import re
import secrets
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.core.errors import InputError, Location
from coinjar.core.names import ALL
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes
from coinjar.jarfile.local_folder import require_own_local
from coinjar.system.files import display_path, locked_file, replace_file

if TYPE_CHECKING:
    from coinjar.jarfile.sealed_values import Ring

VARIABLE = "COINJAR_NAMING_KEY"


def _sealed_on(folder: Path, layers: Sequence[str]) -> str | None:
    """Return the nearest layer that has a key of its own with a naming key in it."""
    return next((layer for layer in reversed(layers) if JarLayout(folder).key(layer, ALL).exists()), None)


def has_naming_key(folder: Path, layers: Sequence[str]) -> bool:
    """Return whether there is a naming key: sealed, in the environment, or local."""
    return (
        bool(os.environ.get(VARIABLE))
        or _sealed_on(folder, layers) is not None
        or JarLayout(folder).naming_key.exists()
    )


def local_naming_key(folder: Path) -> bytes | None:
    """Return the key of .local/naming.key, which a stage's first sealed key adopts; None if there is none.

    Raises InputError.
    """
    path = JarLayout(folder).naming_key
    require_own_local(folder)
    return (
        _key(read_bytes(path).decode(errors="replace").strip(), Location(display_path(path))) if path.exists() else None
    )


def _key(text: str, location: Location) -> bytes:
    if not re.fullmatch(r"[0-9a-f]{64}", text):
        raise InputError("this is not a naming key", hint="it is 64 hex digits", location=location, code="naming-key")
    return bytes.fromhex(text)


def naming_key(folder: Path, layers: Sequence[str], ring: Ring | None, *, make: bool) -> bytes:
    """Return 32 bytes: from COINJAR_NAMING_KEY (64 hex digits), else the key sealed with the nearest layer, else from
    .local/naming.key.

    All readers of a stage have the sealed one, and a change of keys keeps it. The local one is created on first use,
    where secrets come only from outside the jar. Without `make` a new one is not stored: its names will differ later.
    Whoever renders with another key gets other names, and with them a rollout. Raises DecryptionError, InputError.
    """
    path = JarLayout(folder).naming_key
    location = Location(VARIABLE)
    text = os.environ.get(VARIABLE, "")
    if not text:
        layer = _sealed_on(folder, layers)
        if layer is not None and ring is not None and (sealed := ring().naming_key(layer)):
            return sealed
        location = Location(display_path(path))
        require_own_local(folder)
        if not path.exists() and not make:
            return secrets.token_bytes(32)
        if not path.exists():
            with locked_file(path.with_name("naming.lock")):  # the first deliveries of several processes use one key
                if not path.exists():
                    replace_file(path, (secrets.token_hex(32) + "\n").encode(), mode=0o600)
        text = read_bytes(path).decode(errors="replace").strip()
    return _key(text, location)
