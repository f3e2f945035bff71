"""Create the sheet of a migration: read both endpoints, decide on every variable, and find references to the old
place.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from coinjar.actions.delivery.selection import is_for
from coinjar.actions.migration.endpoints import Endpoint, EndpointReader, TargetState, where
from coinjar.actions.migration.inbound_references import InboundReferences
from coinjar.actions.migration.sheet_digest import digest, digest_key
from coinjar.actions.migration.stage_pairs import StagePair, paired, stage_pairs
from coinjar.actions.open_jar import OpenJar
from coinjar.core.code_uses import has_code
from coinjar.core.dispositions import InboundReference, MigrationContext, SheetEntry, SourceValue, entries
from coinjar.core.errors import UsageError
from coinjar.core.secret import reveal


class DraftSheet(NamedTuple):
    """A sheet before it is written: its lines, their digests, references to the old place, and remarks."""

    old: Endpoint
    new: Endpoint
    stages: list[str]
    entries: list[SheetEntry]
    digests: dict[tuple[str, tuple[str, ...]], str]
    pointings: list[InboundReference]
    notes: list[str]


class SheetBuilder:
    """Reads the input of a sheet: the jar at once, the old place with `read`."""

    def __init__(
        self,
        opened: OpenJar | None,
        source: str,
        target: str,
        stages: Sequence[str] = (),
        paths: Sequence[str] = (),
        service: str | None = None,
    ) -> None:
        self.opened = opened
        self.jar = opened.load() if opened else None
        self.ends = EndpointReader(opened, self.jar)
        self.old, self.new = where(self.jar, source), where(self.jar, target)
        if self.old.label == self.new.label:
            raise UsageError("from and to are the same place", hint="name another", code="usage")
        self.paths = list(paths)
        self.notes: list[str] = []
        self.pairs = self._pairs(stages)
        self.stages = list(dict.fromkeys(pair.new for pair in self.pairs)) if self.pairs else list(stages)
        """The jar's stages that the variables are for afterwards."""
        self.old_stages = list(dict.fromkeys(pair.old for pair in self.pairs)) if self.pairs else list(stages)
        if self.jar and service:
            self.jar.service(service)
        self.service = service
        self.listed: list[SourceValue] = []
        """What the old place has, by its own stages."""
        self.there: list[SourceValue] = []
        """The same, by the stages that these become."""

    async def read(self) -> None:
        """Read the old place into `there`. Raises ExternalError, InputError, UsageError."""
        service = self.service
        source_values = await self.ends.read_old(self.old, self.old_stages)
        self.listed = [
            source_value._replace(service=source_value.service or service)
            for source_value in source_values
            if service is None or source_value.service in (None, service)
        ]
        self.there = paired(self.listed, self.pairs) if self.pairs else self.listed

    def _pairs(self, asked: Sequence[str]) -> list[StagePair]:
        if self.jar is None or (self.old.destination is None and self.new.destination is None):
            return []
        pairs = stage_pairs(self.jar, self.old, self.new, asked)
        if not pairs:
            raise UsageError(f"which stage is {self.old.text}?", hint="add --stage STAGE", code="which-stage")
        lost = [pair.new for pair in pairs if not self._new_has(pair.new)]
        if lost and not asked:
            named = ", ".join(dict.fromkeys(lost))
            self.notes.append(f"{self.new.label} is not for {named}: their variables are not moved")
        return pairs

    async def sheet(self) -> DraftSheet:
        """Read both places, and return the sheet. Raises ExternalError, InputError, UsageError."""
        await self.read()
        goal = await self.ends.new(self.new, [stage for stage in self.stages if self._new_has(stage)])
        made = entries(self.there, self._facts(goal))
        digests = {(entry.variable, entry.where): self.digest(entry.variable, entry.where) for entry in made}
        pointings: list[InboundReference] = []
        if self.opened and self.jar and self.old.destination:
            places = (self.old, self.new)
            same = [pair.old for pair in self.pairs if pair.old == pair.new]
            inbound = InboundReferences(self.opened, self.jar, self.ends, places, same, self.listed, self.paths)
            pointings = [pointing async for pointing in inbound.find()]
            self.notes += inbound.notes
        words = [pair.word for pair in self.pairs] if self.pairs else self.stages
        return DraftSheet(self.old, self.new, words, made, digests, pointings, self.notes)

    def digest(self, variable: str, places: Sequence[str]) -> str:
        """Return the digest of a variable's values in these places."""
        key = digest_key(self.opened, self.jar, self.stages)
        values = [value for value in self.there if value.where in places]
        return digest(key, self.old.text, variable, values)

    def _new_has(self, stage: str) -> bool:
        return not (self.jar and self.new.destination) or is_for(self.jar, self.new.destination, stage)

    def _facts(self, goal: TargetState) -> MigrationContext:
        mentioned = self._mentioned()
        known = list(self.jar.variables) if self.jar else []

        def held(source_value: SourceValue, name: str) -> str | None:
            result = [
                text
                for key, text in goal.held.items()
                if key[0] == source_value.stage
                and key[2] == name
                and (source_value.service is None or key[1] in (None, source_value.service))
            ]
            return reveal(result[0]) if result and result[0] is not None else None

        return MigrationContext(
            self.old.label,
            self.new.label,
            goal.rejection,
            lambda source_value: goal.takes(self.jar, source_value),
            self.in_jar,
            held,
            mentioned,
            known,
            self.jar is not None,
            goal.folds,
            lambda name: owner.name if self.jar and (owner := self.jar.current_owner(name)) else None,
        )

    def in_jar(self, source_value: SourceValue, name: str | None = None) -> tuple[bool, str | None]:
        """Return whether the jar declares a variable, and its value there."""
        name = name or source_value.name
        if self.jar is None or self.opened is None or name not in self.jar.variables or not source_value.stage:
            return bool(self.jar and name in self.jar.variables), None
        variable = self.jar.variables[name]
        service = (
            source_value.service
            if source_value.service in self.jar.services
            else next(iter(self.jar.services_with(variable)), None)
        )
        if service is None or not variable.applies_to(service):
            return True, None
        return True, self.opened.resolver(source_value.stage, jar=self.jar).value(name, service).revealed

    def _mentioned(self) -> dict[str, list[str]] | None:
        from coinjar.actions.mentions.search import code_paths, find, uses

        paths = self.paths
        if not paths and self.jar and self.opened and has_code(self.jar):
            paths = code_paths(self.jar, self.opened.folder.resolve().parent)
        if not paths:
            return None
        result: dict[str, list[str]] = {}
        for use in uses(find(self.opened, self.jar, paths)):
            if use.access != "set":
                result.setdefault(use.name, []).append(str(use.location))
        return result
