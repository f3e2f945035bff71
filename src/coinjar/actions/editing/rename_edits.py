"""The edits of a rename, and where to look for names."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from yaml.nodes import ScalarNode

from coinjar.core.errors import Location
from coinjar.core.model import Jar
from coinjar.destinations import file_class_of, is_live

if TYPE_CHECKING:
    pass


class EditedFile(NamedTuple):
    """A file before and after."""

    path: Path
    old: bytes
    new: bytes


class UnchangedUse(NamedTuple):
    """A place that was not changed, and why."""

    location: Location
    reason: str


class RenameEdits(NamedTuple):
    """What a rename changes: files, the number of encrypted values, and what is left unchanged."""

    renames: dict[str, str]
    files: list[EditedFile]
    sealed: int
    unchanged: list[UnchangedUse]


class RenameOptions(NamedTuple):
    """How to rename: `keep_old` also exports the old names; `jar_only` leaves everything outside the jar unchanged."""

    paths: Sequence[str] = ()
    keep_old: bool = False
    jar_only: bool = False


def destination_paths(jar: Jar, base: Path) -> list[str]:
    """Return the source files of the jar's destinations."""
    result = []
    for name, destination in jar.destinations.items():
        key = "" if is_live(destination) else file_class_of(destination).input_option
        path = _option(jar, name, key) if key else None
        if path and "{" not in path and (base / path).exists():
            result.append(str(base / path))
    return result


def environments(jar: Jar, base: Path) -> dict[Path, list[str]]:
    """Return the environments in documents of any format, from the places of destinations."""
    result: dict[Path, list[str]] = {}
    for name, destination in jar.destinations.items():
        made = None if is_live(destination) else file_class_of(destination)
        if made is None or not made.places_option:
            continue
        path, places = _option(jar, name, made.input_option), destination.options.get(made.places_option)
        if path and "{" not in path and (base / path).is_file() and places is not None:
            result.setdefault(Path(os.path.realpath(base / path)), []).extend(str(key.value) for key, _ in places.value)
    return result


def _option(jar: Jar, name: str, key: str) -> str | None:
    node = jar.destinations[name].options.get(key)
    return str(node.value) if isinstance(node, ScalarNode) else None
