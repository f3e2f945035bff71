"""The last change of a jar on this machine, kept to undo it: the files before it, encrypted with this account's key.

It is in the jar's folder `.local`, which is not committed. The key is in the person's own configuration folder, so a
record that came with a repository cannot be read.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, NamedTuple

from coinjar.core.errors import InputError, Location, UsageError
from coinjar.jarfile.journal import account_key, replace_all
from coinjar.jarfile.layout import JarLayout
from coinjar.system.files import display_path, is_below, read_file, replace_file

_LIST = "list"
_NONCE_BYTES = 12
_outside: ContextVar[dict[Path, bytes | None] | None] = ContextVar("outside", default=None)
"""Files outside the jar that the present change has replaced, with their contents before."""

Files = Mapping[Path, bytes]


class LastChange(NamedTuple):
    """The last change: the command, when it ended (UTC), and each file's content before it (None: no file)."""

    command: str
    when: datetime
    files: dict[Path, bytes | None]


@contextmanager
def recorded(folder: Path, command: str) -> Iterator[None]:
    """Keep what the body changes in a jar, and the files that `replaced` names; the caller holds the jar's lock."""
    before = _files(folder)
    token = _outside.set({})
    try:
        yield
        outside = _outside.get() or {}
    finally:
        _outside.reset(token)
    after = _files(folder)
    changed: dict[Path, tuple[bytes | None, bytes | None]] = {
        path: (before.get(path), after.get(path))
        for path in dict.fromkeys([*before, *after])
        if before.get(path) != after.get(path)
    }
    changed |= {path: (old, _content(path)) for path, old in outside.items() if path not in changed}
    if changed:
        _write(folder, command, changed)


def replaced(files: Mapping[Path, bytes | None]) -> None:
    """Name files that a change replaces, with their contents before it."""
    outside = _outside.get()
    if outside is not None:
        for path, old in files.items():
            outside.setdefault(Path(os.path.realpath(path)), old)


def _files(folder: Path) -> dict[Path, bytes]:
    """Return the contents of a jar's files, a person's own values included."""
    root = Path(os.path.realpath(folder))
    layout = JarLayout(root)
    result = {}
    for path in sorted(root.rglob("*")):
        is_own = layout.local not in path.parents or (path.parent == layout.local and path.suffix == ".yaml")
        if is_own and path.is_file() and not path.is_symlink():
            result[path] = read_file(path)
    return result


def _content(path: Path) -> bytes | None:
    try:
        return read_file(path)
    except FileNotFoundError:
        return None


def _digest(data: bytes | None) -> str | None:
    return None if data is None else hashlib.sha256(data).hexdigest()


def _folder(jar: Path) -> Path:
    return JarLayout(jar).local / "last-change"


def _write(jar: Path, command: str, changed: Mapping[Path, tuple[bytes | None, bytes | None]]) -> None:
    folder = _folder(jar)
    shutil.rmtree(folder, ignore_errors=True)
    rows = []
    for number, (path, (old, new)) in enumerate(changed.items()):
        if old is not None:
            replace_file(folder / str(number), _encrypted(old, f"{jar}\0{number}"), private=True)
        rows.append({"path": str(path), "had": old is not None, "now": _digest(new)})
    ignored = JarLayout(jar).local / ".gitignore"
    if not ignored.exists():  # a jar made by hand may have none that names the folder
        replace_file(ignored, b"*\n")
    data = {"command": command, "when": datetime.now(UTC).isoformat(timespec="seconds"), "files": rows}
    replace_file(folder / _LIST, _encrypted(json.dumps(data).encode(), f"{jar}\0{_LIST}"), private=True)


def read_last_change(jar: Path) -> LastChange:
    """Return the last change. Raises UsageError if there is none, InputError if files have changed since."""
    folder = _folder(jar)
    data = _read(folder / _LIST, f"{jar}\0{_LIST}")
    if data is None:
        raise UsageError(
            "there is no change to undo here",
            hint="only the last change by a command on this machine can be undone; version control has the others",
            code="nothing-to-undo",
        )
    record: dict[str, Any] = json.loads(data)
    files: dict[Path, bytes | None] = {}
    for number, row in enumerate(record["files"]):
        path = Path(row["path"])
        if not is_below(path, os.path.realpath(jar.parent)) or _digest(_content(path)) != row["now"]:
            raise InputError(
                f"it was changed after `{record['command']}`, which therefore cannot be undone",
                hint="version control has its earlier content",
                location=Location(display_path(path)),
                code="changed-meanwhile",
            )
        files[path] = _read(folder / str(number), f"{jar}\0{number}") if row["had"] else None
    return LastChange(record["command"], datetime.fromisoformat(record["when"]), files)


def undo(jar: Path, change: LastChange) -> None:
    """Restore every file's bytes, all together; the caller holds the lock. Raises InputError, ExternalError."""
    replace_all(jar, {path: (_content(path), old) for path, old in change.files.items()})
    shutil.rmtree(_folder(jar), ignore_errors=True)


def _cipher() -> Any:  # noqa: ANN401 - of a library that is imported only here
    from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305
    from cryptography.hazmat.primitives.hashes import SHA256
    from cryptography.hazmat.primitives.kdf.hkdf import HKDF

    return ChaCha20Poly1305(HKDF(SHA256(), 32, salt=None, info=b"coinjar last change 1").derive(account_key()))


def _encrypted(data: bytes, where: str) -> bytes:
    nonce = os.urandom(_NONCE_BYTES)
    return nonce + bytes(_cipher().encrypt(nonce, data, where.encode()))


def _read(path: Path, where: str) -> bytes | None:
    """Return a decrypted file of the record; None if there is none, or another account made it."""
    from cryptography.exceptions import InvalidTag

    data = _content(path)
    if data is None:
        return None
    try:
        return bytes(_cipher().decrypt(data[:_NONCE_BYTES], data[_NONCE_BYTES:], where.encode()))
    except (InvalidTag, ValueError):
        return None
