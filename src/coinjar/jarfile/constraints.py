"""The constraints that a variable's kind accepts."""

from __future__ import annotations

import re

from yaml.nodes import Node, ScalarNode

from coinjar.core.kinds import KINDS
from coinjar.documents.field_reader import FieldReader

_NUMBERS = ("min", "max", "min_length", "max_length")


def read_constraints(fields: FieldReader, kind: str, own: dict[str, Node]) -> dict[str, object]:
    """Return the constraints of one variable; those its kind does not accept are faults."""
    result: dict[str, object] = {}
    for name, node in own.items():
        if name not in KINDS[kind].constraints:
            takers = [other for other, kind in KINDS.items() if name in kind.constraints]
            fields.fault(node, f"'{name}' does not apply to the kind {kind}", f"it applies to {', '.join(takers)}")
        else:
            value = _read(fields, name, node)
            if value is not None:
                result[name] = value
    return result


def _read(fields: FieldReader, name: str, node: Node) -> object | None:
    if name in _NUMBERS:
        return _number(fields, name, node)
    if name in ("choices", "schemes"):
        return [text for text, _ in fields.texts(node, name)]
    if name == "listens":
        return fields.flag(node, name)
    if name == "spelling":
        return _spelling(fields, node)
    text = fields.text(node, name)
    if name == "pattern":
        from coinjar.core.patterns import check_pattern  # not needed for a jar without patterns

        try:
            check_pattern(text)
        except re.error as fault:
            fields.fault(
                node, f"this pattern is not a regular expression: {fault.msg}", "write it in the syntax of Python's re"
            )
            return None
    return text or None


def _number(fields: FieldReader, name: str, node: Node) -> float | int | None:
    text = fields.text(node, name)
    try:
        return int(text) if re.fullmatch(r"-?\d{1,40}", text) else float(text)
    except ValueError:
        fields.fault(node, f"'{name}' must be a number", "write it in digits")
        return None


def _spelling(fields: FieldReader, node: Node) -> dict[str, str] | None:
    own = fields.fields(node, "'spelling'", ("true", "false"))
    words = {name: value.value for name, value in own.items() if isinstance(value, ScalarNode)}
    if set(words) != {"true", "false"} or words["true"] == words["false"]:
        fields.fault(
            node, "'spelling' contains one word for true and another for false", 'write {true: "1", false: "0"}'
        )
        return None
    return words
