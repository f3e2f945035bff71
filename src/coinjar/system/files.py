"""Replace files whole or not at all, under a lock."""

from __future__ import annotations

import contextlib
import fcntl
import os
import stat
from collections.abc import Iterator
from pathlib import Path

from coinjar.core.errors import CoinJarError, ExternalError, Location

_UNFINISHED = ".coinjar-unfinished"


def display_path(path: Path) -> str:
    """Return a path for display: relative if that is not longer."""
    relative = os.path.relpath(path)
    return relative if len(relative) <= len(str(path)) else str(path)


def home_path(path: Path) -> str:
    """Return a path for display only: `~/...` if it is below the user's home and not below the current folder."""
    shown, whole, home = display_path(path), os.path.normpath(path.absolute()), os.environ.get("HOME", "").rstrip("/")
    is_below = not os.path.relpath(path).startswith("..")
    return f"~{whole.removeprefix(home)}" if home and whole.startswith(f"{home}/") and not is_below else shown


def _failed(path: Path, fault: OSError) -> CoinJarError:
    words = (fault.strerror or "unknown error").lower()
    return ExternalError(
        f"cannot write it: {words}",
        hint="check the folder's permissions and the free space",
        location=Location(str(path)),
        code="write",
    )


@contextlib.contextmanager
def locked_file(path: Path) -> Iterator[None]:
    """Hold the lock of a file, which is created if necessary. Waits for others."""
    try:
        path.parent.mkdir(exist_ok=True)
        handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o666)
    except OSError as fault:
        raise _failed(path, fault) from None
    try:
        fcntl.flock(handle, fcntl.LOCK_EX)
        yield
    finally:
        os.close(handle)


def replace_file(path: Path, data: bytes, *, mode: int | None = None, private: bool = False) -> None:
    """Replace a file: a reader, or a crash at any moment, finds the old or the new text.

    A symlink stays, and its target is replaced. Mode and owner stay; a new file gets
    `mode`, or what the umask allows. `private` removes the rights of all but the owner. Raises ExternalError.
    """
    target = Path(os.path.realpath(path))
    unfinished = target.with_name(f".{target.name}{_UNFINISHED}")
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        unfinished.unlink(missing_ok=True)
        try:
            _write_beside(target, unfinished, data, mode, private)
            unfinished.replace(target)
        except BaseException:
            unfinished.unlink(missing_ok=True)
            raise
        folder = os.open(target.parent, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
    except OSError as fault:
        raise _failed(path, fault) from None


def _write_beside(target: Path, unfinished: Path, data: bytes, mode: int | None, private: bool) -> None:
    handle = os.open(unfinished, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
    with os.fdopen(handle, "wb") as file:
        try:
            old = target.stat()
        except FileNotFoundError:
            os.fchmod(handle, (mode if mode is not None else 0o666 & ~_umask()) & (0o700 if private else 0o777))
        else:
            if (old.st_uid, old.st_gid) != (os.geteuid(), os.getegid()):
                with contextlib.suppress(PermissionError):  # only root may change owners; the text matters more
                    os.fchown(handle, old.st_uid, old.st_gid)
            os.fchmod(handle, stat.S_IMODE(old.st_mode) & (0o700 if private else 0o7777))
        file.write(data)
        file.flush()
        os.fsync(handle)


def _umask() -> int:
    now = os.umask(0)
    os.umask(now)
    return now
