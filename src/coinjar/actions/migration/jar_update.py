"""Update the jar from a sheet: names, values, and what the new place takes and supplies."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from coinjar.actions.editing import rename
from coinjar.actions.editing.rename_edits import RenameOptions
from coinjar.actions.editing.value_changes import ValueChanges, edit_file
from coinjar.actions.editing.values import declaration
from coinjar.core.dispositions import CARRIED, GIVES, KEPT, LEFT, MOVED, NAMEABLE, RENAMED, SUPPLIED, SourceValue
from coinjar.core.errors import InputError
from coinjar.core.inference import infer
from coinjar.core.model import Destination, Jar, Variable
from coinjar.core.names import ALL, VariableName
from coinjar.core.secret import Secret, reveal
from coinjar.destinations.stage_view import gets, services_for
from coinjar.documents.edit import Edit
from coinjar.documents.writer import Plain
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.local_folder import locked
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.actions.migration.migration import Migration


class JarUpdate:
    """Updates the jar of a migration."""

    def __init__(self, migration: Migration) -> None:
        self.migration = migration

    async def prepare(self) -> list[str]:
        """Update the jar from the sheet: names, values, what the new place takes and supplies. Return remarks."""
        if self.migration.opened is None or self.migration.reader.new.destination is None:
            return []
        with locked(self.migration.opened.folder):
            await self._limits()
            notes = self._values()
        renames = self._renames(self.migration.opened.load())
        if renames:
            rename_options = RenameOptions(
                () if self.migration.options.jar_only else self.migration.options.paths,
                jar_only=self.migration.options.jar_only,
            )
            plan = rename.plan(self.migration.opened, renames, rename_options)
            rename.apply_edits(self.migration.opened, renames, rename_options, plan)
            files = [
                file.path
                for file in plan.files
                if self.migration.opened.folder.resolve() not in file.path.resolve().parents
            ]
            where = ", ".join(["the jar", *map(display_path, files)])
            notes += [f"{old} was renamed to {new} in {where}" for old, new in renames.items()]
        self.migration.reader.jar = self.migration.opened.load()
        self.migration.reader.ends.jar = self.migration.reader.jar
        return notes

    def _renames(self, jar: Jar) -> dict[str, str]:
        """Return the variables of the jar to which the sheet gives another name."""
        return {
            line.variable: line.new_name
            for line in self.migration.sheet.of(*NAMEABLE)
            if line.new_name != line.variable and line.variable in jar.variables and line.new_name not in jar.variables
        }

    async def _limits(self) -> None:
        """Record in jar.yaml what the new place does not take, and what it supplies."""
        assert self.migration.opened
        destination = self.migration.reader.new.destination
        assert destination
        jar = self.migration.opened.load()
        edits: list[Edit] = []
        going_by_another = self._renames(jar)
        refused = {
            name: what for name, what in (await self._refused(jar, destination)).items() if name not in going_by_another
        }
        going = {line.new_name for line in self.migration.sheet.of(*MOVED)}
        goal = await self.migration.reader.ends.new(self.migration.reader.new, [])
        left = [
            line.variable
            for line in self.migration.sheet.of(LEFT)
            if line.variable in jar.variables
            and line.variable not in going
            and any(goal.takes(jar, source_value) is None for source_value in self.migration.places(line))
        ]
        gone = [
            name
            for name in [*left, *(name for name, what in refused.items() if what == KEPT)]
            if gets(destination, name)
        ]
        if gone:
            names: list[Plain] = [*jar.destinations[destination.name].without, *dict.fromkeys(gone)]
            edits.append(Edit(("destinations", destination.name, "without"), names))
        given = [line.variable for line in self.migration.sheet.of(SUPPLIED)] + [
            name for name, what in refused.items() if what == GIVES
        ]
        for name in dict.fromkeys(given):
            variable = jar.variables.get(name)
            if variable is not None and destination.name not in variable.supplied_by:
                by: list[Plain] = [*variable.supplied_by, destination.name]
                edits.append(Edit(("variables", name, "supplied", "by"), by))
        edit_file(JarLayout(self.migration.opened.folder).declarations, edits)

    async def _refused(self, jar: Jar, destination: Destination) -> dict[str, str]:
        """Return names of the jar that the new place would get, but reserves or sets itself."""
        goal = await self.migration.reader.ends.new(self.migration.reader.new, [])
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
        assert self.migration.opened
        jar = self.migration.opened.load()
        declare: dict[str, Variable] = {}
        puts: list[tuple[str, str, str, str]] = []
        for line in self.migration.sheet.of(CARRIED, RENAMED):
            places = self.migration.places(line)
            name = line.new_name if line.new_name in jar.variables else line.variable
            for source_value in [source_value for source_value in places if source_value.text is not None]:
                text = reveal(source_value.text or "")
                if self.migration.reader.in_jar(source_value, name)[1] == text:
                    continue
                if name not in jar.variables:
                    if owner := jar.current_owner(name):
                        message = f"{name} is a former name of {owner.name}, and cannot be declared"
                        raise InputError(
                            message,
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
        change = ValueChanges(self.migration.opened, after)
        for stage, scope, name, text in puts:
            change.put(stage, scope, name, Secret(text) if after.variables[name].secret else text)
        if declare:
            edit_file(
                JarLayout(self.migration.opened.folder).declarations,
                [Edit(("variables", name), declaration(variable)) for name, variable in declare.items()],
            )
        change.commit()
        return change.notes

    def _declared(self, name: str, places: Sequence[SourceValue], text: str) -> Variable:
        services = {
            str(source_value.service) for source_value in places if source_value.service in self.migration.jar.services
        }
        limited = frozenset(services) if services and services != set(self.migration.jar.services) else None
        guessed = infer(name, text)
        secret = guessed.secret or any(source_value.secret for source_value in places)
        return Variable(
            name=VariableName(name),
            location=self.migration.jar.location,
            kind="text" if secret else guessed.kind,
            secret=secret,
            services=limited,
        )
