"""The literals of JSON (RFC 8259, 3 and 6): what a reader of JSON does not read as a text."""

from __future__ import annotations

import re

LITERAL = re.compile(r"null|true|false|-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][-+]?[0-9]+)?")
"""A number, null, true or false."""
_WORDS = ("null", "true", "false")


def is_json_literal(text: str) -> bool:
    """Return whether a text without quotes is a number, null, true or false."""
    return LITERAL.fullmatch(text) is not None


def is_json_number(text: str) -> bool:
    """Return whether a text is a number in JSON."""
    return text not in _WORDS and is_json_literal(text)
