"""Replace files whole or not at all, under a lock."""

from __future__ import annotations

import contextlib
import fcntl
import os
import stat
from collections.abc import Iterator
from functools import cache
from pathlib import Path

from coinjar.core.errors import CoinJarError, ExternalError, InputError, Location

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


_guarded: set[str] = set()
"""Folders out of which no link is followed, by absolute path: those that contain the jars of this process.

Kept here, and not passed along: a boundary that every reader of a file had to remember would have gaps.
"""


def guard(root: Path) -> None:
    """Follow no link out of a folder from now on: `read_file` and `replace_file` refuse it."""
    _guarded.update((_whole(root), os.path.realpath(root)))


def is_below(path: str | Path, root: str | Path) -> bool:
    """Return whether a path is a folder or inside it, by its words alone."""
    whole, folder = _whole(path), _whole(root)
    return whole == folder or whole.startswith(folder.rstrip("/") + "/")


def _whole(path: str | Path) -> str:
    return os.path.abspath(path)  # noqa: PTH100 - by its words: links are compared elsewhere


def expanded(named: str) -> Path:
    """Return a path with a leading `~` or `~USER` replaced; an unknown user stays as written."""
    return Path(os.path.expanduser(named))  # noqa: PTH111 - Path.expanduser raises for an unknown user


def is_outside(named: str) -> bool:
    """Return whether a path leads out of the folder that it is relative to, by its words alone."""
    path = Path(os.path.normpath(expanded(named)))
    return path.is_absolute() or path.parts[:1] == (os.pardir,)


def _boundary(path: Path) -> str | None:
    """Return the guarded folder that a path is in; None if it is in none."""
    here = _whole(path)
    while _guarded:
        if here in _guarded:
            return here
        above = here.rpartition("/")[0] or "/"
        if above == here:
            return None
        here = above
    return None


def leads_outside(path: Path, start: Path) -> bool:
    """Return whether a path that a file at `start` names leads out of the guarded folder of that file."""
    root = _boundary(start)
    return root is not None and not is_below(os.path.realpath(path), _real(root))


@cache
def _real(root: str) -> str:
    """Cached: asked for every file of a jar, and what is opened in the end is asked by its handle."""
    return os.path.realpath(root)


def _refuse_outside(handle: int, path: Path, root: str) -> None:
    """Refuse an open file or folder that is not below `root`, wherever links led: the handle is asked, not the name,
    so nobody can exchange a link in between. Raises InputError.
    """
    if not is_below(_real_path(handle), os.path.realpath(root)):
        raise link_outside(path)


def link_outside(path: Path) -> InputError:
    """Return the error for a link that leads out of a guarded folder."""
    return InputError(
        "a symlink leads outside the folder that contains the jar, so it is not followed",
        hint="replace the link with the file or folder itself",
        location=Location(display_path(path)),
        code="outside-link",
    )


def _real_path(handle: int) -> str:
    if hasattr(fcntl, "F_GETPATH"):  # macOS, which has no /proc
        return os.fsdecode(fcntl.fcntl(handle, fcntl.F_GETPATH, bytes(1024)).rstrip(b"\0"))
    return str(Path(f"/proc/self/fd/{handle}").readlink())


def read_file(path: Path, most: int = -1, *, tail: int = 0) -> bytes:
    """Return a file's bytes, at most `most`; with `tail` at most its last ones. In a guarded folder it must be a
    regular file inside it, links followed.

    Raises OSError, InputError.
    """
    root = _boundary(path)
    waits = 0 if root is None else os.O_NONBLOCK  # a pipe in a repository, without a writer, must not block
    handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC | waits)
    try:
        if root is not None:
            _refuse_outside(handle, path, root)
            if not stat.S_ISREG(mode := os.fstat(handle).st_mode) and not stat.S_ISDIR(mode):
                raise InputError(
                    "it is not a regular file",
                    hint="replace it with a file",
                    location=Location(display_path(path)),
                    code="unreadable",
                )
        with os.fdopen(handle, "rb", closefd=False) as file:
            if tail and (size := os.fstat(handle).st_size) > tail:
                file.seek(size - tail)
            return file.read(most)
    finally:
        os.close(handle)


def _failed(path: Path, fault: OSError) -> CoinJarError:
    words = (fault.strerror or "unknown error").lower()
    return ExternalError(
        f"cannot write it: {words}",
        hint="check the folder's permissions and the free space",
        location=Location(str(path)),
        code="write",
    )


def make_folder(path: Path) -> None:
    """Make a folder that only this account can read, and the folders above it. Raises ExternalError."""
    try:
        path.mkdir(parents=True, exist_ok=True, mode=0o700)
    except OSError as fault:
        raise _failed(path, fault) from None


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


def remove_unfinished(folder: Path) -> None:
    """Remove what a killed run left in a folder; the caller holds the lock under which its files are written."""
    for path in folder.glob(f".*{_UNFINISHED}"):
        path.unlink(missing_ok=True)


def replace_file(path: Path, data: bytes, *, mode: int | None = None, private: bool = False) -> None:
    """Replace a file: a reader, or a crash at any moment, finds the old or the new text.

    A symlink stays, and its target is replaced; in a guarded folder only if the target is inside it. Mode and owner
    stay; a new file gets `mode`, or what the umask allows. `private` removes the rights of all but the owner.
    Raises ExternalError, InputError.
    """
    target, root = Path(os.path.realpath(path)), _boundary(path)
    try:
        if root is None or is_below(target, os.path.realpath(root)):
            target.parent.mkdir(parents=True, exist_ok=True)
        folder = os.open(target.parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            if root is not None:
                _refuse_outside(folder, path, root)
            _replace_in(folder, target.name, data, mode, private)
            os.fsync(folder)
        finally:
            os.close(folder)
    except OSError as fault:
        raise _failed(path, fault) from None


def remove_file(path: Path) -> None:
    """Remove a file; in a guarded folder only if it is inside it.

    Raises ExternalError, InputError.
    """
    root = _boundary(path)
    try:
        folder = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except FileNotFoundError:
        return
    except OSError as fault:
        raise _failed(path, fault) from None
    try:
        if root is not None:
            _refuse_outside(folder, path, root)
        with contextlib.suppress(FileNotFoundError):
            os.unlink(path.name, dir_fd=folder)
        os.fsync(folder)
    except OSError as fault:
        raise _failed(path, fault) from None
    finally:
        os.close(folder)


def _replace_in(folder: int, name: str, data: bytes, mode: int | None, private: bool) -> None:
    unfinished = f".{name}{_UNFINISHED}"
    with contextlib.suppress(FileNotFoundError):
        os.unlink(unfinished, dir_fd=folder)
    try:
        _write_beside(folder, name, unfinished, data, mode, private)
        os.rename(unfinished, name, src_dir_fd=folder, dst_dir_fd=folder)
    except BaseException:
        with contextlib.suppress(FileNotFoundError):
            os.unlink(unfinished, dir_fd=folder)
        raise


def _write_beside(folder: int, name: str, unfinished: str, data: bytes, mode: int | None, private: bool) -> None:
    handle = os.open(
        unfinished, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600, dir_fd=folder
    )
    with os.fdopen(handle, "wb") as file:
        try:
            old = os.stat(name, dir_fd=folder, follow_symlinks=False)
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
