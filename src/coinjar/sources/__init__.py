"""What variables can be read from besides a stage: `file:PATH`, `file+DIALECT:PATH`, and `-` for stdin.

A new source is a module here and a line in the table, or an entry point (`coinjar.sources`) of another package.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import cast

from coinjar.core.errors import UsageError
from coinjar.sources.base import Source

BUILT_IN = {"file": "texts:read_file", "-": "texts:read_stdin"}


def is_source(text: str) -> bool:
    """Whether this names a source, as opposed to a stage."""
    return text == "-" or ":" in text


def read_source(text: str) -> Source:
    """Read a source. Raises UsageError for an unknown one, InputError for one that cannot be read."""
    head, colon, rest = text.partition(":")
    kind, _, dialect = head.partition("+")
    if kind in BUILT_IN and (colon or kind == "-"):
        module, _, function = BUILT_IN[kind].partition(":")
        return cast("Callable[[str, str], Source]", getattr(import_module(f"coinjar.sources.{module}"), function))(rest, dialect)
    from importlib.metadata import entry_points

    for point in entry_points(group="coinjar.sources"):
        if point.name == kind and colon:
            return cast("Source", point.load()(rest, dialect))
    forms = "write a stage's name, file:PATH, file+DIALECT:PATH, or - for stdin"
    hint = f"did you mean file:{text}?" if Path(text).exists() else forms
    raise UsageError(f"'{text}' is no source", hint=hint, code="unknown-source")
