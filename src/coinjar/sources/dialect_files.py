"""Files and stdin in one of the dialects."""

from __future__ import annotations

import re
import sys
from pathlib import Path

from coinjar.core.errors import InputError, Location
from coinjar.dialects import reader
from coinjar.dialects.base import CUT, ReadRemark, ReadResult
from coinjar.dialects.detection import DetectedDialect, recognise
from coinjar.dialects.settings import SettingsDialect
from coinjar.sources.base import SourceContext, SourceVariables, surprises
from coinjar.system import files

LARGEST = 10 << 20
"""Maximum size of a file, in bytes."""
_WITH_COMMENTS = frozenset("posix literal compose systemd dotenv yaml toml properties containerfile settings".split())
_OTHERS = [
    (rb"^services:[ \t]*(?:#.*)?$", "compose", "a Compose file"),
    (
        (
            rb"^kind:[ \t]*[\"']?"
            rb"(?:Deployment|StatefulSet|DaemonSet|ReplicaSet|ReplicationController|PodTemplate|Job|CronJob|Pod)\b"
        ),
        "manifests",
        "a manifest of a workload",
    ),
    (rb"\A\s*\{(?s:.*)\"ociVersion\"", "bundle", "the config.json of an OCI bundle"),
]
_NOT_PROSE = re.compile(r"[-=#*_~]{3,}|(?<!\w)[A-Za-z_]\w*=")


def read_file(path: str, dialect: str, context: SourceContext) -> SourceVariables:
    """Read `file:PATH` or `file+DIALECT:PATH`."""
    return _taken_apart(_bytes(path), path, f"file:{path}", dialect, context)


def _bytes(path: str) -> bytes:
    try:
        return files.read_file(Path(path), LARGEST + 1)
    except OSError as fault:
        words = (fault.strerror or "unknown error").lower()
        raise InputError(
            f"cannot read it: {words}", hint="check the path", location=Location(path), code="unreadable"
        ) from None


def read_stdin(rest: str, dialect: str, context: SourceContext) -> SourceVariables:
    """Read `-`, or `-+DIALECT:`."""
    del rest
    return _taken_apart(sys.stdin.buffer.read(LARGEST + 1), "stdin", "stdin", dialect, context)


def _taken_apart(data: bytes, file: str, label: str, dialect: str, context: SourceContext) -> SourceVariables:
    if len(data) > LARGEST:
        raise InputError(
            f"it is over {LARGEST >> 20} MiB", hint="is it the right file?", location=Location(file), code="too-large"
        )
    if not dialect and (other := _other_kind(data, file, context)):
        return other
    detected = DetectedDialect(dialect, "as given") if dialect else recognise(data, file)
    name, why, reading = _read_best(detected, data, file, context)
    reading.remarks.extend(surprises(reading.items))
    reading.remarks.sort(key=lambda remark: remark.location)
    return SourceVariables(label, name, why, reading, _comments(data, file) if name in _WITH_COMMENTS else {})


def _read_best(
    detected: DetectedDialect, data: bytes, file: str, context: SourceContext
) -> tuple[str, str, ReadResult]:
    """Return the dialect of the candidates that loses the fewest lines, why, and its reading."""
    ends = ReadRemark(
        Location(file, 1, 1), "the carriage returns at the ends of lines were ignored; a shell would keep them"
    )
    cut = bool(detected.others) and b"\r\n" in data
    if cut:  # another system wrote it, and they have no meaning
        data = data.replace(b"\r\n", b"\n")
    result = [(name, _read(name, data, file, context)) for name in (detected.dialect, *detected.others)]
    lost = {name: _lost(reading) for name, reading in result}
    name, reading = min(result, key=lambda item: len(lost[item[0]]))
    words = [
        f"{other} would lose line{'s' if len(lines) > 1 else ''} {', '.join(map(str, lines[:6]))}"
        for other, lines in lost.items()
        if lines and other != name
    ]
    why = detected.why if name == detected.dialect else f"it keeps more of it than {detected.dialect}"
    return name, "; ".join([why, *words]), reading._replace(remarks=[ends, *reading.remarks]) if cut else reading


def _read(name: str, data: bytes, file: str, context: SourceContext) -> ReadResult:
    dialect = reader(name)
    dialect.parse_context = context.parse_context()
    if isinstance(dialect, SettingsDialect):
        dialect.as_json = not file.lower().endswith((".yaml", ".yml")) and data.lstrip().startswith(b"{")
    return dialect.read(data, file)


def _lost(reading: ReadResult) -> list[int]:
    """Return the lines that a reader loses, or whose values it truncates."""
    return sorted({remark.location.line for remark in reading.remarks if remark.lost or remark.kind == CUT})


def _comments(data: bytes, file: str) -> dict[tuple[str, int], str]:
    """Return the comment directly above each line, by file and the line's number; banners and commented-out
    assignments are not descriptions.
    """
    result: dict[tuple[str, int], str] = {}
    above: list[str] = []
    for number, line in enumerate(data.decode(errors="replace").splitlines(), 1):
        if line.lstrip().startswith("#"):
            comment = line.lstrip().lstrip("#").strip()
            above = [*above, comment] if comment and not _NOT_PROSE.search(comment) else []
            continue
        if line.strip() and above:
            result[file, number] = " ".join(above)
        above = []
    return result


def _other_kind(data: bytes, file: str, context: SourceContext) -> SourceVariables | None:
    """Read a file that is more than a list of variables as a source of its kind; not stdin, since such a source needs
    the files beside it.
    """
    for pattern, kind, what in _OTHERS:
        if re.search(pattern, data, re.MULTILINE):
            if not Path(file).exists():
                hint = f"read it as {kind}:PATH, or name a dialect: -+DIALECT:"
                raise InputError(f"this looks like {what}", hint=hint, location=Location(file), code="other-source")
            from coinjar.sources import read_source

            source = read_source(f"{kind}:{file}", context)
            return source._replace(why=f"it is {what}; {source.why}")
    return None
