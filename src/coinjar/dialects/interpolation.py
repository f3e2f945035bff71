"""Interpolation of the Compose Specification: `$NAME`, `${NAME}`, `${NAME:-word}` and similar, `$$` for a dollar
sign.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import NamedTuple

_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_OPERATOR = re.compile(r":[-?+]|[-?+]")


class InterpolationResult(NamedTuple):
    """The text, the names that were looked up, and those without a value."""

    text: str
    asked: list[str]
    unknown: list[str]


class InterpolationError(Exception):
    """A `$` that has no meaning in the grammar."""


def interpolate(source: str, lookup: Callable[[str], str | None]) -> InterpolationResult:
    """Replace every reference.

    Raises InterpolationError for one that is not closed, has no name, or requires a missing value.
    """
    asked: list[str] = []
    unknown: list[str] = []
    value, _ = _run(source, 0, lookup, asked, unknown, inside=False)
    return InterpolationResult(value, asked, unknown)


def _run(
    source: str, at: int, lookup: Callable[[str], str | None], asked: list[str], unknown: list[str], *, inside: bool
) -> tuple[str, int]:
    parts: list[str] = []
    while at < len(source):
        letter = source[at]
        if inside and letter == "}":
            return "".join(parts), at
        if letter != "$":
            parts.append(letter)
            at += 1
        elif source.startswith("$$", at):
            parts.append("$")
            at += 2
        elif source.startswith("${", at):
            words, at = _braced(source, at + 2, lookup, asked, unknown)
            parts.append(words)
        elif name := _NAME.match(source, at + 1):
            parts.append(_value(name.group(), lookup, asked, unknown))
            at = name.end()
        else:
            raise InterpolationError("a '$' that begins no reference: write '$$'")
    if inside:
        raise InterpolationError("a '${' that is not closed")
    return "".join(parts), at


def _value(name: str, lookup: Callable[[str], str | None], asked: list[str], unknown: list[str]) -> str:
    asked.append(name)
    value = lookup(name)
    if value is None:
        unknown.append(name)
    return value or ""


def _braced(
    source: str, at: int, lookup: Callable[[str], str | None], asked: list[str], unknown: list[str]
) -> tuple[str, int]:
    name = _NAME.match(source, at)
    if name is None:
        raise InterpolationError("no name after '${'")
    at = name.end()
    if source.startswith("}", at):
        return _value(name.group(), lookup, asked, unknown), at + 1
    operator = _OPERATOR.match(source, at)
    if operator is None:
        raise InterpolationError(f"'${{{name.group()}' is followed by an unknown operator")
    value = lookup(name.group())
    asked.append(name.group())
    there = value is not None and (value != "" or operator.group()[0] != ":")
    taken = there == operator.group().endswith("+")
    word, at = _run(
        source,
        operator.end(),
        lookup if taken else lambda _: "",
        asked if taken else [],
        unknown if taken else [],
        inside=True,
    )
    if operator.group().endswith("?") and not there:
        raise InterpolationError(f"{name.group()} must have a value: {word}")
    if operator.group().endswith("+"):
        return word if there else "", at + 1
    return (value or "") if there else word, at + 1
