"""The identity of whoever runs Coin Jar: where it is looked for, and how its file is guarded."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable
from pathlib import Path

from coinjar.core.errors import DecryptionError, InputError, Location
from coinjar.core.secret import Secret
from coinjar.crypto.age import Identity, read_identity
from coinjar.jarfile.locate import config_folder
from coinjar.system.files import home_path

KEY, FILE, PASSPHRASE = "COINJAR_IDENTITY", "COINJAR_IDENTITY_FILE", "COINJAR_PASSPHRASE"
_LARGEST = 1 << 20

Ask = Callable[[str], str | None]
"""Asks a person for the passphrase of what is named; None where there is nobody to ask."""


def default_path() -> Path:
    """Where a user's identity lies."""
    return config_folder() / "identity"


def find_identity(ask: Ask | None) -> Identity:
    """COINJAR_IDENTITY (the key itself), else the file of COINJAR_IDENTITY_FILE, else the user's own.

    Raises DecryptionError if there is none, or it cannot be used.
    """
    if text := os.environ.get(KEY):
        return _read(os.fsencode(text), KEY, ask)
    named = os.environ.get(FILE)
    path = Path(named) if named else default_path()
    if not named and not path.exists():
        hint = f"`coinjar identity new` makes one; on a machine set {FILE} or {KEY}"
        raise DecryptionError("there is no identity here to open secrets with", hint=hint, code="no-identity")
    return _read(_guarded(path), home_path(path), ask)


def checked_passphrase(text: str) -> Secret:
    """A passphrase that was given. Raises DecryptionError if it is no text."""
    if not text.isascii():
        try:
            text.encode()
        except UnicodeEncodeError:
            raise DecryptionError(
                "the passphrase is not UTF-8 text", hint="look at what is typed, or at the locale", code="no-identity"
            ) from None
    return Secret(text)


def _guarded(path: Path) -> bytes:
    """The file's bytes. Raises DecryptionError if others can read it. A symlink is followed: clusters mount secrets so."""
    try:
        with path.open("rb") as file:
            mode = stat.S_IMODE(os.fstat(file.fileno()).st_mode)
            if mode & 0o077:
                hint = f"`chmod 600 {home_path(path)}`; if others may have read it, make a new one (`coinjar identity new`) and remove the old reader"
                raise DecryptionError(
                    f"others can read this identity (mode {mode:04o}), so it is not used",
                    hint=hint,
                    location=_place(path),
                    code="identity-open",
                )
            return file.read(_LARGEST)
    except OSError as fault:
        words = (fault.strerror or "unknown error").lower()
        raise DecryptionError(
            f"cannot read the identity: {words}",
            hint=f"look at the path and at {FILE}",
            location=_place(path),
            code="no-identity",
        ) from None


def _place(path: Path) -> Location:
    return Location(home_path(path))


def _read(data: bytes, where: str, ask: Ask | None) -> Identity:
    def passphrase() -> str:
        given = os.environ.get(PASSPHRASE)
        if given is None and ask is not None:
            given = ask(where)
        if given is None:
            hint = f"run it on a terminal, which asks for it, or set {PASSPHRASE}"
            raise DecryptionError(
                "this identity is protected by a passphrase, and nobody gives it",
                hint=hint,
                location=Location(where),
                code="no-identity",
            )
        return checked_passphrase(given)

    try:
        return read_identity(data, where, passphrase)
    except ValueError as fault:
        raise DecryptionError(
            str(fault), hint="`coinjar identity new --out FILE` makes one", location=Location(where), code="no-identity"
        ) from None


def write_identity(path: Path, data: bytes) -> None:
    """A new file of mode 0600; never through a symlink, never over another. Raises InputError."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    except FileExistsError:
        hint = "it was left as it is: --out FILE makes one elsewhere"
        raise InputError("there is an identity here already", hint=hint, location=_place(path), code="exists") from None
    except OSError as fault:
        words = (fault.strerror or "unknown error").lower()
        raise InputError(
            f"cannot write it: {words}", hint="name another file with --out", location=_place(path), code="write"
        ) from None
    with os.fdopen(handle, "wb") as file:
        file.write(data)
        file.flush()
        os.fsync(handle)
