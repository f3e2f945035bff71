"""A migration tried on a copy of the jar, in memory-backed storage where there is some, so that what it would send can be shown."""

from __future__ import annotations

import contextlib
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

from coinjar.actions.migration.migration import Migration
from coinjar.actions.open_jar import OpenJar
from coinjar.destinations import is_live

_MEMORY = Path("/dev/shm")  # noqa: S108 - a folder of our own is made in it


@contextlib.contextmanager
def rehearsal(move: Migration) -> Iterator[Migration | None]:
    """The same move on a copy of the jar; None where the new place is no running system."""
    destination = move.reader.new.destination
    if move.opened is None or destination is None or not is_live(destination):
        yield None
        return
    with tempfile.TemporaryDirectory(prefix="coinjar-", dir=_MEMORY if _MEMORY.is_dir() else None) as folder:
        copy = Path(folder) / "jar"
        shutil.copytree(move.opened.folder, copy, symlinks=True)
        yield Migration(OpenJar(copy, move.opened.ask), move.sheet, move.options._replace(jar_only=True))
