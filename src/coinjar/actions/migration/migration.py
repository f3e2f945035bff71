"""Execute a sheet: update the jar and the new place, repoint, verify, and on request empty the old place.

Every step can be repeated, so an interrupted run is finished by running it again.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple

from coinjar.actions.delivery.deliver import Delivery, DeliveryOptions, DeliveryOutcome
from coinjar.actions.delivery.live_stage import LiveStage
from coinjar.actions.editing import rename
from coinjar.actions.editing.value_changes import ValueChanges, edit_file
from coinjar.actions.editing.values import declaration
from coinjar.actions.migration.flat_files import read_flat, write_flat
from coinjar.actions.migration.repointing import repoint
from coinjar.actions.migration.sheet_builder import SheetBuilder
from coinjar.actions.open_jar import OpenJar
from coinjar.core.delivery import GONE, DeliveryChange
from coinjar.core.display import Masker
from coinjar.core.dispositions import (
    CARRIED,
    GIVEN,
    GIVES,
    KEPT,
    LEFT,
    RENAMED,
    REPLACED,
    SUPPLIED,
    SourceValue,
    stage_and_service,
)
from coinjar.core.errors import CoinJarError, ExternalError, InputError, Location, raise_all
from coinjar.core.inference import infer
from coinjar.core.model import Destination, Jar, Variable
from coinjar.core.names import ALL, VariableName
from coinjar.core.secret import Secret, reveal
from coinjar.destinations import is_live
from coinjar.destinations.base import gets, services_for
from coinjar.documents.edit import Edit
from coinjar.documents.writer import Plain
from coinjar.jarfile.sheets import Sheet, SheetLine, record_outcomes, unknown_line
from coinjar.system.files import display_path, locked

GOES = (CARRIED, RENAMED, REPLACED, GIVEN)
"""Groups whose variables have a value of ours at the new place afterwards."""
ShowOutcomes = Callable[[str, Sequence[DeliveryOutcome]], None]


class MigrationOptions(NamedTuple):
    """`restart` what must read the new values; `empty_source` after verification; `jar_only` leaves code unchanged (for
    a rehearsal).
    """

    restart: bool = False
    empty_source: bool = False
    paths: Sequence[str] = ()
    jar_only: bool = False


class _PlaceResult(NamedTuple):
    """The result of a line in one place, in words, and whether it is as in the sheet."""

    words: str
    good: bool = True


_THE_SAME, _NOT_THERE, _ANOTHER = (
    _PlaceResult("there, and equal"),
    _PlaceResult("not there", good=False),
    _PlaceResult("different there", good=False),
)


class Migration:
    """One run of a sheet. `look` first; then `prepare`, `deliver`, `repoint`, `verify`, `settle`, in this order."""

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

    def _places(self, line: SheetLine) -> list[SourceValue]:
        return [
            source_value
            for source_value in self.reader.there
            if source_value.name == line.variable and source_value.where in line.where
        ]

    # -- inspecting

    def look(self) -> None:
        """Check that the sheet matches the present state, and that no value is missing. Raises every fault at once."""
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

    def _whole(self) -> Location:
        return Location(display_path(self.sheet.path))

    def _not_given(self) -> Iterator[CoinJarError]:
        for line in self.sheet.of(GIVEN, REPLACED):
            for where in line.where:
                stage, service = stage_and_service(where)
                declared, text = self.reader.in_jar(SourceValue(line.new_name, stage, service, None))
                if text is None:
                    new = "" if declared else " --declare"
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

    # -- the jar

    def prepare(self) -> list[str]:
        """Update the jar from the sheet: names, values, what the new place takes and supplies. Return remarks."""
        if self.opened is None or self.reader.new.destination is None:
            return []
        with locked(self.opened.folder):
            self._limits()
            notes = self._values()
        jar = self.opened.load()
        renames = {
            line.variable: line.new_name
            for line in self.sheet.of(RENAMED)
            if line.variable in jar.variables and line.new_name not in jar.variables
        }
        if renames:
            rename_options = rename.RenameOptions(
                () if self.options.jar_only else self.options.paths, jar_only=self.options.jar_only
            )
            plan = rename.plan(self.opened, renames, rename_options)
            rename.carry_out(self.opened, renames, rename_options, plan)
            files = [
                file.path for file in plan.files if self.opened.folder.resolve() not in file.path.resolve().parents
            ]
            where = ", ".join(["the jar", *map(display_path, files)])
            notes += [f"{old} was renamed to {new} in {where}" for old, new in renames.items()]
        self.reader.jar = self.opened.load()
        self.reader.ends.jar = self.reader.jar
        return notes

    def _limits(self) -> None:
        """Record in jar.yaml what the new place does not take, and what it supplies."""
        assert self.opened
        destination = self.reader.new.destination
        assert destination
        jar = self.opened.load()
        edits: list[Edit] = []
        refused = self._refused(jar, destination)
        going = {line.new_name for line in self.sheet.of(*GOES)}
        goal = self.reader.ends.new(self.reader.new, [])
        left = [
            line.variable
            for line in self.sheet.of(LEFT)
            if line.variable in jar.variables
            and line.variable not in going
            and any(goal.takes(jar, source_value) is None for source_value in self._places(line))
        ]
        gone = [
            name
            for name in [*left, *(name for name, what in refused.items() if what == KEPT)]
            if gets(destination, name)
        ]
        if gone:
            names: list[Plain] = [*jar.destinations[destination.name].without, *dict.fromkeys(gone)]
            edits.append(Edit(("destinations", destination.name, "without"), names))
        given = [line.variable for line in self.sheet.of(SUPPLIED)] + [
            name for name, what in refused.items() if what == GIVES
        ]
        for name in dict.fromkeys(given):
            variable = jar.variables.get(name)
            if variable is not None and destination.name not in variable.supplied_by:
                by: list[Plain] = [*variable.supplied_by, destination.name]
                edits.append(Edit(("variables", name, "supplied", "by"), by))
        edit_file(self.opened.folder / "jar.yaml", edits)

    def _refused(self, jar: Jar, destination: Destination) -> dict[str, str]:
        """Return names of the jar that the new place would get, but reserves or sets itself."""
        goal = self.reader.ends.new(self.reader.new, [])
        services = services_for(destination, jar)
        mine = [
            variable
            for variable in jar.variables.values()
            if gets(destination, variable.name) and any(variable.applies_to(service) for service in services)
        ]
        result = {str(variable.name): goal.rejection(variable.name, "x") for variable in mine}
        return {name: rejected_value.what for name, rejected_value in result.items() if rejected_value}

    def _values(self) -> list[str]:
        """Declare and set what is carried and missing in the jar; variables to rename are first set under their old
        name.
        """
        assert self.opened
        jar = self.opened.load()
        declare: dict[str, Variable] = {}
        puts: list[tuple[str, str, str, str]] = []
        for line in self.sheet.of(CARRIED, RENAMED):
            places = self._places(line)
            name = line.new_name if line.new_name in jar.variables else line.variable
            for source_value in [source_value for source_value in places if source_value.text is not None]:
                text = reveal(source_value.text or "")
                if self.reader.in_jar(source_value, name)[1] == text:
                    continue
                if name not in jar.variables:
                    if owner := jar.current_owner(name):
                        words = f"{name} is a former name of {owner.name}, and cannot be declared"
                        raise InputError(
                            words,
                            hint=f"`coinjar rename --finish {name}`, or move its line to another group",
                            location=line.location,
                            code="name",
                        )
                    declare[name] = self._declared(name, places, text)
                puts.append(
                    (
                        source_value.stage,
                        str(source_value.service) if source_value.service in jar.services else ALL,
                        name,
                        text,
                    )
                )
        after = jar._replace(variables={**jar.variables, **declare})
        change = ValueChanges(self.opened, after)
        for stage, scope, name, text in puts:
            change.put(stage, scope, name, Secret(text) if after.variables[name].secret else text)
        if declare:
            edit_file(
                self.opened.folder / "jar.yaml",
                [Edit(("variables", name), declaration(variable)) for name, variable in declare.items()],
            )
        change.commit()
        return change.notes

    def _declared(self, name: str, places: Sequence[SourceValue], text: str) -> Variable:
        services = {str(source_value.service) for source_value in places if source_value.service in self.jar.services}
        limited = frozenset(services) if services and services != set(self.jar.services) else None
        guessed = infer(name, text)
        secret = guessed.secret or any(source_value.secret for source_value in places)
        return Variable(
            name=VariableName(name),
            location=self.jar.location,
            kind="text" if secret else guessed.kind,
            secret=secret,
            services=limited,
        )

    # -- the new place

    def deliver(self, print_error: ShowOutcomes) -> None:
        """Write the new place, stage by stage, and read back. Failures are reported and recorded."""
        destination = self.reader.new.destination
        if destination is None:
            write_flat(self.sheet.target, {line.new_name: self._going(line) for line in self.sheet.of(*GOES)})
        elif self.opened is not None and is_live(destination):
            for stage in self._stages_there():
                self._delivered(stage, [destination.name], print_error)
                if not self.failed:
                    self._take_supplied(stage, destination.name)
        elif self.opened is not None:
            self._render(destination.name)

    def _going(self, line: SheetLine) -> list[SourceValue]:
        """Return a line's places with their texts: the old place's, or the jar's."""
        places = self._places(line)
        if line.group in (CARRIED, RENAMED):
            return [source_value for source_value in places if source_value.text is not None]
        return [
            source_value._replace(text=self.reader.in_jar(source_value, line.new_name)[1]) for source_value in places
        ]

    def _stages_there(self) -> list[str]:
        there = {stage_and_service(where)[0] for line in self.sheet.of(*GOES, SUPPLIED) for where in line.where}
        return [stage for stage in self.sheet.stages if stage in there] or sorted(there)

    def _delivered(self, stage: str, names: Sequence[str], print_error: ShowOutcomes) -> None:
        assert self.opened
        opened = self.opened

        async def work() -> list[DeliveryOutcome]:
            delivery = Delivery(
                LiveStage(opened, stage, names, Masker(), writes=True), DeliveryOptions(restart=self.options.restart)
            )
            try:
                await delivery.look()
                return await delivery.carry_out()
            finally:
                await delivery.close()

        outcomes = asyncio.run(work())
        self.failed += [
            f"{outcome.label}: {outcome.fault.words if outcome.fault.of == outcome.label else outcome.fault.message}"
            for outcome in outcomes
            if outcome.fault
        ]
        print_error(stage, outcomes)

    def _take_supplied(self, stage: str, name: str) -> None:
        """Read what the new place supplies only after its first run: its addresses."""
        assert self.opened
        live = LiveStage(self.opened, stage, [name], Masker(), writes=True)
        try:
            faults = asyncio.run(live.take_supplied())
            self.failed += [f"{name}: {fault.message}" for name, fault in faults.items()]
            live.record_supplied()
        finally:
            live.records.close()

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
        write(self.opened, self._stages_there(), [name], Masker())

    # -- repointing

    def repoint(self, print_error: ShowOutcomes) -> list[str]:
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
        outcomes, reached = repoint(
            self.opened, self.sheet.repointed, besides, lambda stage, names: self._delivered(stage, names, print_error)
        )
        self.outcomes |= {("repointed", number): words for number, words in outcomes.items()}
        return [f"{affected.service} on {affected.stage}: {', '.join(affected.destinations)}" for affected in reached]

    # -- verifying

    def verify(self) -> None:
        """Read the new place, and compare each line with it."""
        if self.reader.new.destination is not None and self.opened is not None:
            self.reader.jar = self.opened.load()
            self.reader.ends.jar = self.reader.jar
        goal = self.reader.ends.new(self.reader.new, self._stages_there())
        flat = read_flat(self.sheet.target) if self.reader.new.destination is None else None
        for line in self.sheet.lines:
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
            self.outcomes[line.group, line.number] = message
            self.failed += [
                f"{line.new_name} of {where}: {place_result.words}"
                for where, place_result in zip(line.where, came, strict=True)
                if not place_result.good
            ]

    def _stands(
        self, line: SheetLine, where: str, held: Mapping[tuple[str, str | None, str], str | None]
    ) -> _PlaceResult:
        """Return the result of a line in one place, for every service that it is about."""
        stage, service = stage_and_service(where)
        keys = [
            key
            for key in held
            if key[0] == stage and key[2] == line.new_name and (service is None or key[1] in (None, service))
        ]
        if line.group == LEFT:
            return _PlaceResult("not moved; it was already there" if keys else "not moved")
        if line.group == SUPPLIED:
            return _PlaceResult("supplied there" if keys else "supplied there from its first run")
        if not keys:
            return _NOT_THERE
        if any(held[key] is None for key in keys):
            return _PlaceResult("there; not readable")
        wanted = [self.reader.in_jar(SourceValue(line.new_name, stage, service or key[1], None))[1] for key in keys]
        same = all(text is not None and reveal(held[key] or "") == text for key, text in zip(keys, wanted, strict=True))
        return _THE_SAME if same else _ANOTHER

    def _stands_in_file(self, line: SheetLine, where: str, flat: Mapping[str, str | None]) -> _PlaceResult:
        """Return the same, where the new place is a file."""
        if line.group in (LEFT, SUPPLIED):
            return _PlaceResult("not moved")
        text = next((source_value.text for source_value in self._going(line) if source_value.where == where), None)
        if line.new_name not in flat:
            return _NOT_THERE
        return _THE_SAME if text is not None and flat[line.new_name] == reveal(text) else _ANOTHER

    def settle(self) -> list[str]:
        """After verification: stop delivering to the old place; empty it on request.

        Writes the outcome into the sheet.
        """
        messages: list[str] = []
        emptied = ""
        if not self.failed:
            messages += self._moved()
            if self.options.empty_source:
                record_outcomes(self.sheet, {}, emptied="begun")
                messages += self._empty()
                emptied = "done"
        record_outcomes(self.sheet, self.outcomes, emptied=emptied)
        return messages

    def _moved(self) -> list[str]:
        old, new = self.reader.old.destination, self.reader.new.destination
        if self.opened is None or old is None or new is None:
            return []
        stages = self.sheet.stages or self.reader.stages
        keys = [f"{stage}/{self.sheet.service}" if self.sheet.service else stage for stage in stages]
        keys = [key for key in keys if not old.moved(key.partition("/")[0]) and key not in old.moved_to]
        if not keys:
            return []
        with locked(self.opened.folder):
            edit_file(
                self.opened.folder / "jar.yaml",
                [Edit(("destinations", old.name, "moved_to", key), new.name) for key in keys],
            )
        return [
            (
                f"{old.name} has moved_to: {new.name} for {', '.join(keys)} in jar.yaml now: it is still read, but not "
                "delivered to any more"
            )
        ]

    def _empty(self) -> list[str]:
        """Remove everything there that the sheet has a line for, except the platform's own. Raises ExternalError."""
        destination = self.reader.old.destination
        if destination is None or not is_live(destination):
            return [f"{self.reader.old.label} is not a running system: remove it by hand"]
        names = {line.variable for line in self.sheet.lines}
        count = 0

        async def one(stage: str) -> int:
            _, targets = self.reader.ends.targets(destination, stage)
            gone = 0
            for target in targets:
                try:
                    await target.identity()
                    live = await target.read()
                    away = [
                        DeliveryChange(live_value.name, GONE, live_value.text, None, live_value.secret, live_value)
                        for live_value in live.values()
                        if live_value.name in names and not live_value.supplied and not live_value.inherited
                    ]
                    if away:
                        await target.write(away)
                    left = [
                        live_value
                        for live_value in (await target.read()).values()
                        if live_value.name in {change.name for change in away} and not live_value.inherited
                    ]
                    if left:
                        words = f"it did not remove {', '.join(live_value.name for live_value in left)}"
                        raise ExternalError(
                            words, hint="run this again", location=target.origin, code="read-back", of=target.label
                        )
                    gone += len(away)
                finally:
                    await target.close()
            return gone

        for stage in self.reader.stages:
            count += asyncio.run(one(stage))
        return [f"{count} variables removed from {destination.name}"]
