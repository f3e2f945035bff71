"""The edits of a rename."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from coinjar.core.errors import Location


class EditedFile(NamedTuple):
    """A file before and after."""

    path: Path
    old: bytes
    new: bytes


class UnchangedUse(NamedTuple):
    """A place that was not changed, and why."""

    location: Location
    reason: str


class PlacedEdits(NamedTuple):
    """The edits of one kind of place: files, what is left unchanged, and the number of encrypted values."""

    files: list[EditedFile]
    unchanged: list[UnchangedUse]
    sealed: int = 0


class RenameEdits(NamedTuple):
    """What a rename changes: files, the number of encrypted values, and what is left unchanged."""

    renames: dict[str, str]
    files: list[EditedFile]
    sealed: int
    unchanged: list[UnchangedUse]


class RenameOptions(NamedTuple):
    """How to rename: `keep_old` also exports the old names; `jar_only` leaves everything outside the jar unchanged;
    `probable` also renames uses that are only probable.
    """

    paths: Sequence[str] = ()
    keep_old: bool = False
    jar_only: bool = False
    probable: bool = False
