"""`type: oci-bundle`: `process.env` in the `config.json` of an OCI runtime bundle."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from coinjar.core.errors import InputError, Location, location_of
from coinjar.core.model import Destination
from coinjar.core.names import quoted_name
from coinjar.destinations.base import FileDestination, Output
from coinjar.destinations.open_document import every_entry
from coinjar.destinations.options import Option
from coinjar.destinations.stage_view import RenderContext, StageView, gets
from coinjar.dialects import carriers, get
from coinjar.dialects.base import ReadItem, ReadRemark, ReadResult, decode, refuse
from coinjar.documents.edit import apply
from coinjar.documents.environments import LINES, edits, held
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.jsontree import build_json_tree
from coinjar.documents.pointer import follow
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import display_path


class BundleDestination(FileDestination):
    """`path`: the bundle's config.json. Entries that the jar does not declare stay."""

    declared: Mapping[str, Option] = {
        "path": Option(
            "The bundle's config.json, relative to the folder that contains jar/; {stage} and {service} are replaced.",
            needed=True,
        ),
    }

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.path = self.path_pattern("path")

    def outputs(self, view: StageView) -> list[Output]:
        outputs = []
        for service in self.services_of(view, self.path):
            path = self.resolve_path(self.path, view.stage, service)
            file = display_path(path)
            entries = view.entries(service)
            refuse(get("nul"), entries, carriers)
            old = self.render_context.current(path) or read_bytes(path)
            match = follow(build_json_tree(decode(old, file)[0], file), "/process/env")
            wanted = {entry.name: entry.text for entry in entries if entry.text is not None}
            there = {entry.name: entry.text for entry in held(match.node)}
            jar = self.render_context.jar
            gone = [
                name for name in there if name in jar.variables and gets(self.destination, name) and name not in wanted
            ]
            same = [name for name, text in wanted.items() if there.get(name) == text]
            data = apply(old, file, edits(match.node, match.path, LINES, wanted, gone, same=same), as_json=True)
            secret = any(entry.secret and entry.text is not None for entry in entries)
            hidden = self.hide_items(partial(every_entry, file=file), [entry.name for entry in entries if entry.secret])
            outputs.append(Output(path, data, secret, self.about(entries), hidden))
        return outputs

    def read(self, stage: str) -> ReadResult:
        def read_one(service: str) -> ReadResult:
            path = self.resolve_path(self.path, stage, service)
            return read_bundle(read_bytes(path), display_path(path))

        return self.read_each(self.path, read_one)


def read_bundle(data: bytes, file: str) -> ReadResult:
    """Return `process.env` of a config.json. Raises InputError if it is not one."""
    text, remarks = decode(data, file)
    try:
        match = follow(build_json_tree(text, file), "/process/env")
    except InputError as fault:
        if fault.code == "pointer":
            raise InputError(
                "this is not a bundle's config.json: it has no process",
                hint="use the config.json of a bundle",
                location=Location(file),
                code="shape",
            ) from None
        raise
    items: list[ReadItem] = []
    for entry in held(match.node):
        location = location_of(text, entry.at.start, file)
        if entry.text is None:
            remarks.append(
                ReadRemark(location, f"ignored: {quoted_name(entry.name)} has no '=', which runtimes refuse", lost=True)
            )
            continue
        items.append(ReadItem(entry.name, entry.text, location))
    return ReadResult(items, remarks)
