"""Compare the new place of a migration with its sheet."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, NamedTuple

from coinjar.actions.migration.flat_files import read_flat
from coinjar.core.dispositions import (
    LEFT,
    SUPPLIED,
    SourceValue,
    stage_and_service,
)
from coinjar.core.secret import reveal
from coinjar.jarfile.sheets import SheetLine

if TYPE_CHECKING:
    from coinjar.actions.migration.migration import Migration


class PlaceResult(NamedTuple):
    """The result of a line in one place, in words, and whether it is as in the sheet."""

    words: str
    good: bool = True


_THE_SAME, _NOT_THERE, _ANOTHER = (
    PlaceResult("there, and equal"),
    PlaceResult("not there", good=False),
    PlaceResult("different there", good=False),
)


class Verification:
    """Verifies a migration."""

    def __init__(self, migration: Migration) -> None:
        self.migration = migration

    async def verify(self) -> None:
        """Read the new place, and compare each line with it."""
        if self.migration.reader.new.destination is not None and self.migration.opened is not None:
            self.migration.reader.jar = self.migration.opened.load()
            self.migration.reader.ends.jar = self.migration.reader.jar
        goal = await self.migration.reader.ends.new(self.migration.reader.new, self.migration.stages_there())
        flat = read_flat(self.migration.sheet.target) if self.migration.reader.new.destination is None else None
        for line in self.migration.sheet.lines:
            came = [
                self._stands(line, where, goal.held) if flat is None else self._stands_in_file(line, where, flat)
                for where in line.where
            ]
            words = [place_result.words for place_result in came]
            message = (
                "; ".join(f"{where}: {name}" for where, name in zip(line.where, words, strict=True))
                if len(set(words)) > 1
                else words[0]
            )
            self.migration.outcomes[line.group, line.number] = message
            self.migration.failed += [
                f"{line.new_name} of {where}: {place_result.words}"
                for where, place_result in zip(line.where, came, strict=True)
                if not place_result.good
            ]

    def _stands(
        self, line: SheetLine, where: str, held: Mapping[tuple[str, str | None, str], str | None]
    ) -> PlaceResult:
        """Return the result of a line in one place, for every service that it is about."""
        stage, service = stage_and_service(where)
        keys = [
            key
            for key in held
            if key[0] == stage and key[2] == line.new_name and (service is None or key[1] in (None, service))
        ]
        if line.group == LEFT:
            return PlaceResult("not moved; it was already there" if keys else "not moved")
        if line.group == SUPPLIED:
            return PlaceResult("supplied there" if keys else "supplied there from its first run")
        if not keys:
            return _NOT_THERE
        if any(held[key] is None for key in keys):
            return PlaceResult("there; not readable")
        wanted = [
            self.migration.reader.in_jar(SourceValue(line.new_name, stage, service or key[1], None))[1] for key in keys
        ]
        same = all(text is not None and reveal(held[key] or "") == text for key, text in zip(keys, wanted, strict=True))
        return _THE_SAME if same else _ANOTHER

    def _stands_in_file(self, line: SheetLine, where: str, flat: Mapping[str, str | None]) -> PlaceResult:
        """Return the same, where the new place is a file."""
        if line.group in (LEFT, SUPPLIED):
            return PlaceResult("not moved")
        text = next(
            (source_value.text for source_value in self.migration.going(line) if source_value.where == where), None
        )
        if line.new_name not in flat:
            return _NOT_THERE
        return _THE_SAME if text is not None and flat[line.new_name] == reveal(text) else _ANOTHER
