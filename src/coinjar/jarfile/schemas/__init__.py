"""The JSON Schemas (2020-12) that ship with the package: jar.yaml, plain/*.yaml, readers.yaml, platforms/*.yaml,
sheets.
"""

from __future__ import annotations

from importlib.resources import files

SCHEMAS = ("jar", "plain", "readers", "platform", "sheet")


def schema_text(name: str) -> str:
    """A schema as it is shipped."""
    return (files(__name__) / f"{name}.schema.json").read_text(encoding="utf-8")
