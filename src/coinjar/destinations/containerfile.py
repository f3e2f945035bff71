"""`type: containerfile`: `ENV` and `ARG` lines between two comments of a Containerfile, which is otherwise
unchanged.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from functools import partial
from typing import NamedTuple

from coinjar.core.diagnostics import PortUse
from coinjar.core.errors import InputError, Location, raise_all
from coinjar.core.model import Destination
from coinjar.destinations.base import FileDestination, Output, reading_of
from coinjar.destinations.options import Option
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.dialects import carriers, get
from coinjar.dialects.base import Entry, ReadItem, ReadResult, decode, refuse
from coinjar.dialects.containerfile import assignments, instructions, lines, quoted
from coinjar.documents.field_reader import FieldReader
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import display_path

BEGIN, END = "# coinjar: begin", "# coinjar: end"
_REGION = re.compile(rf"^[ \t]*{BEGIN}[^\n]*\n(.*?)^[ \t]*{END}", re.MULTILINE | re.DOTALL)


class _ManagedBlock(NamedTuple):
    """The lines between two comments, and whether they are before the first FROM."""

    start: int
    end: int
    first: bool


class ContainerfileDestination(FileDestination):
    """`path`: a Containerfile with the comments `# coinjar: begin` and `# coinjar: end`, once or more.

    Before the first `FROM`, build arguments that a `FROM` uses are written between them; after it all others, and those
    again without a value, which makes them visible in a stage.
    """

    input_option = "path"
    declared: Mapping[str, Option] = {
        "path": Option(
            "The file, relative to the folder that contains jar/; {stage} and {service} are replaced.", needed=True
        ),
    }

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.path = self.path_pattern("path")
        self.dialect = get("containerfile")

    def outputs(self, view: StageView) -> list[Output]:
        outputs = []
        for service in self.services_of(view, self.path):
            path = self.resolve_path(self.path, view.stage, service)
            entries = view.entries(service, ("build", "run"))
            self._refuse_secrets(entries)
            refuse(self.dialect, entries, carriers)
            old = self.render_context.current(path) or read_bytes(path)
            data = self._with_lines(old, display_path(path), entries)
            hidden = self.hide_items(partial(_every_assignment, file=display_path(path)), ())
            outputs.append(Output(path, data, secret=False, about=self.about(entries), hidden=hidden))
        return outputs

    def _refuse_secrets(self, entries: list[Entry]) -> None:
        raise_all(
            [
                InputError(
                    f"{entry.name} is a secret, but everybody with the image could read it",
                    hint="add plain_only: true to omit secrets, and provide them when the container starts",
                    location=self.destination.location,
                    code="secret-in-image",
                )
                for entry in entries
                if entry.secret and entry.text is not None
            ]
        )

    def _with_lines(self, old: bytes, file: str, entries: list[Entry]) -> bytes:
        text, _ = decode(old, file)
        found = [instruction for instruction in instructions(text) if instruction.word == "FROM"]
        first_from = found[0].line if found else 1 << 30
        regions = [
            _ManagedBlock(match.start(1), match.end(1), text.count("\n", 0, match.start()) + 1 < first_from)
            for match in _REGION.finditer(text)
        ]
        if not regions:
            hint = f"add the comments '{BEGIN}' and '{END}' where the lines should be"
            raise InputError(
                "it has no marked place for the lines", hint=hint, location=Location(file), code="destination"
            )
        mentioned = {name for instruction in found for name in re.findall(r"\$\{?([A-Za-z_]\w*)", instruction.rest)}
        early = [
            entry
            for entry in entries
            if entry.variable and entry.variable.phase in ("build", "both") and entry.name in mentioned
        ]
        if early and not any(region.first for region in regions):
            line = next(
                instruction.line for instruction in found if any(entry.name in instruction.rest for entry in early)
            )
            names = ", ".join(entry.name for entry in early)
            hint = f"also add '{BEGIN}' and '{END}' before it"
            raise InputError(
                f"this FROM needs {names}, which is not declared above",
                hint=hint,
                location=Location(file, line, 1),
                code="destination",
            )
        ahead = "".join(f"ARG {entry.name}={quoted(entry.text or '')}\n" for entry in early)
        rest = "".join(_again(entry) if entry in early else "".join(lines([entry])) for entry in entries)
        newline = "\r\n" if "\r\n" in text else "\n"
        for region in reversed(regions):
            text = text[: region.start] + (ahead if region.first else rest).replace("\n", newline) + text[region.end :]
        return text.encode()

    def port_uses(self, view: StageView) -> Iterator[PortUse]:
        from coinjar.destinations.linked_places import exposed

        for service in self.services_of(view, self.path):
            yield from exposed(self.resolve_path(self.path, view.stage, service), service, view.stage)

    def read(self, stage: str) -> ReadResult:
        return self.read_each(
            self.path, lambda service: reading_of(self.dialect, self.resolve_path(self.path, stage, service))
        )


def _every_assignment(data: bytes, file: str) -> ReadResult:
    """Yield what any stage of a build sets, to find the lines that may contain secrets."""
    text, _ = decode(data, file)
    items = [
        ReadItem(name, value, Location(file, instruction.line, 1))
        for instruction in instructions(text)
        for name, value in (
            assignments(instruction.rest, bare_ok=True)
            if instruction.word in ("ENV", "ARG")
            else [(instruction.word, None)]
        )
    ]
    return ReadResult(items, [])


def _again(entry: Entry) -> str:
    """Return a build argument from before FROM, as a stage sees it: declared again, its value unchanged."""
    both = entry.variable is not None and entry.variable.phase == "both"
    return f"ARG {entry.name}\n" + (f"ENV {entry.name}=${{{entry.name}}}\n" if both else "")
