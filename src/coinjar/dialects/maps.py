"""Flat maps."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from json.decoder import JSONDecodeError, scanstring  # type: ignore[attr-defined]  # public in practice; the stubs leave it out

from coinjar.core.errors import InputError, Place
from coinjar.core.texts import not_for_environments
from coinjar.dialects.base import Dialect, Entry, Heading, Item, Reading, Remark, decode, place_of

_BLANK = re.compile(r"[ \t\n\r]*")


class Json(Dialect):
    """One JSON object of strings (RFC 8259)."""

    name = "json"
    about = "a flat JSON map"

    def refusal(self, name: str, text: str) -> str | None:
        del name
        return not_for_environments(text.replace("\0", ""))

    def write(self, entries: Sequence[Entry], heading: Heading) -> bytes:
        del heading
        return (json.dumps({one.name: one.text for one in entries if one.text is not None}, indent=2, ensure_ascii=False) + "\n").encode()

    def read(self, data: bytes, file: str) -> Reading:
        text, remarks = decode(data, file)
        try:
            return _read_object(text, file, remarks)
        except JSONDecodeError as fault:
            place = Place(file, fault.lineno, fault.colno)
            raise InputError(f"this is not JSON: {fault.msg.lower()}", hint="correct it there", place=place, code="not-json") from None
        except RecursionError:
            raise InputError("this JSON is nested too deep", hint="give a flat map", place=Place(file), code="not-json") from None


def _skip(text: str, at: int) -> int:
    found = _BLANK.match(text, at)
    return found.end() if found else at


def _read_object(text: str, file: str, remarks: list[Remark]) -> Reading:
    """A member at a time, so that each has its place and none is lost to a later one of the same name."""
    items: list[Item] = []
    decoder = json.JSONDecoder(parse_int=str, parse_float=str, parse_constant=str)
    at = _skip(text, 0)
    if text[at : at + 1] != "{":
        raise JSONDecodeError("Expecting an object", text, at)
    at = _skip(text, at + 1)
    while text[at : at + 1] != "}":
        if text[at : at + 1] != '"':
            raise JSONDecodeError("Expecting a name in double quotes", text, at)
        place = place_of(text, at, file)
        name, at = scanstring(text, at + 1)
        at = _skip(text, at)
        if text[at : at + 1] != ":":
            raise JSONDecodeError("Expecting ':'", text, at)
        start = _skip(text, at + 1)
        value, end = decoder.raw_decode(text, start)
        _take(name, value, text[start:end], place, items, remarks)
        at = _skip(text, end)
        if text[at : at + 1] == ",":
            at = _skip(text, at + 1)
            if text[at : at + 1] == "}":
                raise JSONDecodeError("A comma stands before the end", text, at)
        elif text[at : at + 1] != "}":
            raise JSONDecodeError("Expecting ',' or '}'", text, at)
    if _skip(text, at + 1) != len(text):
        raise JSONDecodeError("Something follows the object", text, _skip(text, at + 1))
    return Reading(items, remarks)


def _take(name: str, value: object, raw: str, place: Place, items: list[Item], remarks: list[Remark]) -> None:
    if isinstance(value, str) and raw.startswith('"'):
        items.append(Item(name, value, place))
    elif value is None:
        remarks.append(Remark(place, f'left out: {name} is null, which may mean "", the word null, or no value', lost=True))
    elif isinstance(value, dict | list):
        remarks.append(Remark(place, f"left out: {name} is not a text but {'an object' if isinstance(value, dict) else 'a list'}", lost=True))
    else:
        items.append(Item(name, raw, place))
        remarks.append(Remark(place, f"{name} is not a text; it was taken as it is written"))
