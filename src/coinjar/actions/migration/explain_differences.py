"""Explain differences between the two places of a migration by its sheet: a line explains what it does, and nothing
else.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from coinjar.core.compare import SAME, Difference, SideValue
from coinjar.core.dispositions import GIVEN, LEFT, RENAMED, REPLACED, SUPPLIED, stage_and_service
from coinjar.core.errors import UsageError
from coinjar.core.secret import reveal
from coinjar.jarfile.sheets import Sheet, SheetLine

Key = tuple[str, str | None]
"""A row's variable and service."""
InJar = Callable[[str, str, str | None], str | None]
"""Returns the jar's value: variable, stage, service (None: any)."""


class _SheetDifference(NamedTuple):
    """A difference with its sides in the sheet's direction."""

    row: Difference
    old: SideValue
    new: SideValue


def explanations(sheet: Sheet, rows: Sequence[Difference], sides: tuple[str, str], in_jar: InJar) -> dict[Key, str]:
    """Return an explanation for every row that a line explains (for an equal row, any of its lines), by variable and
    service.

    `sides` are the compared places, as written. Raises UsageError if the sheet is about other places.
    """
    forward = _of(sides[0]) == _of(sheet.source) and _of(sides[1]) == _of(sheet.target)
    if not forward and not (_of(sides[1]) == _of(sheet.source) and _of(sides[0]) == _of(sheet.target)):
        message = f"{sheet.path} describes a move from {sheet.source} to {sheet.target}"
        raise UsageError(message, hint="compare these two, or use their sheet", code="other-sheet")
    stages = {
        word.partition("@")[2]
        for word in (*sides, sheet.source, sheet.target)
        if word.startswith("dest:") and "@" in word
    }
    asked = [
        _SheetDifference(row, row.left, row.right) if forward else _SheetDifference(row, row.right, row.left)
        for row in rows
    ]
    return _Explainer(sheet, asked, stages, in_jar).all()


def _of(word: str) -> str:
    """Return a place without its stage and dialect."""
    return word.partition("@")[0] if word.startswith("dest:") else word.partition(":")[2] or word


class _Explainer:
    def __init__(self, sheet: Sheet, rows: Sequence[_SheetDifference], stages: set[str], in_jar: InJar) -> None:
        self.sheet = sheet
        self.rows = rows
        self.stages = stages
        self.in_jar = in_jar

    def all(self) -> dict[Key, str]:
        result: dict[Key, str] = {}
        for sheet_difference in self.rows:
            if words := self._words(sheet_difference):
                result[sheet_difference.row.name, sheet_difference.row.service] = words
        return result

    def _words(self, sheet_difference: _SheetDifference) -> str | None:
        name = sheet_difference.row.name
        for line in self.sheet.lines:
            for stage, service in self._where(line, sheet_difference.row.service):
                if line.new_name == line.variable == name and self._explains(line, sheet_difference, stage, service):
                    return f"{line.group.replace('_', ' ')}: {line.why}"
                if line.group == RENAMED and self._arrived(line, sheet_difference):
                    if name == line.variable and sheet_difference.new.text is None:
                        return f"renamed to {line.new_name}"
                    if name == line.new_name and sheet_difference.old.text is None:
                        return f"renamed from {line.variable}"
        return self._repointed(sheet_difference)

    def _where(self, line: SheetLine, service: str | None) -> list[tuple[str, str | None]]:
        """Return the places of a line that a row of this service is about."""
        places = [stage_and_service(where) for where in line.where]
        return [
            (stage, own)
            for stage, own in places
            if ((not self.stages or not stage or stage in self.stages) and service in (None, own)) or own is None
        ]

    def _explains(self, line: SheetLine, sheet_difference: _SheetDifference, stage: str, service: str | None) -> bool:
        if sheet_difference.row.verdict == SAME:
            return True
        if line.group in (REPLACED, GIVEN):
            return sheet_difference.new.text is not None and self.in_jar(
                line.variable, stage, service or sheet_difference.row.service
            ) == reveal(sheet_difference.new.text)
        return line.group in (LEFT, SUPPLIED)

    def _arrived(self, line: SheetLine, sheet_difference: _SheetDifference) -> bool:
        """Return whether the value is at the new place under its new name."""
        old = next(
            (
                each.old.text
                for each in self.rows
                if each.row.name == line.variable and each.row.service in (None, sheet_difference.row.service)
            ),
            None,
        )
        new = next(
            (
                each.new.text
                for each in self.rows
                if each.row.name == line.new_name and each.row.service in (None, sheet_difference.row.service)
            ),
            None,
        )
        return new is not None and (old is None or reveal(old) == reveal(new))

    def _repointed(self, sheet_difference: _SheetDifference) -> str | None:
        for repointed in self.sheet.repointed:
            pointing = repointed.pointing
            if (
                pointing.variable == sheet_difference.row.name
                and pointing.replacement
                and sheet_difference.old.text
                and sheet_difference.new.text
            ):
                address = pointing.address
                if address in reveal(sheet_difference.old.text) and address not in reveal(sheet_difference.new.text):
                    return f"repointed: {pointing.why}"
        return None
