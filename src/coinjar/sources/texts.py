"""Files and stdin in one of the dialects."""

from __future__ import annotations

import re
import sys
from pathlib import Path

from coinjar.core.errors import InputError, Place
from coinjar.dialects import reader
from coinjar.dialects.recognise import recognise
from coinjar.sources.base import Source, surprises

LARGEST = 10 << 20
"""Bytes of a file that are read at most."""
_COMMENT = re.compile(r"\s*#+\s*(.*?)\s*")
_NOT_PROSE = re.compile(r"[-=#*_~]{3,}|[A-Za-z_]\w*=")


def read_file(path: str, dialect: str) -> Source:
    """`file:PATH` or `file+DIALECT:PATH`."""
    try:
        with Path(path).open("rb") as file:
            data = file.read(LARGEST + 1)
    except OSError as fault:
        words = (fault.strerror or "unknown error").lower()
        raise InputError(f"cannot read it: {words}", hint="look at the path", place=Place(path), code="unreadable") from None
    return _taken_apart(data, path, f"file:{path}", dialect)


def read_stdin(rest: str, dialect: str) -> Source:
    """`-`, or `-+DIALECT:`."""
    del rest
    return _taken_apart(sys.stdin.buffer.read(LARGEST + 1), "stdin", "stdin", dialect)


def _taken_apart(data: bytes, file: str, label: str, dialect: str) -> Source:
    if len(data) > LARGEST:
        raise InputError(f"it is over {LARGEST >> 20} MiB", hint="is it the right file?", place=Place(file), code="too-large")
    name, why = (dialect, "you said so") if dialect else recognise(data, file)
    reading = reader(name).read(data, file)
    reading.remarks.extend(surprises(reading.items))
    reading.remarks.sort(key=lambda remark: remark.place)
    return Source(label, name, why, reading, _comments(data) if name != "nul" else {})


def _comments(data: bytes) -> dict[int, str]:
    """The comment right above each line, by the line's number; banners and commented-out assignments are none."""
    found: dict[int, str] = {}
    above: list[str] = []
    for number, line in enumerate(data.decode(errors="replace").splitlines(), 1):
        comment = _COMMENT.fullmatch(line) if line.lstrip().startswith("#") else None
        if comment:
            above = [*above, comment[1]] if comment[1] and not _NOT_PROSE.search(comment[1]) else []
            continue
        if line.strip() and above:
            found[number] = " ".join(above)
        above = []
    return found
