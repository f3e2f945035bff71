"""What a destination works with: the jar and its keys, and one stage as the destination sees it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.core.display import Masker
from coinjar.core.errors import is_encrypted_for_others, raise_all
from coinjar.core.inference import infer
from coinjar.core.layers import Resolver
from coinjar.core.model import Destination, Jar, Resolved, Variable
from coinjar.core.names import SHARED, matches
from coinjar.core.placeholders import fill
from coinjar.dialects.base import Entry, FileHeader, ParseContext
from coinjar.jarfile.load import read_bytes

if TYPE_CHECKING:
    from coinjar.core.consent import Gate
    from coinjar.destinations.live.connections import Transport
    from coinjar.destinations.live.patience import RequestPatience
    from coinjar.jarfile.sealed_values import Ring


class RenderContext:
    """What a destination works with: the jar and its keys, the folder that its paths are relative to, the gate that
    decides what it may do, and what this run will write. `patience`: how long a request may wait. `transport` sends
    HTTP requests instead of a network connection, for example in a test.
    """

    def __init__(
        self,
        jar: Jar,
        folder: Path,
        masker: Masker,
        ring: Ring | None,
        gate: Gate,
        *,
        move_up: bool = False,
        writes: bool = False,
        transport: Transport | None = None,
        patience: RequestPatience | None = None,
    ) -> None:
        self.patience = patience
        self.jar = jar
        self.folder = folder
        self.ring = ring
        self.gate = gate
        self.root = folder.parent
        self.move_up = move_up
        self.writes = writes
        self.masker = masker
        self.transport = transport
        self.pending: dict[Path, bytes] = {}
        """Files of this run that are not written yet; who calls `outputs` adds them for the destinations after it."""

    def current(self, path: Path) -> bytes:
        """Return a file's content, or what this run will write to it; empty if there is none."""
        if path in self.pending:
            return self.pending[path]
        return read_bytes(path) if path.exists() else b""

    def naming_key(self, stage: str) -> bytes:
        """Return the key for the names of a stage's Kubernetes Secrets."""
        from coinjar.jarfile.naming_key import naming_key

        return naming_key(self.folder, self.layers(stage), self.ring, make=self.writes)

    def layers(self, stage: str) -> list[str]:
        """Return the layers of a stage, farthest first."""
        return [SHARED, *(self.jar.chain(stage) if stage != SHARED else ())]

    def parse_context(self, separator: str = "__") -> ParseContext:
        """Return what readers need from the jar."""
        return ParseContext([name for name in self.jar.stage_names() if "*" not in name], self.jar.variables, separator)

    def is_secret(self, name: str, text: str) -> bool:
        """Return whether a name is, or looks like, a secret's."""
        variable = self.jar.variables.get(name) or self.jar.second_names.get(name)
        return variable.name in self.jar.secret_names if variable else infer(name, text).secret


_FEW = 3
"""Services for each of which values are worked out, before it pays to look for what all of them share."""


class StageView:
    """One stage as a destination sees it.

    `stage` is `shared` for values without a stage; `lenient`: omit what cannot be computed yet; `usual`: what services
    share, made once, for all views that have the same dictionary.
    """

    def __init__(
        self,
        resolver: Resolver,
        destination: Destination,
        *,
        lenient: bool = False,
        usual: dict[Resolved, Entry] | None = None,
    ) -> None:
        self.resolver = resolver
        self.lenient = lenient
        self.stage = resolver.stage
        self.destination = destination
        self._entries: dict[tuple[str, tuple[str, ...]], list[Entry]] = {}
        self._by_name: dict[str, dict[str, Entry]] = {}
        """By phase, what every service gets alike."""
        self._usual = usual if usual is not None and takes_all(destination) else {}

    def services(self) -> list[str]:
        """Return the services of the destination."""
        return services_for(self.destination, self.resolver.jar)

    def heading(self, service: str) -> FileHeader:
        return FileHeader(self.resolver.jar.app, self.stage, service)

    def entries(
        self,
        service: str,
        phases: tuple[str, ...] = ("run",),
        *,
        lenient: bool = False,
        takes: Callable[[str], bool] | None = None,
    ) -> list[Entry]:
        """Return what a service gets here, `also_as` names included, secrets replaced as declared; `takes` filters
        names.

        Raises every fault at once, unless `lenient`: then variables without a value are omitted. A secret encrypted for
        others is a fault only where its text would be written.
        """
        if takes is not None:
            return self._worked_out(
                service, phases, lambda name: takes(name) and gets(self.destination, name), lenient=lenient
            )
        key = (service, (*phases, str(lenient)))
        if key not in self._entries:
            only = None if takes_all(self.destination) else lambda name: gets(self.destination, name)
            found = self._usual_ones(service, phases[0]) if len(phases) == 1 and not lenient else None
            self._entries[key] = self._worked_out(service, phases, only, lenient=lenient) if found is None else found
        return self._entries[key]

    def _usual_ones(self, service: str, phase: str) -> list[Entry] | None:
        """Return what a service gets if every service gets the same values, written unchanged: the usual case where
        there are hundreds. None if not, and for the first few, for which it does not pay.
        """
        resolver = self.resolver
        if len(self._entries) < _FEW or not takes_all(self.destination) or service not in resolver.jar.services:
            return None
        if phase not in self._by_name:
            self._by_name[phase] = {
                name: self._entry(resolved)
                for name, resolved in resolver.alike(phase).items()
                if not resolved.secret and not resolved.variable.also_as
            }
        try:
            return [*map(self._by_name[phase].__getitem__, resolver.jar.names_for(service))]
        except KeyError:
            return None

    def _worked_out(
        self, service: str, phases: tuple[str, ...], only: Callable[[str], bool] | None, *, lenient: bool
    ) -> list[Entry]:
        result: dict[str, Resolved] = {}
        for phase in phases:
            result |= (
                self._lenient(service, phase, only)
                if lenient
                else self.resolver.resolve(service, phase=phase, closed=True, only=only)
            )
        faults = {
            id(resolved.fault): resolved.fault
            for resolved in result.values()
            if resolved.fault is not None and self._needs_text(resolved)
        }
        raise_all(list(faults.values()))
        if len(phases) == 1:  # in order already
            return self._made(result.values())
        order = {name: number for number, name in enumerate(self.resolver.jar.variables)}
        return self._made([result[name] for name in sorted(result, key=order.__getitem__)])

    def _lenient(self, service: str, phase: str, only: Callable[[str], bool] | None) -> dict[str, Resolved]:
        """Return the variables with a value; a reference to a variable without a value is not a fault, everything else
        is.
        """
        resolver = self.resolver
        variables = [
            variable for variable in resolver.jar.variables_for(service) if only is None or only(variable.name)
        ]
        here = [
            variable
            for variable in variables
            if variable.phase in (phase, "both") and resolver.applies(variable, service)
        ]
        result = {variable.name: resolver.value(variable.name, service) for variable in here}
        faults = [
            resolved.fault
            for resolved in result.values()
            if resolved.fault is not None and resolved.fault.code != "reference"
        ]
        raise_all([fault for fault in faults if not is_encrypted_for_others(fault)])
        return {
            name: resolved for name, resolved in result.items() if resolved.text is not None or resolved.fault in faults
        }

    def _needs_text(self, resolved: Resolved) -> bool:
        return (
            gets(self.destination, resolved.variable.name)
            and not self.destination.plain_only
            and self.destination.secrets is None
        )

    def _made(self, values: Collection[Resolved]) -> list[Entry]:
        usual = self._usual
        takes_every = takes_all(self.destination)
        careful = False
        for resolved in [each for each in values if each not in usual]:  # few of a service, where there are many
            variable = resolved.variable
            if (takes_every or gets(self.destination, variable.name)) and not resolved.secret and not variable.also_as:
                self._entry(resolved)
            else:
                careful = True
        if not careful:
            return [*map(usual.__getitem__, values)]
        entries: list[Entry] = []
        for resolved in values:
            if (known := usual.get(resolved)) is not None:
                entries.append(known)
            elif takes_every or gets(self.destination, resolved.variable.name):
                entries += self._made_with_care(resolved)
        return entries

    def _entry(self, resolved: Resolved) -> Entry:
        """Return the entry of a value that is written unchanged: always the same one."""
        if resolved not in self._usual:
            self._usual[resolved] = Entry(resolved.variable.name, resolved.text, resolved.variable)
        return self._usual[resolved]

    def _made_with_care(self, resolved: Resolved) -> Iterable[Entry]:
        if resolved.secret and self.destination.plain_only:
            return
        for name in (resolved.variable.name, *resolved.variable.also_as):
            if (
                resolved.secret
                and self.destination.secrets is not None
                and (resolved.text is not None or resolved.fault is not None)
            ):
                yield Entry(name, fill(self.destination.secrets, name=resolved.variable.name), resolved.variable)
            else:
                yield Entry(name, resolved.revealed, resolved.variable, resolved.secret)


def services_for(destination: Destination, jar: Jar) -> list[str]:
    """Return the services of a destination, in the order of declaration."""
    return [name for name in jar.services if destination.services is None or name in destination.services]


def takes_all(destination: Destination) -> bool:
    """Return whether a destination takes all variables."""
    return destination.variables == ("*",) and not destination.without


def gets(destination: Destination, name: str) -> bool:
    """Return whether a destination takes this variable."""
    if takes_all(destination):
        return True
    return matches(name, destination.variables) and not matches(name, destination.without)


def is_supplied(variable: Variable, destination: Destination) -> bool:
    """Return whether a destination supplies the variable itself."""
    return destination.name in variable.supplied_by
