"""Find the mentions of many files: several at a time, and of a file that has not changed, what was found the last time."""

from __future__ import annotations

import contextlib
import json
import os
import time
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from multiprocessing import get_context
from pathlib import Path
from typing import Any, NamedTuple

from coinjar import mentions
from coinjar.core.code import HIDDEN
from coinjar.core.errors import OutsideError
from coinjar.core.guess import guess
from coinjar.jarfile.store import replace_file
from coinjar.mentions.base import Mention, Unknown
from coinjar.mentions.languages import by_first_line, language_of, look
from coinjar.scanning.files import Candidate, Walk

_TOGETHER = 100
"""Files that one process looks at before it says what it found."""
_FEW = 150
"""Files for which no further process is worth its start, nor a file of what was found."""
_JUST_NOW = 2_000_000_000
"""Nanoseconds: a file that was written this shortly before a look may be written again without a new time."""
_FORM = 1


class Spot(NamedTuple):
    """A mention with its line and column, in characters from 1; `mention` is None where only the running program knows the name: `text` makes it."""

    mention: Mention | None
    line: int
    column: int
    text: str = ""


class Seen(NamedTuple):
    """A file and what it mentions."""

    path: str
    spots: list[Spot]


class Scanned(NamedTuple):
    """What was found: files with mentions, how many were looked at, how many of those were known already, what was left out."""

    files: list[Seen]
    looked: int
    known: int
    left_out: Counter[str]


class Asked(NamedTuple):
    """What to look for: functions that read variables named by their first argument, and endings of templates."""

    helpers: frozenset[str] = frozenset()
    templates: tuple[str, ...] = ()


Progress = Callable[[str, int, int], None]


def scan(walk: Walk, paths: Sequence[str], asked: Asked, *, cache: Path | None = None, progress: Progress | None = None) -> Scanned:
    """Find every mention below the paths. Raises FileNotFoundError for a path that is not there."""
    started = time.time_ns()
    candidates = list(walk.files(paths))
    kept = _Kept(cache, asked)
    found = {one.path: spots for one in candidates if (spots := kept.spots(one)) is not None}
    fresh = [one for one in candidates if one.path not in found]
    for path, spots in _looked_at([one.path for one in fresh], asked, progress):
        walk.left_out["nested too deeply"] += spots is None
        found[path] = spots or []
    walk.left_out += Counter()  # without those that were none
    if len(fresh) > _FEW or (fresh and kept.files):  # a look at few files is as quick without
        kept.keep(candidates, found, started)
    files = [Seen(path, _spots(found[path])) for path in sorted(one.path for one in candidates) if found[path]]
    return Scanned(files, len(candidates), len(candidates) - len(fresh), walk.left_out)


def _looked_at(paths: list[str], asked: Asked, progress: Progress | None) -> Iterable[tuple[str, list[list[Any]] | None]]:
    parts = [paths[at : at + _TOGETHER] for at in range(0, len(paths), _TOGETHER)]
    cores = len(os.sched_getaffinity(0))
    if len(paths) <= _FEW or cores == 1:
        for path in paths:
            yield path, _look_at(path, asked)
        return
    with get_context("fork").Pool(min(cores, len(parts))) as pool:
        for done, part in enumerate(pool.imap_unordered(_look_at_all, [(part, asked) for part in parts]), 1):
            if progress:
                progress("looking", min(done * _TOGETHER, len(paths)), len(paths))
            yield from part


def _look_at_all(given: tuple[list[str], Asked]) -> list[tuple[str, list[list[Any]] | None]]:
    paths, asked = given
    return [(path, _look_at(path, asked)) for path in paths]


def _look_at(path: str, asked: Asked) -> list[list[Any]] | None:
    """The spots of one file, as plain lists; none for one that cannot be read, or is no text. None for one that is nested too deeply."""
    try:
        handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
        try:
            data = os.read(handle, os.fstat(handle).st_size + 1)
        finally:
            os.close(handle)
    except OSError:
        return []
    language = language_of(path.rpartition("/")[2], asked.templates) or by_first_line(data)
    if language is None or b"\0" in data[:1024]:
        return []
    try:
        found = look(language, data, asked.helpers)
    except RecursionError:
        return None
    placed: list[list[Any]] = []
    every: list[Mention | Unknown] = [*map(_hidden, found.mentions), *found.unknown]
    for one in sorted(every, key=lambda one: one.start):
        start = data.rfind(b"\n", 0, one.start) + 1
        where = [data.count(b"\n", 0, one.start) + 1, len(data[start : one.start].decode(errors="replace")) + 1]
        text = data[one.start : one.end].decode(errors="replace") if isinstance(one, Unknown) else ""
        placed.append([list(one) if isinstance(one, Mention) else None, *where, text])
    return placed


def _hidden(one: Mention) -> Mention:
    """A default that looks like a secret is shown to nobody, nor kept."""
    return one._replace(default=HIDDEN) if one.default and guess(one.name, one.default).secret else one


def _spots(found: list[list[Any]]) -> list[Spot]:
    return [Spot(Mention(*mention) if mention else None, line, column, text) for mention, line, column, text in found]


def _readers() -> int:
    """When the readers of code were last changed: what others found does not count."""
    return max(one.stat().st_mtime_ns for one in os.scandir(Path(mentions.__file__).parent) if one.name.endswith(".py"))


class _Kept:
    """What was found the last time, in a file: a list a path with its size, its time, and its spots if it has any."""

    def __init__(self, path: Path | None, asked: Asked) -> None:
        self.path = path
        self.key = [_FORM, _readers(), sorted(asked.helpers), list(asked.templates)]
        self.files: dict[str, list[Any]] = {}
        try:
            held = json.loads(path.read_bytes()) if path else {}
            if held.get("key") == self.key:
                self.files = held["files"]
        except (OSError, ValueError, AttributeError, KeyError):
            pass  # nothing is lost without it but time

    def spots(self, one: Candidate) -> list[list[Any]] | None:
        """What is known of a file that has not changed."""
        held = self.files.get(one.path)
        return (held[2] if len(held) > 2 else []) if held and held[0] == one.size and held[1] == one.changed else None

    def keep(self, candidates: list[Candidate], found: dict[str, list[list[Any]]], started: int) -> None:
        """Write it anew, with what other looks found below other paths; a place that cannot be written is no fault."""
        if self.path is None:
            return
        fresh = {one.path: [one.size, one.changed, *([found[one.path]] if found[one.path] else [])] for one in candidates if one.changed < started - _JUST_NOW}
        others = {path: held for path, held in self.files.items() if path not in found and Path(path).exists()}
        text = json.dumps({"key": self.key, "files": others | fresh}, separators=(",", ":"))
        with contextlib.suppress(OutsideError):
            replace_file(self.path, text.encode(), mode=0o600)
