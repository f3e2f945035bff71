"""Create the sheet of a migration: read both endpoints, decide on every variable, and find references to the old
place.
"""

from __future__ import annotations

import hmac
import os
import secrets
from collections.abc import AsyncIterator, Sequence
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.delivery.selection import is_for
from coinjar.actions.migration.endpoints import Endpoint, EndpointReader, TargetState, stages_of, where
from coinjar.actions.open_jar import OpenJar
from coinjar.core.code_uses import has_code
from coinjar.core.display import Masker
from coinjar.core.dispositions import InboundReference, MigrationContext, SheetEntry, SourceValue, entries
from coinjar.core.errors import CoinJarError, UsageError
from coinjar.core.names import ALL
from coinjar.core.references import Template
from coinjar.core.rules.base import CheckContext
from coinjar.core.secret import reveal
from coinjar.destinations import is_live
from coinjar.destinations.stage_view import RenderContext
from coinjar.scanning.file_walk import FileWalk
from coinjar.system.files import display_path, replace_file


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
        self.stages = self._stages(stages)
        if self.jar and service:
            self.jar.service(service)
        self.service = service
        self.there: list[SourceValue] = []

    async def read(self) -> None:
        """Read the old place into `there`. Raises ExternalError, InputError, UsageError."""
        service = self.service
        source_values = await self.ends.read_old(self.old, self.stages)
        self.there = [
            source_value._replace(service=source_value.service or service)
            for source_value in source_values
            if service is None or source_value.service in (None, service)
        ]

    def _stages(self, asked: Sequence[str]) -> list[str]:
        if self.jar is None or (self.old.destination is None and self.new.destination is None):
            return list(asked)
        for stage in asked:
            self.jar.stage(stage)
        if self.old.destination is None:
            if len(asked) != 1:
                raise UsageError(f"which stage is {self.old.text}?", hint="add --stage STAGE", code="which-stage")
            return list(asked)
        own = stages_of(self.jar, self.old)
        if (
            self.new.destination
            and (lost := [name for name in own if not is_for(self.jar, self.new.destination, name)])
            and not asked
        ):
            self.notes.append(f"{self.new.label} is not for {', '.join(lost)}: their variables are not moved")
        return list(asked) or own

    async def sheet(self) -> DraftSheet:
        """Read both places, and return the sheet. Raises ExternalError, InputError, UsageError."""
        await self.read()
        goal = await self.ends.new(self.new, [stage for stage in self.stages if self._new_has(stage)])
        made = entries(self.there, self._facts(goal))
        digests = {(entry.variable, entry.where): self.digest(entry.variable, entry.where) for entry in made}
        pointings = [pointing async for pointing in self._pointings()] if self.jar and self.old.destination else []
        return DraftSheet(self.old, self.new, self.stages, made, digests, pointings, self.notes)

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

    # -- digests

    def digest(self, variable: str, places: Sequence[str]) -> str:
        """Return a digest that shows, to whoever has the key, whether the values of a line have changed since."""
        texts = [
            "\0".join((source_value.where, reveal(source_value.text or ""), str(source_value.text is None)))
            for source_value in self.there
            if source_value.name == variable and source_value.where in places
        ]
        message = "\0".join(["coinjar move 1", self.old.text, variable, *sorted(texts)])
        return hmac.digest(self._key(), message.encode("utf-8", "surrogatepass"), "sha256").hex()[:16]

    def _key(self) -> bytes:
        if self.opened and self.jar and self.stages:
            return RenderContext(self.jar, self.opened.folder, Masker(), self.opened.ring, writes=True).naming_key(
                self.stages[0]
            )
        home = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
        path = Path(home, "coinjar", "move.key")
        if not path.exists():
            replace_file(path, secrets.token_bytes(32), mode=0o600)
        return path.read_bytes()

    # -- references to the old place

    def addresses(self) -> list[SourceValue]:
        """Return the addresses that the old place supplied."""
        return [
            source_value
            for source_value in self.there
            if source_value.supplied and source_value.text and "://" in reveal(source_value.text)
        ]

    async def _pointings(self) -> AsyncIterator[InboundReference]:
        assert self.jar
        context = CheckContext(self.jar)
        for source_value in self.addresses():
            address = reveal(source_value.text or "").rstrip("/")
            for definition in context.definitions:
                content = definition.definition.content
                source = (
                    content.source
                    if isinstance(content, Template)
                    else reveal(content)
                    if isinstance(content, str)
                    else ""
                )
                if address not in source or (
                    definition.variable.name == source_value.name and definition.scope in (source_value.service, ALL)
                ):
                    continue
                if source_value.secret:  # an address with a password in it is in no sheet
                    self.notes.append(
                        f"{definition.variable.name} ({definition.layer}/{definition.scope}) contains "
                        f"{source_value.name} of {self.old.label}, a secret: set it again"
                    )
                else:
                    yield self._pointing(
                        source_value, definition.variable.name, definition.layer, definition.scope, address, source
                    )
            if not source_value.secret:
                async for pointing in self._elsewhere(source_value, address):
                    yield pointing
                self._in_files(address)

    def _pointing(
        self, source_value: SourceValue, name: str, layer: str, scope: str, address: str, source: str
    ) -> InboundReference:
        assert self.jar
        variable = self.jar.variables.get(source_value.name)
        gives = (
            variable is not None
            and source_value.service is not None
            and self.new.destination is not None
            and layer in self.stages
        )
        gives = gives and self.jar.variables[name].kind != "json"  # there a reference would be data
        whole = reveal(source_value.text or "")
        becomes = f"${{{source_value.name}@of:{source_value.service}}}" if gives and whole in source else ""
        why = f"is an address of {source_value.service or source_value.where} at {self.old.label}"
        if not becomes:
            why += "; write its new value"
        return InboundReference(name, layer, scope, whole if whole in source else address, becomes, why)

    async def _elsewhere(self, source_value: SourceValue, address: str) -> AsyncIterator[InboundReference]:
        """Return values on other live destinations that are not in the jar."""
        assert self.jar
        for destination in self.jar.destinations.values():
            ours = (self.old.destination and destination.name == self.old.destination.name) or (
                self.new.destination and destination.name == self.new.destination.name
            )
            if (
                ours
                or not is_live(destination)
                or destination.moved(source_value.stage)
                or source_value.stage not in stages_of(self.jar, Endpoint("", destination, ""))
            ):
                continue
            try:
                held = await self.ends.held(destination, source_value.stage)
            except CoinJarError as fault:
                self.notes.append(f"{destination.name} could not be searched for addresses: {fault.message}")
                continue
            for target, there in held:
                for live_value in there.values():
                    if (
                        live_value.text
                        and address in reveal(live_value.text)
                        and not live_value.supplied
                        and live_value.name not in self.jar.variables
                    ):
                        why = (
                            f"{target.label} has it, but the jar does not: change it there, or adopt "
                            f"dest:{destination.name}@{source_value.stage}"
                        )
                        yield InboundReference(
                            live_value.name, source_value.stage, f"dest:{destination.name}", address, "", why
                        )

    def _in_files(self, address: str) -> None:
        """Report files of the code that contain the address; they are not changed."""
        from coinjar.actions.mentions.search import code_paths

        assert self.jar
        assert self.opened
        base = self.opened.folder.resolve().parent
        paths = self.paths or (code_paths(self.jar, base) if has_code(self.jar) else [])
        for candidate in FileWalk(skipped=[self.opened.folder]).files(paths):
            lines = Path(candidate.path).read_bytes().split(b"\n")
            for number, line in enumerate(lines, 1):
                if address.encode() in line:
                    self.notes.append(
                        f"{display_path(Path(candidate.path))}:{number} contains an address of {self.old.label}: "
                        "change it by hand"
                    )
