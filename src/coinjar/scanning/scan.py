"""Find the mentions of many files: several at a time, with cached results for files that have not changed."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import time
from codecs import BOM_UTF16_BE, BOM_UTF16_LE
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain, islice
from pathlib import Path
from typing import Any, NamedTuple

from coinjar import mentions
from coinjar.core.code_uses import HIDDEN
from coinjar.core.errors import ExternalError
from coinjar.core.inference import infer
from coinjar.core.patterns import time_limit
from coinjar.core.progress import Progress
from coinjar.mentions.base import ComputedName, Mention, TooLongToRead
from coinjar.mentions.languages import SourceLanguage, by_first_line, language_of, look, may_mention
from coinjar.mentions.minified import MINIFIED, PACKED, is_minified
from coinjar.scanning.file_walk import CandidateFile, FileWalk, UnreadableFile
from coinjar.scanning.workers import in_workers
from coinjar.system.files import replace_file

_TOGETHER = 100
"""Files that one process searches before it reports results."""
_FEW = 150
"""Number of files up to which neither another process nor a cache is worth its cost."""
_SMALL = 4096
"""Bytes of a file that no reader takes long for, whatever it is."""
_JUST_NOW = 2_000_000_000
"""Nanoseconds: a file modified this recently before a search may be modified again without a new time."""
_FORM = 6
_LONGEST = 2.0
"""Seconds of processor time for one file: one of a MiB takes half of one."""


class LocatedMention(NamedTuple):
    """A mention with its line and column, in characters from 1; `mention` is None where the name is known only at run
    time: `text` computes it.
    """

    mention: Mention | None
    line: int
    column: int
    text: str = ""


class FileMentions(NamedTuple):
    """A file and its mentions."""

    path: str
    mentions: list[LocatedMention]


class ScanResult(NamedTuple):
    """The result: files with mentions, how many were searched, how many of those were cached, what was skipped, what
    could not be read.
    """

    files: list[FileMentions]
    scanned: int
    cached: int
    left_out: Counter[str]
    unreadable: list[UnreadableFile]


class _FileScan(NamedTuple):
    """One file: its mentions as plain lists, why it could not be read (line, column, message), and the reason for which
    it was left out.
    """

    spots: list[list[Any]]
    unread: list[Any] | None = None
    left_out: str = ""


_NOTHING = _FileScan([])
_TOO_LONG = _FileScan([], [0, 0, "it takes too long to be read: it is no code that people write"])


class ScanRequest(NamedTuple):
    """What to search for: functions that read variables named by their first argument, and endings of templates; files
    named one by one.
    """

    helpers: frozenset[str] = frozenset()
    templates: tuple[str, ...] = ()
    named: frozenset[str] = frozenset()


def scan(
    walk: FileWalk,
    paths: Sequence[str],
    scan_request: ScanRequest,
    *,
    cache: Path | None = None,
    progress: Progress | None = None,
) -> ScanResult:
    """Find every mention below the paths. Raises FileNotFoundError for a missing path."""
    started = time.time_ns()
    scan_request = scan_request._replace(
        named=frozenset(os.path.realpath(path) for path in paths if Path(path).is_file())
    )
    kept = _ScanCache(cache, scan_request)
    candidates: list[CandidateFile] = []
    result: dict[str, _FileScan] = {}
    fresh: list[CandidateFile] = []

    def found() -> Iterator[str]:
        """Yield the files that have to be looked at, as soon as they are found."""
        for candidate in walk.files(paths):
            candidates.append(candidate)
            look = kept.look(candidate) if candidate.path not in scan_request.named else None
            if look is None:
                fresh.append(candidate)
                yield candidate.path
            else:
                result[candidate.path] = look

    coming = found()
    first = [*islice(coming, _FEW + 1)]
    if len(first) <= _FEW and all(candidate.size <= _SMALL for candidate in fresh):
        result |= {path: _look_at(path, scan_request) for path in first}
    else:
        most = len(os.sched_getaffinity(0)) if len(first) > _FEW else 1
        parts = _parts(chain(first, coming))
        for results in in_workers(parts, lambda path: [*_look_at(path, scan_request)], _ended, most):
            result.update((path, _FileScan(*look)) for path, look in results)
            if progress and len(first) > _FEW:
                progress("looking", len(result) - (len(candidates) - len(fresh)), len(fresh))
    walk.left_out += Counter(look.left_out for look in result.values() if look.left_out)
    if len(fresh) > _FEW or (fresh and kept.files):  # for few files a cache does not help
        kept.keep(candidates, result, started)
    ordered = sorted(candidate.path for candidate in candidates)
    files = [FileMentions(path, _spots(result[path].spots)) for path in ordered if result[path].spots]
    unreadable = [UnreadableFile(path, *unread) for path in ordered if (unread := result[path].unread) is not None]
    return ScanResult(
        files, len(candidates), len(candidates) - len(fresh), walk.left_out, [*walk.unreadable, *unreadable]
    )


def _parts(paths: Iterable[str]) -> Iterator[list[str]]:
    paths = iter(paths)
    while part := [*islice(paths, _TOGETHER)]:
        yield part


def _ended(by: int) -> list[Any]:
    """Return the result for a file at which a worker ended by a signal."""
    return [*(_TOO_LONG if by == signal.SIGXCPU else _FileScan([], [0, 0, f"its reader ended with signal {by}"]))]


def _look_at(path: str, scan_request: ScanRequest) -> _FileScan:
    """Return the mentions of one file; none if it is not a text in a known language."""
    try:
        handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
        try:
            data = os.read(handle, os.fstat(handle).st_size + 1)
        finally:
            os.close(handle)
    except OSError as fault:
        return _FileScan([], [0, 0, f"cannot read it: {(fault.strerror or 'unknown error').lower()}"])
    language = language_of(path.rpartition("/")[2], scan_request.templates) or by_first_line(data)
    is_named = path in scan_request.named
    if language is not None and data.startswith((BOM_UTF16_LE, BOM_UTF16_BE)):
        return _FileScan([], [0, 0, "it is UTF-16: save it as UTF-8"])
    if language is None or b"\0" in data[:1024]:
        return _FileScan([], [0, 0, "its format is not known"] if is_named else None)
    if not is_named and language.module in PACKED and is_minified(data):
        return _FileScan([], left_out=MINIFIED)
    return (
        _found_in_time(language, data, scan_request)
        if is_named or may_mention(language, data, scan_request.helpers)
        else _NOTHING
    )


def _found_in_time(language: SourceLanguage, data: bytes, scan_request: ScanRequest) -> _FileScan:
    """Return the mentions of a text, or why it could not be read as a whole."""
    try:
        with time_limit(_LONGEST, TooLongToRead):
            return _found(language, data, scan_request)
    except RecursionError:
        return _FileScan([], [0, 0, "it is nested too deeply to be read"])
    except TooLongToRead:
        return _TOO_LONG


def _found(language: SourceLanguage, data: bytes, scan_request: ScanRequest) -> _FileScan:
    """Return the mentions of a text, with lines and columns. Raises RecursionError, TooLongToRead."""
    mentions = look(language, data, scan_request.helpers, always=True)
    spots: list[list[Any]] = []
    every: list[Mention | ComputedName] = [*map(_hidden, mentions.mentions), *mentions.unknown]
    line, begins, seen, column = 1, 0, 0, 1
    for computed in sorted(every, key=lambda computed: computed.start):
        start = data.rfind(b"\n", seen, computed.start) + 1
        if start:
            line += data.count(b"\n", seen, computed.start)
            begins, column = start, 1
        column += len(data[max(seen, begins) : computed.start].decode(errors="replace"))
        seen = computed.start
        text = (
            data[computed.start : computed.end].decode(errors="replace") if isinstance(computed, ComputedName) else ""
        )
        spots.append([list(computed) if isinstance(computed, Mention) else None, line, column, text])
    return _FileScan(spots, list(mentions.unread) if mentions.unread else None)


def _hidden(mention: Mention) -> Mention:
    """Return a mention without a default that looks like a secret: it is neither shown nor cached."""
    return (
        mention._replace(default=HIDDEN) if mention.default and infer(mention.name, mention.default).secret else mention
    )


def _spots(result: list[list[Any]]) -> list[LocatedMention]:
    return [
        LocatedMention(Mention(*mention) if mention else None, line, column, text)
        for mention, line, column, text in result
    ]


def _readers() -> int:
    """Return when the readers of code last changed: results of other versions are not used."""
    return max(
        entry.stat().st_mtime_ns for entry in os.scandir(Path(mentions.__file__).parent) if entry.name.endswith(".py")
    )


class _ScanCache:
    """A file of cached results: a list per path with its size, its time, its mentions and why it could not be read, if
    any.
    """

    def __init__(self, path: Path | None, scan_request: ScanRequest) -> None:
        self.path = path
        self.key = [_FORM, _readers(), sorted(scan_request.helpers), list(scan_request.templates)]
        self.files: dict[str, list[Any]] = {}
        try:
            held = json.loads(path.read_bytes()) if path else {}
            if held.get("key") == self.key:
                self.files = held["files"]
        except (OSError, ValueError, AttributeError, KeyError):
            pass  # without it, only time is lost

    def look(self, candidate: CandidateFile) -> _FileScan | None:
        """Return the cached result of a file that has not changed."""
        held = self.files.get(candidate.path)
        if not held or held[:2] != [candidate.size, candidate.changed]:
            return None
        return _FileScan(*held[2:]) if len(held) > 2 else _FileScan([])

    def keep(self, candidates: list[CandidateFile], result: dict[str, _FileScan], started: int) -> None:
        """Write the cache, with earlier results for other paths; a failure to write is ignored."""
        if self.path is None:
            return
        fresh = {
            candidate.path: [candidate.size, candidate.changed, *_kept_of(result[candidate.path])]
            for candidate in candidates
            if candidate.changed < started - _JUST_NOW
        }
        others = {path: held for path, held in self.files.items() if path not in result and Path(path).exists()}
        text = json.dumps({"key": self.key, "files": others | fresh}, separators=(",", ":"))
        with contextlib.suppress(ExternalError):
            replace_file(self.path, text.encode(), mode=0o600)


def _kept_of(look: _FileScan) -> list[Any]:
    """Return what is worth caching of a result: most files have nothing."""
    return [*look] if look.unread or look.left_out else [look.spots] if look.spots else []
