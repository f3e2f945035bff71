"""Ask git whether it tracks a file, or could."""

from __future__ import annotations

import os
import shlex
import subprocess
from collections.abc import Iterable, Iterator
from pathlib import Path

from coinjar.core.errors import ExternalError, Location
from coinjar.system.child_environment import child_environment

TRACKED, OPEN, IGNORED = "tracked", "open", "ignored"


def states(paths: Iterable[Path]) -> dict[Path, str]:
    """Return for each path: tracked, ignored, or open (it could be added). Outside a repository all are ignored.

    Raises ExternalError if there is a repository and git fails.
    """
    result: dict[Path, str] = {}
    by_folder: dict[Path, list[Path]] = {}
    for path in paths:
        real = Path(os.path.realpath(path))
        folder = next(path for path in real.parents if path.is_dir())
        top = _top(folder)
        if top is None:
            result[path] = IGNORED
        else:
            by_folder.setdefault(top, []).append(path)
    for top, members in by_folder.items():
        names = {path: os.path.relpath(os.path.realpath(path), os.path.realpath(top)) for path in members}
        tracked = _git(top, ["ls-files", "-z", "--", *(f":(literal){name}" for name in names.values())])
        ignored = _git(top, ["check-ignore", "-z", "--stdin"], quiet=1, given="\0".join(names.values()))
        for path, name in names.items():
            result[path] = TRACKED if name in tracked else IGNORED if name in ignored else OPEN
    return result


def _top(folder: Path) -> Path | None:
    return next((path for path in (folder, *folder.parents) if (path / ".git").exists()), None)


def repository_of(folder: Path) -> Path | None:
    """Return the folder with the repository around a folder; None if there is none."""
    return _top(Path(os.path.realpath(folder)))


def tracked_in(folder: Path) -> list[Path]:
    """Return the files in a folder that its repository tracks; none outside a repository. Raises ExternalError."""
    top = repository_of(folder)
    if top is None:
        return []
    name = os.path.relpath(os.path.realpath(folder), os.path.realpath(top))
    return [top / item for item in sorted(_git(top, ["ls-files", "-z", "--", f":(literal){name}"]))]


def tracked_below(folder: Path) -> list[Path]:
    """Return every file tracked by the repository around a folder; none outside a repository. Raises ExternalError."""
    top = _top(folder)
    return [top / name for name in sorted(_git(top, ["ls-files", "-z"]))] if top else []


def history(folder: Path) -> Iterator[tuple[str, str, bytes]]:
    """Yield every file of every commit that a branch or tag reaches: object, path, content; each content once.

    Raises ExternalError.
    """
    top = _top(folder)
    if top is None:
        return
    listed = [
        line.partition(" ") for line in os.fsdecode(git_output(top, ["rev-list", "--all", "--objects"])).splitlines()
    ]
    names = {name: path for name, _, path in listed if path}
    environment = _environment()
    argv = ["git", *_QUIET, "-C", str(top), "cat-file", "--batch"]
    # Fixed words and paths.
    pipe = subprocess.PIPE
    with subprocess.Popen(argv, stdin=pipe, stdout=pipe, env=environment) as process:  # noqa: S603
        assert process.stdin
        assert process.stdout
        for name, path in names.items():
            process.stdin.write(f"{name}\n".encode())
            process.stdin.flush()
            _, kind, size = process.stdout.readline().decode().split()
            data = process.stdout.read(int(size) + 1)[:-1]
            if kind == "blob":
                yield name, path, data
        process.stdin.close()


def commit_of(folder: Path, name: str) -> str:
    """Return the short name of the oldest commit that added an object. Raises ExternalError."""
    top = _top(folder)
    result = (
        os.fsdecode(git_output(top, ["log", "--all", "--format=%h", f"--find-object={name}"])).split() if top else []
    )
    return result[-1] if result else ""


def holding(folder: Path, pattern: str) -> list[Path]:
    """Return the tracked text files that match this extended regular expression. Raises ExternalError."""
    top = _top(folder)
    return [top / name for name in sorted(_git(top, ["grep", "-lzIE", "-e", pattern], quiet=1))] if top else []


def lines_with(folder: Path, pattern: str) -> list[tuple[Path, int, str]]:
    """Return the lines of tracked text files that match this extended regular expression: path, number, text; none
    outside a repository. Raises ExternalError.
    """
    top = _top(folder)
    if top is None:
        return []
    output = git_output(top, ["grep", "-nzIE", "-e", pattern], quiet=1).decode(errors="replace")
    rows = [line.split("\0", 2) for line in output.splitlines()]
    return [(top / row[0], int(row[1]), row[2]) for row in rows if len(row) == 3]


def set_text_conversion(jar: Path) -> None:
    """Let git of this clone show the jar's encrypted values by `coinjar textconv`. Raises ExternalError."""
    top = repository_of(jar)
    if top is None:
        raise ExternalError(
            "there is no repository around the jar",
            hint="`git init` makes one",
            location=Location(str(jar)),
            code="git",
        )
    name = os.path.relpath(os.path.realpath(jar), os.path.realpath(top))
    git_output(top, ["config", "diff.coinjar.textconv", f"coinjar --jar {shlex.quote(name)} textconv"])


# What a repository's own configuration could make git run or contact: none of it is needed to read.
_QUIET = ("-c", "core.fsmonitor=false", "-c", f"core.hooksPath={os.devnull}", "-c", "protocol.allow=never")


def _environment() -> dict[str, str]:
    own = {name: text for name, text in child_environment().items() if not name.startswith("GIT_")}
    return own | {"GIT_NO_LAZY_FETCH": "1", "GIT_OPTIONAL_LOCKS": "0"}


def _git(top: Path, arguments: list[str], *, quiet: int = 0, given: str = "") -> set[str]:
    return {os.fsdecode(word) for word in git_output(top, arguments, quiet=quiet, given=given).split(b"\0") if word}


def git_output(top: Path, arguments: list[str], *, quiet: int = 0, given: str = "") -> bytes:
    """Return what git prints, without what a repository's configuration could make it run; `quiet` is another exit
    code that is no fault. Raises ExternalError.
    """
    try:
        done = subprocess.run(  # noqa: S603 - fixed words and paths
            ["git", *_QUIET, "-C", str(top), *arguments],  # noqa: S607 - git of whoever runs this
            input=os.fsencode(given),
            capture_output=True,
            check=False,
            env=_environment(),
        )
    except OSError:
        message, hint = "cannot ask git about the file", "install git, or write outside the repository"
        raise ExternalError(message, hint=hint, location=Location(str(top)), code="git") from None
    if done.returncode not in (0, quiet):
        words = done.stderr.decode(errors="replace").strip().split("\n")[0]
        raise ExternalError(
            f"cannot ask git about the file: {words}",
            hint="make `git status` work there",
            location=Location(str(top)),
            code="git",
        )
    return done.stdout
