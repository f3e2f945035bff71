"""JSON data: values at a JSON Pointer (RFC 6901), and data of YAML nodes."""

from __future__ import annotations

import json
import re
from typing import Any, TypeAlias

from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from coinjar.core.pointer_steps import join_pointer, split_pointer
from coinjar.documents.json_literal import is_json_literal

Data: TypeAlias = Any
"""A result of json.loads: dict, list, str, int, float, bool, None."""
MISSING = object()
"""The value at a pointer to nothing; null is something."""


def resolve_pointer(data: Data, pointer: str) -> Data:
    """Return the value at a pointer, or MISSING. A step `*` takes every element of a list."""
    steps = split_pointer(pointer)
    for number, step in enumerate(steps):
        if step == "*" and isinstance(data, list):
            rest = join_pointer(steps[number + 1 :])
            result = [resolve_pointer(element, rest) for element in data]
            return [item for item in result if item is not MISSING]
        if isinstance(data, dict) and step in data:
            data = data[step]
        elif isinstance(data, list) and re.fullmatch(r"0|[1-9]\d{0,8}", step) and int(step) < len(data):
            data = data[int(step)]
        else:
            return MISSING
    return data


def as_text(data: Data) -> str:
    """Return a JSON value as text: a text itself, anything else in JSON notation."""
    return data if isinstance(data, str) else json.dumps(data, ensure_ascii=False, separators=(",", ":"))


def typed(node: Node) -> Data:
    """Return the data of a YAML node in the JSON schema (YAML 1.2.2, 10.2): JSON's bare words are typed, everything
    else is text.
    """
    if isinstance(node, MappingNode):
        return {str(key.value): typed(value) for key, value in node.value}
    if isinstance(node, SequenceNode):
        return [typed(item) for item in node.value]
    assert isinstance(node, ScalarNode)
    text = str(node.value)
    if node.style or not (text in ("", "~") or is_json_literal(text)):
        return text
    return json.loads(text) if text not in ("", "~") else None
