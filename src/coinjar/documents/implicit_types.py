"""Which type YAML readers give a scalar without quotes."""

from __future__ import annotations

import re

import yaml

from coinjar.documents.tree import TreeNode
from coinjar.documents.writer import surely_text

_OCTAL_12 = re.compile(r"0o[0-7]+")
_FLOAT_12 = re.compile(r"[-+]?(?:\.[0-9]+|[0-9]+(?:\.[0-9]*)?)(?:[eE][-+]?[0-9]+)?")


def implicit_type(node: TreeNode, *, as_json: bool = False) -> tuple[str, str] | None:
    """Return the type that a reader gives a scalar, in words, and the text of its value; None if it is a text.

    YAML 1.1 and 1.2 readers differ: where they do, the words say so, and the text is the value for readers that do not
    see a text.
    """
    if node.kind != "scalar" or node.style or (not as_json and surely_text(node.text)):
        return None
    value = _loaded(node.text)
    if isinstance(value, str):
        return _elsewhere(node.text)
    if value is None:
        return "null", ""
    if isinstance(value, bool):
        words = "a boolean" if node.text.lower() in ("true", "false") else "a boolean to readers of YAML 1.1"
        return words, "true" if value else "false"
    return ("a number", _number(value)) if isinstance(value, int | float) else ("a date", node.text)


_LONGEST = 128
"""Characters; no reader makes a number or a date of a longer scalar that a person wrote."""


def _elsewhere(text: str) -> tuple[str, str] | None:
    """Return the type that only some readers give a scalar."""
    if len(text) > _LONGEST:
        return None
    if text in ("y", "Y", "n", "N"):
        return "a boolean to readers of YAML 1.1", "true" if text in "yY" else "false"
    if _OCTAL_12.fullmatch(text):
        return "a number to readers of YAML 1.2", str(int(text, 8))
    return ("a number to readers of YAML 1.2", _number(float(text))) if _FLOAT_12.fullmatch(text) else None


def _loaded(text: str) -> object:
    if len(text) > _LONGEST:
        return text
    try:
        value: object = yaml.safe_load(text)
    except (yaml.YAMLError, ValueError):
        return text  # a date that does not exist, a character that cannot start a scalar
    return value


def _number(value: float) -> str:
    if isinstance(value, int):
        return str(value)
    return str(int(value)) if value == value // 1 and abs(value) < 1e15 else repr(value)
