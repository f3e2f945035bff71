"""Find the identity of whoever runs Coin Jar, and check the permissions of its file."""

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
from coinjar.system.process_secrets import KEY, PASSPHRASE, taken, write_no_core_file

FILE = "COINJAR_IDENTITY_FILE"
_LARGEST = 1 << 20

Ask = Callable[[str], str | None]
"""Asks a person for the passphrase of the named identity; returns None if nobody can be asked."""


def default_path() -> Path:
    """Return the default path of a user's identity."""
    return config_folder() / "identity"


def find_identity(ask: Ask | None) -> Identity:
    """Return the identity in COINJAR_IDENTITY (the key itself), else in the file COINJAR_IDENTITY_FILE, else the user's
    own.

    Raises DecryptionError if there is none, or it cannot be used.
    """
    if text := taken(KEY):
        return _read(os.fsencode(text), KEY, ask)
    named = os.environ.get(FILE)
    path = Path(named) if named else default_path()
    if not named and not path.exists():
        hint = f"create one with `coinjar identity new`; on a server set {FILE} or {KEY}"
        raise DecryptionError("there is no identity here to decrypt secrets with", hint=hint, code="no-identity")
    return _read(_guarded(path), home_path(path), ask)


def checked_passphrase(text: str) -> Secret:
    """Return a passphrase. Raises DecryptionError if it is not text."""
    if not text.isascii():
        try:
            text.encode()
        except UnicodeEncodeError:
            raise DecryptionError(
                "the passphrase is not UTF-8 text", hint="check the input and the locale", code="no-identity"
            ) from None
    return Secret(text)


def _guarded(path: Path) -> bytes:
    """Return the file's bytes.

    Raises DecryptionError if others can read it. Symlinks are followed: clusters mount secrets that way.
    """
    try:
        with path.open("rb") as file:
            state = os.fstat(file.fileno())
            if state.st_uid not in (os.geteuid(), 0):
                raise DecryptionError(
                    "this identity belongs to another account, so it is not used",
                    hint="use an identity of your own: `coinjar identity new`",
                    location=_place(path),
                    code="identity-open",
                )
            mode = stat.S_IMODE(state.st_mode)
            if mode & 0o077:
                hint = (
                    f"`chmod 600 {home_path(path)}`; if others may have read it, create a new one (`coinjar identity "
                    "new`) and remove the old reader"
                )
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
            hint=f"check the path and {FILE}",
            location=_place(path),
            code="no-identity",
        ) from None


def _place(path: Path) -> Location:
    return Location(home_path(path))


def _read(data: bytes, where: str, ask: Ask | None) -> Identity:
    def passphrase() -> str:
        given = taken(PASSPHRASE)
        if given is None and ask is not None:
            given = ask(where)
        if given is None:
            hint = f"run it on a terminal, which asks for it, or set {PASSPHRASE}"
            raise DecryptionError(
                "this identity is protected by a passphrase, which was not given",
                hint=hint,
                location=Location(where),
                code="no-identity",
            )
        return checked_passphrase(given)

    write_no_core_file()
    try:
        return read_identity(data, where, passphrase)
    except ValueError as fault:
        raise DecryptionError(
            str(fault),
            hint="create one with `coinjar identity new --out FILE`",
            location=Location(where),
            code="no-identity",
        ) from None


def write_identity(path: Path, data: bytes) -> None:
    """Write a new file of mode 0600; never through a symlink, never over an existing file. Raises InputError."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    except FileExistsError:
        hint = "it was not changed; --out FILE creates one elsewhere"
        raise InputError("there is already an identity", hint=hint, location=_place(path), code="exists") from None
    except OSError as fault:
        words = (fault.strerror or "unknown error").lower()
        raise InputError(
            f"cannot write it: {words}", hint="name another file with --out", location=_place(path), code="write"
        ) from None
    with os.fdopen(handle, "wb") as file:
        file.write(data)
        file.flush()
        os.fsync(handle)
