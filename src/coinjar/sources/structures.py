"""Sources that are more than a list of variables: manifests, documents by pointer, bundles, destinations."""

from __future__ import annotations

from pathlib import Path

from coinjar.core.display import Masker
from coinjar.core.errors import InputError, Location, UsageError
from coinjar.core.layers import Resolver
from coinjar.destinations import connected, is_live, make
from coinjar.destinations.bundle import read_bundle as bundle_reading
from coinjar.destinations.open_document import OpenDocument
from coinjar.destinations.stage_view import RenderContext
from coinjar.destinations.workloads import environments, read_folder
from coinjar.dialects.base import ReadItem, ReadRemark, ReadResult
from coinjar.documents.implicit_types import implicit_type
from coinjar.jarfile.load import read_bytes
from coinjar.sources.base import SourceContext, SourceVariables, surprises
from coinjar.system.files import display_path


def _source(label: str, what: str, why: str, reading: ReadResult) -> SourceVariables:
    remarks = sorted({*reading.remarks, *surprises(reading.items)}, key=lambda remark: remark.location)
    return SourceVariables(label, what, why, ReadResult(reading.items, remarks, reading.unread))


def _refuse_dialect(kind: str, dialect: str) -> None:
    if dialect:
        raise UsageError(f"{kind} does not support a dialect", hint=f"write {kind}:…", code="unknown-source")


def read_manifests(path: str, dialect: str, context: SourceContext) -> SourceVariables:
    """Read `manifests:PATH`, a file or a folder: what each container's process would get, by service."""
    _refuse_dialect("manifests", dialect)
    files = read_folder(Path(path))
    reading = environments(files, context.services(), {}, others=True)
    return _source(
        f"manifests:{path}",
        "manifests",
        f"{len(files)} file{'s' if len(files) != 1 else ''}, env and envFrom as Kubernetes reads them",
        reading,
    )


def read_document(rest: str, dialect: str, context: SourceContext) -> SourceVariables:
    """Read `document:PATH#POINTER`: one environment inside a YAML or JSON file."""
    _refuse_dialect("document", dialect)
    del context
    path, hash_mark, pointer = rest.partition("#")
    if not hash_mark:
        raise UsageError(
            "a document requires a pointer", hint=f"write document:{path}#/jobs/deploy/env", code="unknown-source"
        )
    document = OpenDocument(read_bytes(Path(path)), display_path(Path(path)))
    match = document.follow(pointer)
    if match.missing:
        raise InputError(
            f"{pointer} does not exist",
            hint="correct the pointer",
            location=document.location(match.trail[-1]),
            code="pointer",
        )
    items: list[ReadItem] = []
    remarks: list[ReadRemark] = []
    for name, entry in document.level(pointer).entries.items():
        location = document.location(entry.at)
        if entry.text is None:
            remarks.append(ReadRemark(location, f"ignored: {name} has no value of its own", lost=True))
            continue
        meaning = implicit_type(entry.value, as_json=document.as_json) if entry.value else None
        if meaning:
            remarks.append(
                ReadRemark(
                    location, f"{name} is {meaning[0]} there, and is read as '{meaning[1]}'; it was read as written"
                )
            )
        items.append(ReadItem(name, entry.text, location))
    return _source(f"document:{rest}", "document", f"the environment at {pointer}", ReadResult(items, remarks))


def read_bundle(path: str, dialect: str, context: SourceContext) -> SourceVariables:
    """Read `bundle:PATH`, an OCI runtime bundle or its config.json."""
    _refuse_dialect("bundle", dialect)
    del context
    file = Path(path) / "config.json" if Path(path).is_dir() else Path(path)
    return _source(f"bundle:{path}", "bundle", "process.env", bundle_reading(read_bytes(file), display_path(file)))


def read_destination(rest: str, dialect: str, context: SourceContext) -> SourceVariables:
    """Read `dest:NAME@STAGE`: what a destination contains now."""
    _refuse_dialect("dest", dialect)
    name, at, stage = rest.partition("@")
    if context.jar is None or context.folder is None or context.gate is None:
        raise UsageError(
            "a destination requires a jar",
            hint="run it where there is a jar, or name one with --jar",
            code="no-jar",
        )
    if not at:
        raise UsageError("a destination requires a stage", hint=f"write dest:{name}@STAGE", code="unknown-source")
    context.jar.stage(stage)
    destination = context.jar.destination(name)
    render_context = RenderContext(context.jar, context.folder, Masker(), context.ring, context.gate)
    reading = (
        connected(destination, render_context).read_now(Resolver(context.jar, stage))
        if is_live(destination)
        else make(destination, render_context).read(stage)
    )
    if not reading.items and not reading.remarks:
        reading = ReadResult(
            [],
            [
                ReadRemark(
                    Location(destination.location.file, destination.location.line, destination.location.column),
                    "it is empty",
                )
            ],
        )
    return _source(f"dest:{rest}", destination.type, "its present content", reading)
