"""Find values and files that contain an address of the old place of a migration."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterator, Sequence
from pathlib import Path

from coinjar.actions.migration.endpoints import Endpoint, EndpointReader, stages_of
from coinjar.actions.open_jar import OpenJar
from coinjar.core.code_uses import has_code
from coinjar.core.dispositions import InboundReference, SourceValue
from coinjar.core.errors import CoinJarError
from coinjar.core.model import Jar
from coinjar.core.names import ALL
from coinjar.core.references import Template
from coinjar.core.rules.base import CheckContext
from coinjar.core.secret import reveal
from coinjar.destinations import is_live
from coinjar.destinations.stage_view import services_for
from coinjar.scanning.file_walk import FileWalk
from coinjar.system.files import display_path, read_file


class InboundReferences:
    """Finds references to addresses among `values`, which the old place has; what is left to a person is in `notes`."""

    def __init__(
        self,
        opened: OpenJar,
        jar: Jar,
        ends: EndpointReader,
        places: tuple[Endpoint, Endpoint],
        stages: Sequence[str],
        values: Sequence[SourceValue],
        paths: Sequence[str],
    ) -> None:
        self.opened = opened
        self.jar = jar
        self.ends = ends
        self.old, self.new = places
        self.stages = stages
        self.values = values
        self.paths = paths
        self.notes: list[str] = []

    def _addresses(self) -> list[SourceValue]:
        """Return the addresses that the old place supplied: as it lists them, or else as the jar recorded them."""
        listed = [value for value in self.values if value.supplied and value.text]
        seen = {(value.name, value.stage, value.service) for value in listed}
        recorded = [value for value in self._recorded() if (value.name, value.stage, value.service) not in seen]
        return [value for value in (*listed, *recorded) if "://" in reveal(value.text or "")]

    def _recorded(self) -> Iterator[SourceValue]:
        """Yield the jar's values of what the old place supplies and its listing may not show."""
        old = self.old.destination
        for stage in self.stages if old is not None else ():
            resolver = self.opened.resolver(stage, jar=self.jar)
            for variable in self.jar.variables.values():
                for service in (
                    services_for(old, self.jar) if old is not None and old.name in variable.supplied_by else ()
                ):
                    if variable.applies_to(service):
                        text = resolver.value(variable.name, service).revealed
                        yield SourceValue(variable.name, stage, service, text, variable.secret, supplied=True)

    async def find(self) -> AsyncIterator[InboundReference]:
        context = CheckContext(self.jar)
        for source_value in self._addresses():
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

        base = self.opened.folder.resolve().parent
        paths = self.paths or (code_paths(self.jar, base) if has_code(self.jar) else [])
        for candidate in FileWalk(skipped=[self.opened.folder]).files(paths):
            lines = read_file(Path(candidate.path)).split(b"\n")
            for number, line in enumerate(lines, 1):
                if address.encode() in line:
                    self.notes.append(
                        f"{display_path(Path(candidate.path))}:{number} contains an address of {self.old.label}: "
                        "change it by hand"
                    )
