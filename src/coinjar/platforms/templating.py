"""Fill the placeholders of a description: `{name}` from known values, `{/pointer}` from the current response or
item.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import quote

from coinjar.core.secret import reveal
from coinjar.documents.json_data import MISSING, Data, as_text, resolve_pointer

HOLDER = re.compile(r"\{([a-z_]+|(?:/[^{}/]*)+)\}")


class MissingValue(Exception):
    """A pointer to nothing in the current response."""


def request_placeholders(data: Data) -> Iterator[str]:
    """Return the names and pointers of a template's placeholders."""
    if isinstance(data, str):
        yield from HOLDER.findall(data)
    elif isinstance(data, dict):
        for value in data.values():
            yield from request_placeholders(value)
    elif isinstance(data, list):
        for value in data:
            yield from request_placeholders(value)


def _value(name: str, context: Mapping[str, Any], at_hand: Data) -> Data:
    if not name.startswith("/"):
        return context[name]
    result = resolve_pointer(at_hand, name)
    if result is MISSING:
        raise MissingValue(name)
    return result


def fill_body(data: Data, context: Mapping[str, Any], at_hand: Data = None) -> Data:
    """Fill a body: a text that is one placeholder becomes its value, of any type; other placeholders become text.

    Raises MissingValue.
    """
    if isinstance(data, dict):
        return {name: fill_body(value, context, at_hand) for name, value in data.items()}
    if isinstance(data, list):
        return [fill_body(value, context, at_hand) for value in data]
    if not isinstance(data, str):
        return data
    whole = HOLDER.fullmatch(data)
    if whole:
        result = _value(whole[1], context, at_hand)
        return reveal(result) if isinstance(result, str) else result
    return HOLDER.sub(lambda match: reveal(as_text(_value(match[1], context, at_hand))), data)


def fill_path(path: str, context: Mapping[str, Any], at_hand: Data = None) -> str:
    """Fill a path and query: values are percent-encoded (RFC 3986, 2.1).

    A query parameter with null is omitted. Raises MissingValue.
    """
    place, question, query = path.partition("?")

    def encoded(match: re.Match[str]) -> str:
        value = _value(match[1], context, at_hand)
        return quote(reveal(as_text(value)), safe="") if value is not None else ""

    parts = [
        word
        for word in query.split("&")
        if word and not any(_value(name, context, at_hand) is None for name in HOLDER.findall(word))
    ]
    return HOLDER.sub(encoded, place) + (
        question + "&".join(HOLDER.sub(encoded, part) for part in parts) if parts else ""
    )
