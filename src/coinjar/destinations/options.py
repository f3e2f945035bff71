"""The options of destinations, declared once per type: for the reader of jar.yaml and for its JSON Schema."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from coinjar.documents.spelling_reader import SEPARATORS

Schema = Mapping[str, Any]
"""A JSON Schema (2020-12)."""
TEXT: Schema = {"type": "string"}
FLAG: Schema = {"type": "boolean"}
NAMES: Schema = {"$ref": "#/$defs/names"}
TEXTS_BY_NAME: Schema = {"type": "object", "additionalProperties": {"type": "string"}}
COUNT: Schema = {"type": "integer", "minimum": 0}
CREDENTIAL: Schema = {"$ref": "#/$defs/token"}
SPELLING: Schema = {
    "type": "object",
    "additionalProperties": False,
    "properties": {
        "case": {"enum": ["same", "lower"]},
        "separator": {"enum": [*SEPARATORS]},
        "prefix": {"type": "string"},
        "exact": TEXTS_BY_NAME,
    },
}
FORM: Schema = {"enum": ["map", "lines", "pairs"]}


class Option(NamedTuple):
    """An option of a destination: its description, its schema, and whether it is required."""

    about: str
    schema: Schema = TEXT
    needed: bool = False
