"""The key under which the names of Kubernetes Secrets are made, so that a name gives nothing away of what is in it."""

from __future__ import annotations

import os
import re
import secrets
from pathlib import Path

from coinjar.core.errors import InputError, Place
from coinjar.jarfile.load import read_bytes, shown_path
from coinjar.jarfile.store import LOCAL, replace_file

VARIABLE = "COINJAR_NAMING_KEY"


def key_path(folder: Path) -> Path:
    """Where a jar's key lies."""
    return folder / LOCAL / "naming.key"


def has_naming_key(folder: Path) -> bool:
    """Whether there is one, here or in the environment."""
    return bool(os.environ.get(VARIABLE)) or key_path(folder).exists()


def naming_key(folder: Path, *, make: bool) -> bytes:
    """32 bytes: from COINJAR_NAMING_KEY (64 hex digits), else from .local/naming.key, which is made at its first use.

    Without `make` a new one is only thought of: what it names will have other names later.

    Whoever renders with another key gets other names, and with them a rollout: machines that take turns share one.
    """
    path = key_path(folder)
    place = Place(VARIABLE)
    text = os.environ.get(VARIABLE, "")
    if not text:
        place = Place(shown_path(path))
        if not path.exists() and not make:
            return secrets.token_bytes(32)
        if not path.exists():
            replace_file(path, (secrets.token_hex(32) + "\n").encode(), mode=0o600)
        text = read_bytes(path).decode(errors="replace").strip()
    if not re.fullmatch(r"[0-9a-f]{64}", text):
        raise InputError("this is no naming key", hint="it is 64 hex digits", place=place, code="naming-key")
    return bytes.fromhex(text)
