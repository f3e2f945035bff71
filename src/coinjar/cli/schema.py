"""`coinjar schema`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from coinjar.cli.common import print_status
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
    from coinjar.jarfile.schemas import SCHEMAS, schema_text
    from coinjar.system.files import replace_file

    if (name is None) == (out is None):
        raise UsageError("which schema?", hint=f"name one of {', '.join(SCHEMAS)}, or give --out DIR for all")
    if out is not None:
        for schema in SCHEMAS:
            path = out / f"{schema}.schema.json"
            text = schema_text(schema)
            replace_file(path, (_with_plugins(text) if schema == "jar" else text).encode())
            print_status(f"written: {path}")
        return
    if name not in SCHEMAS:
        raise UsageError(f"there is no schema '{name}'", hint=f"they are {', '.join(SCHEMAS)}")
    sys.stdout.write(_with_plugins(schema_text(name)) if name == "jar" else schema_text(name))


def _with_plugins(text: str) -> str:
    """Return the schema of jar.yaml with the dialects and destination types of other packages as examples."""
    from coinjar.system.plugins import plugins

    dialects, types = list(plugins("dialects")), list(plugins("destinations"))
    if not dialects and not types:
        return text
    import json

    schema = json.loads(text)
    properties = schema["$defs"]["destination"]["properties"]
    properties["as"]["examples"] = dialects
    properties["type"]["examples"] = types
    return json.dumps(schema, indent=2, ensure_ascii=False) + "\n"
