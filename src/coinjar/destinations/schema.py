"""The JSON Schema of jar.yaml: the shipped one, with the options that each type of destination declares."""

from __future__ import annotations

import json
from typing import Any

from coinjar.destinations import class_of, type_names
from coinjar.destinations.live.base import COMMON, LiveDestination
from coinjar.dialects import dialect_names
from coinjar.jarfile.schemas import schema_text


def jar_schema() -> str:
    """Return the schema as text, types and dialects of other packages included."""
    schema = json.loads(schema_text("jar"))
    destination = schema["$defs"]["destination"]
    destination["properties"]["type"]["examples"] = type_names()
    every = list(destination["properties"])
    destination["allOf"] = [_of_type(name, every) for name in type_names()]
    return json.dumps(schema, indent=2, ensure_ascii=False) + "\n"


def _of_type(name: str, every: list[str]) -> dict[str, Any]:
    """Return the condition for destinations of one type; `every` are the options of all types."""
    made = class_of(name)
    declared = {**made.declared, **(COMMON if issubclass(made, LiveDestination) else {})}
    properties = {key: {**option.schema, "description": option.about} for key, option in declared.items()}
    if "as" in properties:
        properties["as"]["examples"] = dialect_names()
    then: dict[str, Any] = {
        "required": [key for key, option in declared.items() if option.needed],
        "properties": properties,
    }
    if not made.has_own_options:
        then["propertyNames"] = {"enum": [*every, *declared]}
    return {"if": {"properties": {"type": {"const": name}}}, "then": then}
