"""Rename variables in texts that refer to them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from coinjar.core.names import matches
from coinjar.core.pointer_steps import join_pointer, split_pointer


def references(text: str, renames: Mapping[str, str]) -> Iterator[tuple[int, int, str]]:
    """Return where a text with references (`${NAME}`, `${NAME:-word}`, `${NAME@url}`) uses one of these names, with the
    new name.
    """
    for match in re.finditer(r"(\$\$)|\$\{(\w+)", text):
        if match[2] in renames:
            yield (*match.span(2), renames[match[2]])


def in_references(text: str, renames: Mapping[str, str]) -> str:
    """Return the text with its references renamed."""
    return spliced(text, references(text, renames))


def in_pointer(text: str, renames: Mapping[str, str]) -> str:
    """Return a JSON Pointer with its names renamed. A step is compared after unescaping."""
    steps = split_pointer(text)
    if not renames.keys() & set(steps):
        return text
    return join_pointer(renames.get(step, step) for step in steps)


def condition(text: str, renames: Mapping[str, str]) -> str:
    """Return `NAME=value` or `NAME` with the name replaced."""
    name, equals, wanted = text.partition("=")
    return renames.get(name, name) + equals + wanted


def left_behind(shapes: list[str], renames: Mapping[str, str]) -> list[str]:
    """Return the new names that a list of patterns (`MAIL_*`) does not match although it matched the old ones."""
    return [
        new for old, new in renames.items() if old not in shapes and matches(old, shapes) and not matches(new, shapes)
    ]


def spliced(text: str, splices: Iterator[tuple[int, int, str]] | list[tuple[int, int, str]]) -> str:
    """Return the text with each span replaced; spans do not overlap."""
    parts, last = [], 0
    for start, end, new in sorted(splices):
        parts += [text[last:start], new]
        last = end
    return "".join(parts) + text[last:]
