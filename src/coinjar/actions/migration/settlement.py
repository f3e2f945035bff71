"""The end of a migration: the old place is marked as moved, and emptied on request."""

from __future__ import annotations

from collections.abc import Collection
from typing import TYPE_CHECKING

from coinjar.actions.editing.value_changes import edit_file
from coinjar.core.delivery import GONE, DeliveryChange
from coinjar.core.errors import ExternalError
from coinjar.destinations import is_live
from coinjar.destinations.live.base import Target
from coinjar.documents.edit import Edit
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.local_folder import locked
from coinjar.jarfile.sheets import record_outcomes

if TYPE_CHECKING:
    from coinjar.actions.migration.migration import Migration


class Settlement:
    """Settles a verified migration."""

    def __init__(self, migration: Migration) -> None:
        self.migration = migration

    async def settle(self) -> list[str]:
        """After verification: stop delivering to the old place; empty it on request.

        Writes the outcome into the sheet.
        """
        messages: list[str] = []
        emptied = ""
        if not self.migration.failed:
            messages += self._moved()
            if self.migration.options.empty_source:
                record_outcomes(self.migration.sheet, {}, emptied="begun")
                messages += await self._empty()
                emptied = "done"
        record_outcomes(self.migration.sheet, self.migration.outcomes, emptied=emptied)
        return messages

    def _moved(self) -> list[str]:
        old, new = self.migration.reader.old.destination, self.migration.reader.new.destination
        if self.migration.opened is None or old is None or new is None:
            return []
        stages = self.migration.reader.old_stages
        keys = [
            f"{stage}/{self.migration.sheet.service}" if self.migration.sheet.service else stage for stage in stages
        ]
        keys = [key for key in keys if not old.moved(key.partition("/")[0]) and key not in old.moved_to]
        if not keys:
            return []
        with locked(self.migration.opened.folder):
            edit_file(
                JarLayout(self.migration.opened.folder).declarations,
                [Edit(("destinations", old.name, "moved_to", key), new.name) for key in keys],
            )
        return [
            (
                f"{old.name} has moved_to: {new.name} for {', '.join(keys)} in jar.yaml now: it is still read, but not "
                "delivered to any more"
            )
        ]

    async def _empty(self) -> list[str]:
        """Remove everything there that the sheet has a line for, except the platform's own. Raises ExternalError."""
        destination = self.migration.reader.old.destination
        if destination is None or not is_live(destination):
            return [f"{self.migration.reader.old.label} is not a running system: remove it by hand"]
        names = {line.variable for line in self.migration.sheet.lines}
        count = 0

        for stage in self.migration.reader.old_stages:
            _, targets = self.migration.reader.ends.targets(destination, stage)
            for target in targets:
                async with target:
                    count += await _remove(target, names)
        return [f"{count} variables removed from {destination.name}"]


async def _remove(target: Target, names: Collection[str]) -> int:
    """Remove these variables from a target, read it back, and return their number. Raises ExternalError."""
    await target.identity()
    live = await target.read()
    away = [
        DeliveryChange(live_value.name, GONE, live_value.text, None, live_value.secret, live_value)
        for live_value in live.values()
        if live_value.name in names and not live_value.supplied and not live_value.inherited
    ]
    if away:
        await target.write(away, live)
    left = [
        live_value.name
        for live_value in (await target.read()).values()
        if live_value.name in {change.name for change in away} and not live_value.inherited
    ]
    if left:
        message = f"it did not remove {', '.join(left)}"
        raise ExternalError(message, hint="run this again", location=target.origin, code="read-back", of=target.label)
    return len(away)
