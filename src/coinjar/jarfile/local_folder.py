"""The folder `.local` of a jar is of this copy alone: one that came with a repository is refused, not used."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path

from coinjar.core.errors import InputError, Location
from coinjar.jarfile.layout import JarLayout
from coinjar.system.files import display_path, locked_file, remove_unfinished
from coinjar.system.version_control import repository_of, tracked_in


@contextmanager
def locked(folder: Path, command: str = "") -> Iterator[None]:
    """Lock the jar: every change of it reads and writes inside. Waits for others, and removes what killed runs left.

    `command` makes the change one that `coinjar undo` can undo. Raises InputError, ExternalError.
    """
    require_own_local(folder)
    layout = JarLayout(folder)
    with locked_file(layout.local / "lock"):
        for written in (folder, layout.plain("x").parent, layout.sealed_folder, layout.keys_folder, layout.local):
            remove_unfinished(written)
        if not command:
            yield
            return
        from coinjar.jarfile.last_change import recorded  # not needed by what only reads

        with recorded(folder, command):
            yield


def require_own_local(folder: Path) -> None:
    """Return if the folder `.local` of the jar in `folder` may be used: it does not exist, or it is this account's, is
    no symlink and holds none, and version control tracks nothing in it.

    Raises InputError otherwise, ExternalError if git cannot be asked.
    """
    local = JarLayout(folder).local
    try:
        state = local.lstat()
    except FileNotFoundError:
        return
    if local.is_symlink():
        raise _refused(local, "it is a symlink")
    if state.st_uid not in (os.geteuid(), 0):
        raise _refused(local, "it belongs to another account")
    with os.scandir(local) as entries:
        names = [entry.name for entry in entries if entry.name != "lock" or entry.is_symlink()]
    for name in names:
        if (local / name).is_symlink():
            raise _refused(local / name, "it is a symlink")
    repository = repository_of(local) if names else None
    if repository is not None:
        index = repository / ".git" / "index"
        _require_untracked(local, index.stat().st_mtime_ns if index.is_file() else 0)


def own_files(folder: Path) -> list[Path]:
    """Return the existing files of the person's own values. Raises InputError if they came with the repository."""
    paths = JarLayout(folder).own_files()
    if paths:
        require_own_local(folder)
    return paths


@cache
def _require_untracked(local: Path, _index: int) -> None:
    """Ask git, once as long as its index is the same."""
    if tracked := tracked_in(local):
        raise _refused(tracked[0], "version control tracks it, so it came with the repository")


def _refused(path: Path, words: str) -> InputError:
    return InputError(
        f"it is not used: {words}",
        hint="the folder .local is for files of this machine alone: remove it, and `git rm -r --cached` it if tracked",
        location=Location(display_path(path)),
        code="foreign-local",
    )
