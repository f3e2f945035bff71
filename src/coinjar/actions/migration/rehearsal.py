"""Try a migration on a copy of the jar, in memory-backed storage if possible, to show what it would send."""

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
    """Return the same migration on a copy of the jar; None if the new place is not a running system."""
    destination = move.reader.new.destination
    if move.opened is None or destination is None or not is_live(destination):
        yield None
        return
    with tempfile.TemporaryDirectory(prefix="coinjar-", dir=_MEMORY if _MEMORY.is_dir() else None) as folder:
        copy = Path(folder) / "jar"
        shutil.copytree(move.opened.folder, copy, symlinks=True)
        opened = OpenJar(copy, move.opened.ask)
        opened.gate = move.opened.gate  # the person decided for the jar, of which this is a copy
        yield Migration(opened, move.sheet, move.options._replace(jar_only=True))
