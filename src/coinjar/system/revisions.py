"""Read files as they were at a revision of version control."""

from __future__ import annotations

import os
from collections.abc import Iterable
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from coinjar.core.errors import ExternalError, UsageError
from coinjar.system.version_control import git_output, repository_of


class Commit(NamedTuple):
    """One commit. `when` is the author's time, with its zone."""

    name: str
    who: str
    when: datetime
    subject: str


def _repository(folder: Path) -> Path:
    top = repository_of(folder)
    if top is None:
        raise UsageError(
            "there is no repository of version control around the jar",
            hint="`git init` makes one; a revision needs commits",
            code="no-repository",
        )
    return top


def commit_named(folder: Path, revision: str) -> str:
    """Return the full name of the commit that a revision means. Raises UsageError if there is none, ExternalError."""
    top = _repository(folder)
    try:
        asked = ["rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}"]
        return os.fsdecode(git_output(top, asked)).strip()
    except ExternalError:
        hint = "name a commit, a tag or a branch, such as HEAD~3; `git log` lists commits"
        raise UsageError(f"there is no revision '{revision}'", hint=hint, code="unknown-revision") from None


def commits_of(folder: Path) -> list[Commit]:
    """Return the commits that changed files in a folder, oldest first. Raises UsageError, ExternalError."""
    top = _repository(folder)
    name = os.path.relpath(os.path.realpath(folder), os.path.realpath(top))
    try:
        output = git_output(top, ["log", "-z", "--format=%H%x01%an%x01%aI%x01%s", "--", f":(literal){name}"])
    except ExternalError:
        return []  # a repository without a commit
    rows = [row.split("\x01", 3) for row in output.decode(errors="replace").split("\0") if row]
    return [Commit(row[0], row[1], datetime.fromisoformat(row[2]), row[3]) for row in reversed(rows)]


class RevisionFiles:
    """The files of a folder at commits, by path relative to the folder; each content is read once."""

    def __init__(self, folder: Path) -> None:
        self.folder = Path(os.path.realpath(folder))
        self.top = _repository(folder)
        self._prefix = os.path.relpath(self.folder, os.path.realpath(self.top))
        self._contents: dict[str, bytes] = {}

    def at(self, commit: str) -> dict[str, bytes]:
        """Return the contents of the folder's files at a commit. Raises ExternalError."""
        output = git_output(self.top, ["ls-tree", "-r", "-z", commit, "--", f"{self._prefix}/"])
        objects: dict[str, str] = {}
        for row in output.split(b"\0"):
            kind, _, path = os.fsdecode(row).partition("\t")
            if kind.startswith("100"):  # regular files, no links
                objects[os.path.relpath(path, self._prefix)] = kind.split()[2]
        self._read(set(objects.values()) - self._contents.keys())
        return {path: self._contents[name] for path, name in objects.items()}

    def _read(self, names: Iterable[str]) -> None:
        wanted = sorted(names)
        if not wanted:
            return
        data = git_output(self.top, ["cat-file", "--batch"], given="".join(f"{name}\n" for name in wanted))
        at = 0
        for name in wanted:
            end = data.index(b"\n", at)
            size = int(data[at:end].split()[2])
            self._contents[name] = data[end + 1 : end + 1 + size]
            at = end + size + 2
