"""Find the files of a source tree to search: ignored, vendored and non-source files are skipped."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from coinjar.core.patterns import limited
from coinjar.jarfile.layout import JarLayout
from coinjar.mentions.languages import language_of
from coinjar.mentions.minified import MINIFIED

if TYPE_CHECKING:
    from pathspec import GitIgnoreSpec

VENDORED = frozenset(
    "node_modules bower_components vendor third_party site-packages venv .venv __pycache__ .git .hg .svn .tox .nox "
    ".local".split()
)
LARGEST = 1 << 20
"""Maximum size in bytes; larger sources are generated."""


class CandidateFile(NamedTuple):
    """A file to search: its real path, size in bytes, and modification time in nanoseconds."""

    path: str
    size: int
    changed: int


class _IgnoreFile(NamedTuple):
    """The patterns of one .gitignore for the paths below its folder; `skip` characters lead to that folder."""

    skip: int
    spec: GitIgnoreSpec


class UnreadableFile(NamedTuple):
    """A file or folder whose mentions are unknown or incomplete: the location (from 1; 0: as a whole), and why."""

    path: str
    line: int
    column: int
    message: str


class FileWalk:
    """Walks paths. `left_out` counts skipped files, by reason; `unreadable` are folders that cannot be read.

    `templates` are endings of templates; `without` are patterns, as in a .gitignore, of paths below `base`; `skipped`
    are folders.
    """

    def __init__(
        self,
        templates: tuple[str, ...] = (),
        without: Sequence[str] = (),
        skipped: Iterable[Path] = (),
        base: Path | None = None,
    ) -> None:
        self.templates = templates
        self.base = len(os.path.realpath(base or ".")) + 1
        self.left_out: Counter[str] = Counter()
        self.unreadable: list[UnreadableFile] = []
        self.skipped = {os.path.realpath(path) for path in skipped}
        self.without = _spec(without) if without else None

    def files(self, paths: Sequence[str]) -> Iterator[CandidateFile]:
        """Yield every file to search, each once, in the order of the paths.

        Raises FileNotFoundError for a missing path.
        """
        visited: set[str] = set()
        for path in paths:
            real = os.path.realpath(path)
            if Path(real).is_dir():
                result = self._below(real, _above(real))
            else:
                state = os.stat(real)  # noqa: PTH116 - as fast as below
                result = iter([CandidateFile(real, state.st_size, state.st_mtime_ns)])
            for candidate in result:
                if candidate.path not in visited:
                    visited.add(candidate.path)
                    yield candidate

    def _below(self, folder: str, ignored: list[_IgnoreFile]) -> Iterator[CandidateFile]:
        try:
            with os.scandir(folder) as scan:
                entries = sorted(scan, key=lambda entry: entry.name)
        except OSError as fault:
            self.unreadable.append(
                UnreadableFile(folder, 0, 0, f"cannot read the folder: {(fault.strerror or 'unknown error').lower()}")
            )
            return
        if any(entry.name == ".gitignore" for entry in entries):
            ignored = [*ignored, _read(folder)]
        folders: list[str] = []
        for entry in entries:
            if entry.is_dir(follow_symlinks=False):
                if entry.name in VENDORED:
                    self.left_out["vendored"] += 1
                elif entry.path not in self.skipped and not self._ignores(ignored, entry.path + "/"):
                    folders.append(entry.path)
            elif (candidate := self._candidate(entry)) and not self._ignores(ignored, entry.path):
                yield candidate
        for path in folders:
            yield from self._below(path, ignored)

    def _candidate(self, entry: os.DirEntry[str]) -> CandidateFile | None:
        name = entry.name
        if ("." in name and language_of(name, self.templates) is None) or not entry.is_file(follow_symlinks=False):
            return None
        if name.endswith(".min.js"):
            self.left_out[MINIFIED] += 1
            return None
        state = entry.stat(follow_symlinks=False)
        if "." not in name and language_of(name) is None and not state.st_mode & 0o111:
            return None  # without an ending, only executable files are scripts
        if state.st_size > LARGEST:
            self.left_out["over 1 MiB"] += 1
            return None
        return CandidateFile(entry.path, state.st_size, state.st_mtime_ns)

    def _ignores(self, ignored: list[_IgnoreFile], path: str) -> bool:
        if self.without is not None:
            with limited("without: of code"):
                if self.without.match_file(path[self.base :]):
                    return True
        for ignore_file in reversed(ignored):  # the nearest file with a matching pattern decides
            with limited(".gitignore"):
                included = ignore_file.spec.check_file(path[ignore_file.skip :]).include
            if included is not None:
                return included
        return False


def _spec(lines: Sequence[str]) -> GitIgnoreSpec:
    from pathspec import GitIgnoreSpec  # not needed for a tree without a .gitignore

    return GitIgnoreSpec.from_lines(lines)


def _read(folder: str) -> _IgnoreFile:
    try:
        text = Path(folder, ".gitignore").read_text(errors="replace")
    except OSError:
        text = ""
    return _IgnoreFile(len(folder) + 1 if folder != "/" else 1, _spec(text.splitlines()))


def _above(folder: str) -> list[_IgnoreFile]:
    """Return the .gitignore files above a folder, up to the root of its repository; outside a repository, none."""
    here = Path(folder)
    above = [here, *here.parents]
    top = next((at for at, path in enumerate(above) if (path / ".git").exists()), 0)
    return [_read(str(path)) for path in reversed(above[1 : top + 1]) if (JarLayout(path).git_ignore).is_file()]
