"""The files that a change of a jar's structure writes, moves and removes."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from coinjar.actions.open_jar import OpenJar
from coinjar.core.errors import CoinJarError, InputError, Location
from coinjar.jarfile.journal import replace_all
from coinjar.jarfile.local_folder import locked
from coinjar.jarfile.sealed_files import read_sealed_file
from coinjar.system.files import display_path


class PlannedFiles:
    """The contents of files before and after, None for no file; nothing is written before `write`."""

    def __init__(self) -> None:
        self._before: dict[Path, bytes | None] = {}
        self._after: dict[Path, bytes | None] = {}
        self.moves: dict[Path, Path] = {}

    def read(self, path: Path) -> bytes | None:
        """Return a file as planned so far; None if there is none. Raises InputError."""
        if path not in self._before:
            self._before[path] = read_sealed_file(path)
        return self._after.get(path, self._before[path])

    def set(self, path: Path, data: bytes | None) -> None:
        """Plan the content of a file; None removes it."""
        self.read(path)
        self._after[path] = data

    def move(self, old: Path, new: Path, data: bytes) -> None:
        """Plan a file under another path, with this content. Raises InputError if there is another file."""
        if old != new:
            if self.read(new) is not None:
                raise InputError(
                    f"{display_path(old)} would get this name, but the file already exists",
                    hint="look at both, and remove one or move its values into the other",
                    location=Location(display_path(new)),
                    code="exists",
                )
            self.set(old, None)
            self.moves[old] = new
        self.set(new, data)

    def changes(self) -> Iterator[tuple[Path, bytes | None, bytes | None]]:
        """Yield every file that changes, with its content before and after."""
        for path, new in self._after.items():
            if self._before[path] != new:
                yield path, self._before[path], new

    def write(self, opened: OpenJar, command: str) -> None:
        """Write everything for a command, or nothing if the jar would not be valid any more, or a file has changed
        meanwhile.

        Raises InputError, ExternalError.
        """
        contents = {path: (old, new) for path, old, new in self.changes()}
        with locked(opened.folder, command):
            replace_all(opened.folder, contents)
            try:
                opened.load()
            except CoinJarError as fault:
                replace_all(opened.folder, {path: (new, old) for path, (old, new) in contents.items()})
                raise InputError(
                    f"the jar would not be valid any more ({fault}); nothing was changed",
                    hint="correct that first; then run it again",
                    code="edit",
                ) from None
