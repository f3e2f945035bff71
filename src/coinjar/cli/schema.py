"""`coinjar schema`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from coinjar.cli.opening import print_status
from coinjar.core.errors import UsageError


def run(
    name: Annotated[
        str | None, typer.Argument(metavar="[jar|plain|readers|platform|sheet]", help="Which one to print.")
    ] = None,
    out: Annotated[
        Path | None, typer.Option("--out", metavar="DIR", help="Write all of them into this folder.")
    ] = None,
) -> None:
    """Print the JSON Schemas (2020-12) of jar.yaml, plain/*.yaml, readers.yaml, platforms/*.yaml and sheets, for
    completion and checks in an editor.
    """
    from coinjar.jarfile.schemas import SCHEMAS
    from coinjar.system.files import replace_file

    if (name is None) == (out is None):
        raise UsageError("which schema?", hint=f"name one of {', '.join(SCHEMAS)}, or give --out DIR for all")
    if out is not None:
        for schema in SCHEMAS:
            path = out / f"{schema}.schema.json"
            replace_file(path, _text(schema).encode())
            print_status(f"written: {path}")
        return
    if name not in SCHEMAS:
        raise UsageError(f"there is no schema '{name}'", hint=f"they are {', '.join(SCHEMAS)}")
    sys.stdout.write(_text(name))


def _text(name: str) -> str:
    """Return a schema; that of jar.yaml has the options of all destinations."""
    from coinjar.destinations.schema import jar_schema
    from coinjar.jarfile.schemas import schema_text

    return jar_schema() if name == "jar" else schema_text(name)
