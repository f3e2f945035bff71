"""Sources of variables besides stages: files in a dialect, processes, containers, images, Compose files, manifests,
documents, destinations.

A new source is a module here and a line in the table, or an entry point (`coinjar.sources`) of another package.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import cast

from coinjar.core.errors import UsageError
from coinjar.sources.base import SourceContext, SourceVariables
from coinjar.system.plugins import plugins

BUILT_IN = {
    "file": ("dialect_files:read_file", "file:PATH or file+DIALECT:PATH"),
    "-": ("dialect_files:read_stdin", "- for stdin"),
    "compose": ("compose:read_compose", "compose:PATH"),
    "manifests": ("structures:read_manifests", "manifests:PATH"),
    "document": ("structures:read_document", "document:PATH#POINTER"),
    "bundle": ("structures:read_bundle", "bundle:PATH"),
    "dest": ("structures:read_destination", "dest:NAME@STAGE"),
    "commit": ("revisions:read_commit", "commit:REVISION@STAGE"),
    "process": ("running:read_process", "process:PID"),
    "container": ("running:read_container", "container:NAME"),
    "image": ("images:read_image", "image:NAME or image:PATH"),
}
"""Each source's reader, and its notation."""


def is_source(text: str) -> bool:
    """Return whether this names a source, as opposed to a stage, whose name contains no dot, slash or colon."""
    return text == "-" or any(sign in text for sign in ":./")


def read_source(text: str, context: SourceContext | None = None) -> SourceVariables:
    """Read a source; `A,B` are layers. Raises UsageError for an unknown one, InputError for one that cannot be read."""
    context = context or SourceContext()
    if "," in text:
        from coinjar.sources.layers import layered, parts_of

        if len(parts := parts_of(text)) > 1:
            return layered(text, [read_source(part, context) for part in parts])
    head, colon, rest = text.partition(":")
    kind, _, dialect = head.partition("+")
    if kind in BUILT_IN and (colon or kind == "-"):
        module, _, function = BUILT_IN[kind][0].partition(":")
        return cast(
            "Callable[[str, str, SourceContext], SourceVariables]",
            getattr(import_module(f"coinjar.sources.{module}"), function),
        )(rest, dialect, context)
    if colon and kind in plugins("sources"):
        return cast("SourceVariables", plugins("sources")[kind].load()(rest, dialect, context))
    if Path(text).is_file():
        from coinjar.sources.dialect_files import read_file

        return read_file(text, "", context)
    forms = ", ".join(form for _, form in BUILT_IN.values())
    if context.jar is not None and text in context.jar.stage_names():
        hint = (
            f"`coinjar render {text} --as json | coinjar adopt - --stage STAGE` copies its values into another stage "
            "(with --service if there are several)"
        )
        raise UsageError(
            f"'{text}' is a stage, but a file or another source is required", hint=hint, code="unknown-source"
        )
    what = f"there is no file '{text}'" if not colon and is_source(text) else f"'{text}' is not a source"
    raise UsageError(what, hint=f"write the path of a file, or {forms}", code="unknown-source")
