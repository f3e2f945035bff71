"""Create an identity, and show its recipient."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

from coinjar.core.errors import InputError
from coinjar.core.secret import reveal
from coinjar.crypto.age import new_identity, protect
from coinjar.jarfile.identities import checked_passphrase, default_path, write_identity
from coinjar.system.files import home_path
from coinjar.system.version_control import OPEN, TRACKED, states

_SHORTEST = 8


def make_identity(out: Path | None, passphrase: str | None) -> tuple[Path, str]:
    """Create an X25519 identity in a file of mode 0600, with an optional passphrase; return its path and its recipient.

    Raises InputError if the file exists, or version control could add it.
    """
    path = out or default_path()
    if passphrase is not None:
        passphrase = checked_passphrase(passphrase)
    if passphrase is not None and len(passphrase) < _SHORTEST:
        raise InputError(f"the passphrase has fewer than {_SHORTEST} characters", hint="use several words", code="weak")
    if states([path])[path] in (OPEN, TRACKED):
        hint = "create it outside the repository, or add it to .gitignore first"
        raise InputError(
            f"version control does not ignore {home_path(path)}, and an identity must never be committed",
            hint=hint,
            code="tracked",
        )
    key, recipient = new_identity()
    text = f"# created: {datetime.now(UTC):%Y-%m-%dT%H:%M:%SZ}\n# public key: {recipient}\n{reveal(key)}\n".encode()
    write_identity(path, protect(text, passphrase) if passphrase is not None else text)
    return path, recipient
