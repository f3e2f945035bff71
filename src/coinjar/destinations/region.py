"""`type: region`: a marked region of any text file. Each variable is one line; all else is unchanged, byte for byte."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import partial
from pathlib import Path
from typing import NamedTuple

from coinjar.core.errors import CoinJarError, InputError, Location, raise_all
from coinjar.core.model import Destination
from coinjar.core.placeholders import fill, placeholders
from coinjar.core.text_literals import LANGUAGES, NotWritable, quoted, unquoted
from coinjar.destinations.base import FileDestination, Output
from coinjar.destinations.options import PHASES, Option
from coinjar.destinations.stage_view import RenderContext, StageView, services_for
from coinjar.dialects.base import Entry, ReadItem, ReadRemark, ReadResult, decode
from coinjar.documents.field_reader import FieldReader
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import display_path

_BEGIN, _END = "coinjar: begin {destination}", "coinjar: end {destination}"
_HOLDERS = ("stage", "service", "destination")


class _Region(NamedTuple):
    """The lines between the marks: from the line after the first to that of the second, counted from 0."""

    first: int
    last: int
    indent: str


class RegionDestination(FileDestination):
    """`path`: a text file with two comments that contain `begin` and `end`; between them a `line` for each variable."""

    input_option = "path"
    declared: Mapping[str, Option] = {
        "path": Option(
            "The file, relative to the folder that contains jar/; {stage} and {service} are replaced.", needed=True
        ),
        "line": Option("The line of a variable, with {name} and {value}.", needed=True),
        "quoted": Option("The language whose text {value} is.", {"enum": [*LANGUAGES]}, needed=True),
        "between": Option("What follows each line but the last, for example a comma."),
        "begin": Option(
            f"What marks the line before the region; default: {_BEGIN}. {{stage}} and {{service}} are replaced."
        ),
        "end": Option(f"What marks the line after it; default: {_END}."),
        "phases": Option("Which variables are written: those of the build, of the run; default: [run].", PHASES),
    }

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.path = self.path_pattern("path")
        self.between = self.text("between")
        self.begin = self.pattern("begin", _HOLDERS) or _BEGIN
        self.end = self.pattern("end", _HOLDERS) or _END
        self.language = self.text("quoted", "plain")
        self.phases = self.phases_of("phases")
        if self.language not in LANGUAGES:
            self.fields.fault(
                self.options["quoted"],
                f"there is no language '{self.language}' here",
                f"the languages are {', '.join(LANGUAGES)}",
                "destination",
            )
        self.line = self.text("line")
        if "line" in self.options and sorted(placeholders(self.line)) != ["name", "value"]:
            self.fields.fault(
                self.options["line"],
                "a line has {name} and {value}, each once",
                """for example line: '"{name}": {value},'""",
                "destination",
            )

    def outputs(self, view: StageView) -> list[Output]:
        faults: list[CoinJarError] = []
        written: dict[Path, tuple[bytes, list[Entry]]] = {}
        for service in self._services(view):
            path = self.resolve_path(self.path, view.stage, service)
            entries = [entry for entry in view.entries(service, self.phases) if entry.text is not None]
            old, before = written.get(path, (self.render_context.current(path) or read_bytes(path), []))
            try:
                written[path] = (self._with_lines(old, path, entries, view.stage, service), [*before, *entries])
            except CoinJarError as fault:
                faults += fault.each()
        raise_all(faults)
        return [
            Output(
                path,
                data,
                secret=any(entry.secret for entry in entries),
                about=self.about(entries),
                hidden=self.hide_items(
                    partial(self._every_line, file=display_path(path)),
                    [entry.name for entry in entries if entry.secret],
                ),
                merges=True,
            )
            for path, (data, entries) in written.items()
        ]

    def _services(self, view: StageView) -> list[str]:
        """Return the services, each with a region of its own."""
        return view.services() if "{service}" in self.begin + self.end else self.services_of(view, self.path)

    def _with_lines(self, old: bytes, path: Path, entries: list[Entry], stage: str, service: str) -> bytes:
        text, _ = decode(old, display_path(path))
        lines = _lines(text)
        region = self._region(lines, path, stage, service)
        newline = "\r\n" if lines[region.first - 1].endswith("\r\n") else "\n"
        written, faults = list[str](), list[CoinJarError]()
        for number, entry in enumerate(entries, 1):
            try:
                value = quoted(self.language, entry.text or "")
            except NotWritable as fault:
                faults.append(self._not_written(entry, str(fault)))
                continue
            line = fill(self.line, name=entry.name, value=value)
            written.append(region.indent + line + (self.between if number < len(entries) else "") + newline)
        raise_all(faults)
        new = "".join([*lines[: region.first], *written, *lines[region.last :]])
        return old[: len(old) - len(old.removeprefix(b"\xef\xbb\xbf"))] + new.encode()

    def _not_written(self, entry: Entry, why: str) -> InputError:
        return InputError(
            f"{entry.name} cannot be written: {why}",
            hint=f"use another value, or omit it (without: [{entry.name}])",
            location=self.destination.location,
            code="destination",
        )

    def _region(self, lines: list[str], path: Path, stage: str, service: str) -> _Region:
        """Return the region of a stage and service. Raises InputError unless its marks are there once, in order."""
        file = display_path(path)
        found: list[int] = []
        for pattern in (self.begin, self.end):
            mark = self._mark(pattern, stage, service)
            at = [number for number, line in enumerate(lines) if re.search(re.escape(mark) + r"(?![\w.-])", line)]
            if len(at) != 1:
                words = f"no line has the mark '{mark}'" if not at else f"several lines have the mark '{mark}'"
                hint = f"write two comments around the region: one with '{self._mark(self.begin, stage, service)}', "
                hint += f"one with '{self._mark(self.end, stage, service)}'"
                line = at[1] + 1 if at else 1
                raise InputError(words, hint=hint, location=Location(file, line, 1), code="destination")
            found += at
        begin, end = found
        if end <= begin:
            message = "the mark of the end comes before that of the beginning"
            raise InputError(message, hint="exchange them", location=Location(file, end + 1, 1), code="destination")
        start = lines[begin]
        return _Region(begin + 1, end, start[: len(start) - len(start.lstrip(" \t"))])

    def _mark(self, pattern: str, stage: str, service: str) -> str:
        return fill(pattern, stage=stage, service=service, destination=self.destination.name)

    def _items(self, lines: list[str], file: str, first: int = 0) -> ReadResult:
        """Return what the lines of a region say; `first` is the number of lines before them."""
        pattern = re.compile(self._line_pattern())
        items, remarks = list[ReadItem](), list[ReadRemark]()
        for number, line in enumerate(lines, first + 1):
            shown = line.strip()
            is_last = number == first + len(lines)
            match = pattern.fullmatch(shown if is_last else shown.removesuffix(self.between.strip()))
            text = unquoted(self.language, match["value"]) if match else None
            where = Location(file, number, 1)
            if match and text is not None:
                items.append(ReadItem(match["name"], text, where))
            elif shown:
                remarks.append(ReadRemark(where, "this line was not written by the destination", lost=True))
        return ReadResult(items, remarks)

    def _line_pattern(self) -> str:
        parts = re.split(r"\{(name|value)\}", self.line.strip())
        groups = {"name": r"(?P<name>[^\s\"']+?)", "value": r"(?P<value>.*)"}
        return "".join(groups[part] if number % 2 else re.escape(part) for number, part in enumerate(parts))

    def _every_line(self, data: bytes, file: str) -> ReadResult:
        """Return what any line of a file says in this form, to find those that may be secret."""
        text, _ = decode(data, file)
        found = self._items(_lines(text), file)
        return ReadResult(found.items, [])

    def read(self, stage: str) -> ReadResult:
        found = ReadResult([], [])
        services = services_for(self.destination, self.render_context.jar)
        each = "{service}" in self.path + self.begin + self.end
        for service in services if each else services[:1]:
            path = self.resolve_path(self.path, stage, service)
            lines = _lines(decode(read_bytes(path), display_path(path))[0])
            region = self._region(lines, path, stage, service)
            reading = self._items(lines[region.first : region.last], display_path(path), region.first)
            items = [item._replace(service=service) if each else item for item in reading.items]
            found = ReadResult([*found.items, *items], [*found.remarks, *reading.remarks])
        return found


def _lines(text: str) -> list[str]:
    """Return the lines with their ends: only a line feed ends one."""
    return re.findall(r"[^\n]*\n|[^\n]+", text)
