"""Execute a sheet: update the jar and the new place, repoint, verify, and on request empty the old place.

Every step can be repeated, so an interrupted run is finished by running it again.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Iterator, Sequence
from typing import NamedTuple

from coinjar.actions.delivery.deliver import Delivery
from coinjar.actions.delivery.live_stage import LiveStage
from coinjar.actions.delivery.outcome import DeliveryOptions, DeliveryOutcome
from coinjar.actions.migration.flat_files import write_flat
from coinjar.actions.migration.jar_update import JarUpdate
from coinjar.actions.migration.repointing import repoint
from coinjar.actions.migration.settlement import Settlement
from coinjar.actions.migration.sheet_builder import SheetBuilder
from coinjar.actions.migration.verification import Verification
from coinjar.actions.open_jar import OpenJar
from coinjar.core.display import Masker
from coinjar.core.dispositions import (
    CARRIED,
    GIVEN,
    GIVES,
    KEPT,
    MOVED,
    RENAMED,
    REPLACED,
    SUPPLIED,
    SourceValue,
    stage_and_service,
)
from coinjar.core.errors import CoinJarError, InputError, Location, raise_all
from coinjar.core.model import Jar
from coinjar.destinations import is_live
from coinjar.jarfile.sheets import Sheet, SheetLine, unknown_line
from coinjar.system.files import display_path

ShowOutcomes = Callable[[str, Sequence[DeliveryOutcome]], None]


class MigrationOptions(NamedTuple):
    """`restart` what must read the new values; `empty_source` after verification; `jar_only` leaves code unchanged (for
    a rehearsal).
    """

    restart: bool = False
    empty_source: bool = False
    paths: Sequence[str] = ()
    jar_only: bool = False


class Migration:
    """One run of a sheet: `inspect` first, then `run`."""

    def __init__(self, opened: OpenJar | None, sheet: Sheet, options: MigrationOptions) -> None:
        self.opened = opened
        self.sheet = sheet
        self.options = options
        self.reader = SheetBuilder(opened, sheet.source, sheet.target, sheet.stages, options.paths, sheet.service)
        self.outcomes: dict[tuple[str, int], str] = {}
        self.failed: list[str] = []

    @property
    def jar(self) -> Jar:
        """The jar as it was loaded."""
        assert self.reader.jar
        return self.reader.jar

    def places(self, line: SheetLine) -> list[SourceValue]:
        return [
            source_value
            for source_value in self.reader.there
            if source_value.name == line.variable and source_value.where in line.where
        ]

    # -- inspecting

    async def inspect(self) -> None:
        """Read the old place, and check that the sheet matches it and that no value is missing.

        Raises every fault at once.
        """
        await self.reader.read()
        faults: list[CoinJarError] = []
        there = {(source_value.name, source_value.where) for source_value in self.reader.there}
        names = {source_value.name for source_value in self.reader.there}
        listed = {(line.variable, where) for line in self.sheet.lines for where in line.where}
        for line in self.sheet.lines:
            if line.variable not in names and not self.sheet.emptied:
                faults.append(unknown_line(line.variable, names, line.location))
            elif not self.sheet.emptied and line.digest != self.reader.digest(line.variable, line.where):
                message = f"{line.variable} has changed at {self.reader.old.label} since the sheet was created"
                faults.append(
                    InputError(
                        message,
                        hint="create the sheet again: `coinjar migrate FROM TO --out FILE`",
                        location=line.location,
                        code="source-changed",
                    )
                )
        for name, where in sorted(there - listed):
            message = f"{name} of {where} is at {self.reader.old.label}, but not in the sheet"
            faults.append(
                InputError(
                    message,
                    hint="create the sheet again, or add a line",
                    location=self._whole(),
                    code="source-changed",
                )
            )
        raise_all(faults)
        raise_all(list(self._not_given()))
        raise_all([fault async for fault in self._refused()])

    def _whole(self) -> Location:
        return Location(display_path(self.sheet.path))

    async def _refused(self) -> AsyncIterator[CoinJarError]:
        """Yield a fault for each line that the new place would refuse, so that nothing is changed before."""
        goal = await self.reader.ends.new(self.reader.new, [])
        for line in self.sheet.of(*MOVED):
            for source_value in self.going(line):
                refused = goal.rejection(line.new_name, source_value.text or "")
                if refused and refused.what not in (KEPT, GIVES):
                    yield InputError(
                        f"{self.reader.new.label} does not accept {line.new_name} of {source_value.where}: "
                        f"{refused.reason}",
                        hint="change the value, give it another name (as: NAME), or move the line to left_behind",
                        location=line.location,
                        code="refused",
                    )
                    break

    def _not_given(self) -> Iterator[CoinJarError]:
        for line in self.sheet.of(GIVEN, REPLACED):
            for where in line.where:
                stage, service = stage_and_service(where)
                declared, text = self._in_jar(line, SourceValue(line.new_name, stage, service, None))
                if text is None:
                    is_secret = any(
                        value.secret or (value.text is None and not value.differing) for value in self.places(line)
                    )
                    new = "" if declared else " --declare --secret" if is_secret else " --declare"
                    put = (
                        f"`coinjar put {line.new_name} --stage "
                        f"{stage}{f' --service {service}' if service else ''}{new}`; or "
                    )
                    hint = f"{put if self.opened else ''}move the line to left_behind"
                    yield InputError(
                        f"{line.new_name} of {where} requires a value",
                        hint=hint,
                        location=line.location,
                        code="to-be-given",
                    )
        for repointed in self.sheet.repointed:
            variable = self.reader.jar.variables.get(repointed.pointing.variable) if self.reader.jar else None
            if variable is not None and variable.kind == "json" and "${" in repointed.pointing.replacement:
                message = f"{variable.name} is of kind json, in which a reference would be data"
                yield InputError(
                    message,
                    hint="write the address itself into becomes: of this line",
                    location=repointed.location,
                    code="to-be-given",
                )
            if not repointed.pointing.replacement and not repointed.pointing.scope.startswith("dest:"):
                message = f"the new value of {repointed.pointing.variable} is not known"
                yield InputError(
                    message,
                    hint="write it into becomes: of this line, or remove the line",
                    location=repointed.location,
                    code="to-be-given",
                )

    # -- executing

    async def run(self, note: Callable[[str], None], show: ShowOutcomes) -> None:
        """Take every step in order: `note` gets remarks, `show` each delivery's outcomes; `failed` has failures."""
        for remark in await JarUpdate(self).prepare():
            note(remark)
        await self.deliver(show)
        if not self.failed:
            for message in await self.repoint(show):
                note(f"repointed: {message}")
            await Verification(self).verify()
        for message in await Settlement(self).settle():
            note(message)

    async def deliver(self, show: ShowOutcomes) -> None:
        """Write the new place, stage by stage, and read back. Failures are reported and recorded."""
        destination = self.reader.new.destination
        if destination is None:
            write_flat(self.sheet.target, {line.new_name: self.going(line) for line in self.sheet.of(*MOVED)})
        elif self.opened is not None and is_live(destination):
            for stage in self.stages_there():
                await self._delivered(stage, [destination.name], show)
                if not self.failed:
                    await self._take_supplied(stage, destination.name)
        elif self.opened is not None:
            self._render(destination.name)

    def going(self, line: SheetLine) -> list[SourceValue]:
        """Return a line's places with their texts: the old place's, or the jar's."""
        places = self.places(line)
        if line.group in (CARRIED, RENAMED):
            return [source_value for source_value in places if source_value.text is not None]
        return [source_value._replace(text=self._in_jar(line, source_value)[1]) for source_value in places]

    def _in_jar(self, line: SheetLine, source_value: SourceValue) -> tuple[bool, str | None]:
        """Return whether the jar declares a line's variable, and its value: under the new name, or still the old."""
        declared, text = self.reader.in_jar(source_value, line.new_name)
        return (declared, text) if declared else self.reader.in_jar(source_value, line.variable)

    def stages_there(self) -> list[str]:
        there = {stage_and_service(where)[0] for line in self.sheet.of(*MOVED, SUPPLIED) for where in line.where}
        return [stage for stage in self.reader.stages if stage in there] or sorted(there)

    async def _delivered(self, stage: str, names: Sequence[str], show: ShowOutcomes) -> None:
        assert self.opened
        opened = LiveStage(self.opened, stage, names, Masker(), writes=True)
        outcomes = await Delivery(opened, DeliveryOptions(restart=self.options.restart)).run()
        self.failed += [
            f"{outcome.label}: {outcome.fault.words if outcome.fault.of == outcome.label else outcome.fault.message}"
            for outcome in outcomes
            if outcome.fault
        ]
        show(stage, outcomes)

    async def _take_supplied(self, stage: str, name: str) -> None:
        """Read what the new place supplies only after its first run: its addresses."""
        assert self.opened
        with LiveStage(self.opened, stage, [name], Masker(), writes=True) as live:
            faults = await live.take_supplied()
            self.failed += [f"{name}: {fault.message}" for name, fault in faults.items()]
            live.record_supplied()

    def rehearse(self, stage: str) -> Delivery:
        """Return a delivery to the new place that is only inspected."""
        assert self.opened
        assert self.reader.new.destination
        return Delivery(
            LiveStage(self.opened, stage, [self.reader.new.destination.name], Masker()),
            DeliveryOptions(restart=self.options.restart),
        )

    def _render(self, name: str) -> None:
        from coinjar.actions.output.render_files import write

        assert self.opened
        write(self.opened, self.stages_there(), [name], Masker())

    # -- repointing

    async def repoint(self, show: ShowOutcomes) -> list[str]:
        """Change values that contain an address of the old place to the new one, and deliver them; return the affected
        services.
        """
        if self.opened is None or not self.sheet.repointed:
            return []
        besides = [
            destination.name
            for destination in (self.reader.old.destination, self.reader.new.destination)
            if destination
        ]
        outcomes, reached = await repoint(
            self.opened, self.sheet.repointed, besides, lambda stage, names: self._delivered(stage, names, show)
        )
        self.outcomes |= {("repointed", number): words for number, words in outcomes.items()}
        return [f"{affected.service} on {affected.stage}: {', '.join(affected.destinations)}" for affected in reached]
