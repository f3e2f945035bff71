"""The options of destinations, declared once per type: for the reader of jar.yaml and for its JSON Schema."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, Any, NamedTuple

from coinjar.core.name_patterns import is_pattern
from coinjar.core.names import matches, suggestion
from coinjar.documents.spelling_reader import SEPARATORS

if TYPE_CHECKING:
    from yaml.nodes import Node

    from coinjar.core.model import Jar
    from coinjar.documents.field_reader import FieldReader

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
_PHASES = ("build", "run")
PHASES: Schema = {"type": "array", "items": {"enum": [*_PHASES]}, "minItems": 1, "uniqueItems": True}
FORM: Schema = {"enum": ["map", "lines", "pairs"]}


def read_phases(fields: FieldReader, node: Node | None, key: str) -> tuple[str, ...]:
    """Return the phases that an option names, those of the run if there is none; faults are added to `fields`."""
    given = fields.texts(node, key) if node is not None else [("run", None)]
    for text, at in given:
        if text not in _PHASES and at is not None:
            fields.fault(at, f"there is no phase '{text}'", f"the phases are {' and '.join(_PHASES)}", "destination")
    return tuple(dict.fromkeys(text for text, _ in given)) or ("run",)


class Option(NamedTuple):
    """An option of a destination: its description, its schema, and whether it is required."""

    about: str
    schema: Schema = TEXT
    needed: bool = False


def undeclared(names: Iterable[str], jar: Jar) -> Iterator[tuple[str, str]]:
    """Yield the names that are neither declared (as a variable, or under `also_as` of one) nor patterns, each with a
    hint: a secret whose name is misspelled under `without` would be written.
    """
    for name in names:
        if name not in jar.variables and not is_pattern(name) and name not in jar.second_names:
            yield name, suggestion(name, [*jar.variables, *jar.second_names], "declare it, or remove it here")


def second_names(names: Collection[str], jar: Jar) -> Iterator[tuple[str, str]]:
    """Yield the names under `also_as` that names or patterns select without their variables, each with its variable."""
    for name, variable in jar.second_names.items():
        if matches(name, names) and not matches(variable.name, names):
            yield name, variable.name
