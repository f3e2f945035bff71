"""What a destination is, what it is given, and what it makes."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from bisect import bisect_right
from collections.abc import Callable, Iterable, Mapping, Sequence
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from coinjar.core.display import Masker
from coinjar.core.errors import InputError, Location, is_encrypted_for_others, raise_all
from coinjar.core.inference import infer, is_placeholder
from coinjar.core.layers import Resolver
from coinjar.core.model import Destination, Jar, Resolved, Variable
from coinjar.core.names import SHARED
from coinjar.core.rules.base import Diagnostic
from coinjar.dialects.base import Dialect, Entry, FileHeader, ParseContext, ReadItem, ReadResult
from coinjar.documents.field_reader import FieldReader
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.jarfile.sealed_values import Ring

_HOLDER = re.compile(r"\{([^{}]*)\}")
_MASK = "••••"
"""Shown for a line that goes on with a secret."""
_HOLDERS = ("stage", "service", "host", "name")
"""All that options fill in, in one place or another."""


class RenderNotice(NamedTuple):
    """Something to know about a destination, for `render`; and for a rule of `check`, if it names one."""

    rule: str
    diagnostic: Diagnostic


Hidden = Callable[[bytes], Mapping[int, str]]
"""Which lines of a file (from 1) its own reader takes for secrets, each with what to show instead."""


class Output(NamedTuple):
    """A file as it should be. `about` says what is in it.

    `merges`: it was made of what was there, so another stage may add to it; `program`: it can be run.
    """

    path: Path
    data: bytes
    secret: bool
    about: str
    hidden: Hidden
    program: bool = False
    merges: bool = False


class RenderContext:
    """What a destination works in: the jar and its keys, the folder its paths count from, and what this run has already decided to write."""

    def __init__(
        self,
        jar: Jar,
        folder: Path,
        masker: Masker,
        ring: Ring | None = None,
        *,
        move_up: bool = False,
        writes: bool = False,
    ) -> None:
        self.jar = jar
        self.folder = folder
        self.ring = ring
        self.root = folder.parent
        self.move_up = move_up
        self.writes = writes
        self.masker = masker
        self.pending: dict[Path, bytes] = {}

    def current(self, path: Path) -> bytes:
        """A file as it is, or will be after what this run has decided; empty if there is none."""
        if path in self.pending:
            return self.pending[path]
        return read_bytes(path) if path.exists() else b""

    def naming_key(self, stage: str) -> bytes:
        """The key for the names of a stage's Kubernetes Secrets."""
        from coinjar.jarfile.naming_key import naming_key

        return naming_key(self.folder, self.layers(stage), self.ring, make=self.writes)

    def layers(self, stage: str) -> list[str]:
        """The layers that a stage sees, farthest first."""
        return [SHARED, *(self.jar.chain(stage) if stage != SHARED else ())]

    def parse_context(self, separator: str = "__") -> ParseContext:
        """What readers want to know of the jar."""
        return ParseContext([name for name in self.jar.stage_names() if "*" not in name], self.jar.variables, separator)

    def is_secret(self, name: str, text: str) -> bool:
        """Whether a name is, or looks like, a secret's."""
        variable = self.jar.variables.get(name) or next(
            (variable for variable in self.jar.variables.values() if name in variable.also_as), None
        )
        return variable.name in self.jar.secret_names if variable else infer(name, text).secret


class StageView:
    """One stage as a destination sees it. `stage` is `shared` where no stage speaks; `lenient`: what cannot be worked out yet is left out."""

    def __init__(self, resolver: Resolver, destination: Destination, *, lenient: bool = False) -> None:
        self.resolver = resolver
        self.lenient = lenient
        self.stage = resolver.stage
        self.destination = destination
        self._entries: dict[tuple[str, tuple[str, ...]], list[Entry]] = {}

    def services(self) -> list[str]:
        """The services that the destination is for."""
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
        """What a service gets here, second spellings included, secrets replaced as the destination says; of these that it `takes`, if that is given.

        Raises every fault at once, unless `lenient`: then what has no value is left out. A secret that is sealed for others is a fault only where
        its text would be written.
        """
        if takes is not None:
            return self._worked_out(
                service, phases, lambda name: takes(name) and gets(self.destination, name), lenient=lenient
            )
        key = (service, (*phases, str(lenient)))
        if key not in self._entries:
            only = None if takes_all(self.destination) else lambda name: gets(self.destination, name)
            self._entries[key] = self._worked_out(service, phases, only, lenient=lenient)
        return self._entries[key]

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
        order = {name: number for number, name in enumerate(self.resolver.jar.variables)}
        return [entry for name in sorted(result, key=order.__getitem__) for entry in self._made(result[name])]

    def _lenient(self, service: str, phase: str, only: Callable[[str], bool] | None) -> dict[str, Resolved]:
        """What has a value; a reference to what has none here is no fault, any other is."""
        resolver = self.resolver
        variables = [variable for variable in resolver.jar.variables.values() if only is None or only(variable.name)]
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

    def _made(self, resolved: Resolved) -> Iterable[Entry]:
        if not resolved.secret and not resolved.variable.also_as:  # by far the most
            return (
                (Entry(resolved.variable.name, resolved.text, resolved.variable),)
                if gets(self.destination, resolved.variable.name)
                else ()
            )
        return self._made_with_care(resolved)

    def _made_with_care(self, resolved: Resolved) -> Iterable[Entry]:
        if not gets(self.destination, resolved.variable.name) or (resolved.secret and self.destination.plain_only):
            return
        for name in (resolved.variable.name, *resolved.variable.also_as):
            if (
                resolved.secret
                and self.destination.secrets is not None
                and (resolved.text is not None or resolved.fault is not None)
            ):
                yield Entry(name, self.destination.secrets.replace("{name}", resolved.variable.name), resolved.variable)
            else:
                yield Entry(name, resolved.revealed, resolved.variable, resolved.secret)


def filled(text: str, holders: Mapping[str, str]) -> str:
    """The text with its holders replaced; any other braces stay."""
    return re.sub("|".join(map(re.escape, holders)), lambda match: holders[match[0]], text)


def services_for(destination: Destination, jar: Jar) -> list[str]:
    """The services that a destination is for, in the order of declaration."""
    return [name for name in jar.services if destination.services is None or name in destination.services]


def takes_all(destination: Destination) -> bool:
    """Whether a destination takes whatever a service gets."""
    return destination.variables == ("*",) and not destination.without


def gets(destination: Destination, name: str) -> bool:
    """Whether a destination takes this variable at all."""
    if takes_all(destination):
        return True
    wanted = any(fnmatchcase(name, shape) for shape in destination.variables)
    return wanted and not any(fnmatchcase(name, shape) for shape in destination.without)


def is_supplied(variable: Variable, destination: Destination) -> bool:
    """Whether a destination provides the variable itself."""
    return destination.name in variable.supplied_by


class DestinationOptions:
    """What offline and live destinations share: their options. Subclasses name theirs and read them in `__init__` through `self.options`."""

    keys: tuple[str, ...] = ()
    needed: tuple[str, ...] = ()
    names_stage = False
    """Whether a path of it holds `{stage}`, so that stages have files of their own."""

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        self.destination = destination
        self.render_context = render_context
        self.fields = fields
        self.options: dict[str, Any] = {}
        for key, node in destination.options.items():
            if key in self.keys:
                self.options[key] = node
            else:
                known = ", ".join(self.keys)
                fields.fault(
                    node,
                    f"'{key}' means nothing for a destination of the type {destination.type}",
                    f"its keys are {known}",
                    "unknown-key",
                )
        for key in self.needed:
            if key not in destination.options:
                fault = InputError(
                    f"the destination {destination.name} has no '{key}'",
                    hint=f"add {key}: …",
                    location=destination.location,
                    code="destination",
                )
                fields.faults.append(fault)

    def text(self, key: str, default: str = "") -> str:
        """An option that is a text."""
        return self.fields.text(self.options.get(key), f"{key} of {self.destination.name}", default)

    def flag(self, key: str) -> bool:
        return self.fields.flag(self.options.get(key), key)

    def count(self, key: str, default: int) -> int:
        """An option that is a number."""
        text = self.text(key, str(default))
        if not re.fullmatch(r"(?a)\d{1,4}", text):
            self.fields.fault(
                self.options[key],
                f"{key} of {self.destination.name} must be a whole number",
                "write digits, at most four",
                "destination",
            )
            return default
        return int(text)

    def pattern(self, key: str, holders: tuple[str, ...] = ("stage", "service")) -> str:
        """An option that is a path, in which `{stage}` and `{service}` may stand."""
        path = self.text(key)
        self.names_stage = self.names_stage or "{stage}" in path
        for name in _HOLDER.findall(path):
            if name not in holders:
                hint = f"a path holds {' and '.join(f'{{{holder}}}' for holder in holders) or 'no such thing'}"
                self.fields.fault(
                    self.options[key],
                    f"'{{{name}}}' in {key} of {self.destination.name} means nothing",
                    hint,
                    "destination",
                )
        return path

    def command_of(self, key: str, holders: tuple[str, ...]) -> list[str]:
        """An option that is a command's words. A holder of other options (`{service}`) that is not filled in here is a fault."""
        result = self.fields.texts(self.options.get(key), key)
        for text, node in result:
            for name in _HOLDER.findall(text):
                if name in _HOLDERS and name not in holders:
                    hint = f"here {' and '.join(f'{{{holder}}}' for holder in holders)} are filled in"
                    self.fields.fault(
                        node, f"'{{{name}}}' in {key} of {self.destination.name} is not filled in", hint, "destination"
                    )
        return [text for text, _ in result]

    def resolve_path(self, pattern: str, stage: str, service: str = "") -> Path:
        """A path with its holders filled, from the folder that holds the jar."""
        return self.render_context.root / pattern.replace("{stage}", stage).replace("{service}", service)


class FileDestination(DestinationOptions, ABC):
    """A destination that is files."""

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.notices: list[RenderNotice] = []

    def services_of(self, view: StageView, pattern: str) -> list[str]:
        """The services, each with a file of its own. Raises InputError if several would share one."""
        services = view.services()
        if len(services) > 1 and "{service}" not in pattern:
            words = f"the destination {self.destination.name} is for {len(services)} services ({', '.join(services)}), and its path for one"
            raise InputError(
                words,
                hint="put {service} into the path, or name one under services",
                location=self.destination.location,
                code="destination",
            )
        return services

    def notice(self, rule: str, location: Location, message: str, fix: str, variable: str | None = None) -> None:
        self.notices.append(RenderNotice(rule, Diagnostic(message, fix, location, variable)))

    @abstractmethod
    def outputs(self, view: StageView) -> list[Output]:
        """The files as this stage wants them; what is to know goes into `notices`. Raises what cannot be, all at once."""

    @abstractmethod
    def read(self, stage: str) -> ReadResult:
        """The variables that are there now. Raises InputError if they cannot be read."""

    def read_each(self, pattern: str, read: Callable[[str], ReadResult]) -> ReadResult:
        """What `read` finds for each service, where the path holds one for each; for the only one else."""
        found = ReadResult([], [])
        services = services_for(self.destination, self.render_context.jar)
        for service in services if "{service}" in pattern else services[:1]:
            reading = read(service)
            items = [item._replace(service=service) if "{service}" in pattern else item for item in reading.items]
            found = ReadResult([*found.items, *items], [*found.remarks, *reading.remarks])
        return found

    def about(self, entries: Iterable[Entry]) -> str:
        """How many variables, and how many of them secret."""
        kept = [entry for entry in entries if entry.text is not None]
        secret = sum(entry.secret for entry in kept)
        return f"{len(kept)} variable{'s' if len(kept) != 1 else ''}" + (
            f", {secret} secret{'s' if secret != 1 else ''}" if secret else ""
        )

    def _is_hidden(self, names: frozenset[str]) -> Callable[[ReadItem], bool]:
        """Whether an item's text is a secret: not the reference that stands in its place."""
        reference = self.destination.secrets

        def hidden(item: ReadItem) -> bool:
            if reference is not None and item.text == reference.replace("{name}", item.name):
                return False
            if is_placeholder(item.text or ""):
                return False
            return item.name in names or self.render_context.is_secret(item.name, item.text or "")

        return hidden

    def hide_items(self, reader: Callable[[bytes], ReadResult], secret_names: Iterable[str]) -> Hidden:
        """Hides the lines of secrets, as a reader of the file finds them; of a file that it cannot read, all."""
        names = frozenset(secret_names)

        def hidden(data: bytes) -> Mapping[int, str]:
            try:
                reading = reader(data)
            except InputError:
                return dict.fromkeys(
                    range(1, data.count(b"\n") + 2), "•••• (a file that cannot be read, and may hold secrets)"
                )
            return hidden_lines(
                reading, data.decode(errors="replace").split("\n"), self._is_hidden(names), self.render_context.masker
            )

        return hidden


def hidden_lines(
    reading: ReadResult, lines: Sequence[str], is_secret: Callable[[ReadItem], bool], masker: Masker
) -> dict[int, str]:
    """The lines from each secret to the next entry, and those of what could not be read; comments and blank lines behind a secret stay to be seen.

    All lines, where the reader does not say on which line a secret stands.
    """
    total = len(lines)
    texts = {
        item.text for item in reading.items if item.text and (item.secret or is_secret(item))
    }  # the same text elsewhere is no less secret
    if any(item.text in texts and not 0 < item.location.line <= total for item in reading.items):
        return dict.fromkeys(range(1, total + 1), "•••• (its reader does not say on which line a secret is)")
    marks = [
        (item.location.line, f"{item.name} = {masker.mask(item.text or '')}" if item.text in texts else None)
        for item in reading.items
    ]
    marks += [
        (remark.location.line, "•••• (left out by its reader, and may be a secret)")
        for remark in reading.remarks
        if remark.lost
    ]
    starts = sorted({line for line, _ in marks})
    result: dict[int, str] = {}
    for line, words in marks:
        if words is None:
            continue
        after = bisect_right(starts, line)
        following = starts[after] if after < len(starts) else total + 1
        result[line] = f"{result[line]}, {words}" if line in result else words
        for more in range(line + 1, following):
            result.setdefault(more, _MASK)
    for line, words in list(result.items()):
        shown = lines[line - 1].strip() if words == _MASK and line <= len(lines) else "x"
        if not shown or (shown.startswith("#") and not any(shown in text for text in texts)):
            del result[line]
    return result


def nothing_hidden(data: bytes) -> Mapping[int, str]:
    """For files that hold no secrets."""
    del data
    return {}


def reading_of(dialect: Dialect, path: Path) -> ReadResult:
    """A file as its dialect reads it. Raises InputError if it is not there."""
    return dialect.read(read_bytes(path), display_path(path))
