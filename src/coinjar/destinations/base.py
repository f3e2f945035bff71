"""Base classes of destinations, their input and their output."""

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
"""Shown for a line that continues a secret."""
_HOLDERS = ("stage", "service", "host", "name")
"""All placeholders of options."""


class RenderNotice(NamedTuple):
    """Something to know about a destination, for `render`; and for a rule of `check`, if it names one."""

    rule: str
    diagnostic: Diagnostic


Hidden = Callable[[bytes], Mapping[int, str]]
"""Returns which lines of a file (from 1) its own reader takes for secrets, each with what to show instead."""


class Output(NamedTuple):
    """A file to write. `about` describes its content.

    `merges`: it includes the previous content, so another stage may add to it; `program`: it is executable.
    """

    path: Path
    data: bytes
    secret: bool
    about: str
    hidden: Hidden
    program: bool = False
    merges: bool = False


class RenderContext:
    """What a destination works with: the jar and its keys, the folder that its paths are relative to, and what this run
    will write.
    """

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
        variable = self.jar.variables.get(name) or next(
            (variable for variable in self.jar.variables.values() if name in variable.also_as), None
        )
        return variable.name in self.jar.secret_names if variable else infer(name, text).secret


class StageView:
    """One stage as a destination sees it.

    `stage` is `shared` for values without a stage; `lenient`: omit what cannot be computed yet.
    """

    def __init__(self, resolver: Resolver, destination: Destination, *, lenient: bool = False) -> None:
        self.resolver = resolver
        self.lenient = lenient
        self.stage = resolver.stage
        self.destination = destination
        self._entries: dict[tuple[str, tuple[str, ...]], list[Entry]] = {}

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
        """Return the variables with a value; a reference to a variable without a value is not a fault, everything else
        is.
        """
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
    """Return the text with its placeholders replaced; other braces stay."""
    return re.sub("|".join(map(re.escape, holders)), lambda match: holders[match[0]], text)


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
    wanted = any(fnmatchcase(name, shape) for shape in destination.variables)
    return wanted and not any(fnmatchcase(name, shape) for shape in destination.without)


def is_supplied(variable: Variable, destination: Destination) -> bool:
    """Return whether a destination supplies the variable itself."""
    return destination.name in variable.supplied_by


class DestinationOptions:
    """Base of file and live destinations: their options.

    Subclasses name them and read them in `__init__` through `self.options`.
    """

    keys: tuple[str, ...] = ()
    needed: tuple[str, ...] = ()
    names_stage = False
    """Whether one of its paths contains `{stage}`, so that stages have files of their own."""

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
                    f"'{key}' is not an option of destinations of type {destination.type}",
                    f"the options are {known}",
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
        """Return an option that is a text."""
        return self.fields.text(self.options.get(key), f"{key} of {self.destination.name}", default)

    def flag(self, key: str) -> bool:
        return self.fields.flag(self.options.get(key), key)

    def count(self, key: str, default: int) -> int:
        """Return an option that is a number."""
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
        """Return an option that is a path, in which `{stage}` and `{service}` are allowed."""
        path = self.text(key)
        self.names_stage = self.names_stage or "{stage}" in path
        for name in _HOLDER.findall(path):
            if name not in holders:
                hint = f"the placeholders here are {' and '.join(f'{{{holder}}}' for holder in holders) or 'none'}"
                self.fields.fault(
                    self.options[key],
                    f"'{{{name}}}' in {key} of {self.destination.name} is not defined",
                    hint,
                    "destination",
                )
        return path

    def command_of(self, key: str, holders: tuple[str, ...]) -> list[str]:
        """Return an option that is a command's words.

        A placeholder of other options (`{service}`) that is not replaced here is a fault.
        """
        result = self.fields.texts(self.options.get(key), key)
        for text, node in result:
            for name in _HOLDER.findall(text):
                if name in _HOLDERS and name not in holders:
                    hint = f"the placeholders here are {' and '.join(f'{{{holder}}}' for holder in holders)}"
                    self.fields.fault(
                        node, f"'{{{name}}}' in {key} of {self.destination.name} is not replaced", hint, "destination"
                    )
        return [text for text, _ in result]

    def resolve_path(self, pattern: str, stage: str, service: str = "") -> Path:
        """Return a path with its placeholders replaced, relative to the folder that contains the jar."""
        return self.render_context.root / pattern.replace("{stage}", stage).replace("{service}", service)


class FileDestination(DestinationOptions, ABC):
    """A destination that writes files."""

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.notices: list[RenderNotice] = []

    def services_of(self, view: StageView, pattern: str) -> list[str]:
        """Return the services, each with a file of its own. Raises InputError if several would share one."""
        services = view.services()
        if len(services) > 1 and "{service}" not in pattern:
            words = (
                f"the destination {self.destination.name} has {len(services)} services ({', '.join(services)}), but "
                "a path for one"
            )
            raise InputError(
                words,
                hint="add {service} to the path, or name one under services",
                location=self.destination.location,
                code="destination",
            )
        return services

    def notice(self, rule: str, location: Location, message: str, fix: str, variable: str | None = None) -> None:
        self.notices.append(RenderNotice(rule, Diagnostic(message, fix, location, variable)))

    @abstractmethod
    def outputs(self, view: StageView) -> list[Output]:
        """Return the files for this stage; remarks are added to `notices`. Raises all faults at once."""

    @abstractmethod
    def read(self, stage: str) -> ReadResult:
        """Return the variables that are there now. Raises InputError if they cannot be read."""

    def read_each(self, pattern: str, read: Callable[[str], ReadResult]) -> ReadResult:
        """Return what `read` returns for each service, where the path has one for each; otherwise for the only one."""
        found = ReadResult([], [])
        services = services_for(self.destination, self.render_context.jar)
        for service in services if "{service}" in pattern else services[:1]:
            reading = read(service)
            items = [item._replace(service=service) if "{service}" in pattern else item for item in reading.items]
            found = ReadResult([*found.items, *items], [*found.remarks, *reading.remarks])
        return found

    def about(self, entries: Iterable[Entry]) -> str:
        """Return how many variables there are, and how many are secret."""
        kept = [entry for entry in entries if entry.text is not None]
        secret = sum(entry.secret for entry in kept)
        return f"{len(kept)} variable{'s' if len(kept) != 1 else ''}" + (
            f", {secret} secret{'s' if secret != 1 else ''}" if secret else ""
        )

    def _is_hidden(self, names: frozenset[str]) -> Callable[[ReadItem], bool]:
        """Return a test whether an item's text is a secret, and not the reference that replaces it."""
        reference = self.destination.secrets

        def hidden(item: ReadItem) -> bool:
            if reference is not None and item.text == reference.replace("{name}", item.name):
                return False
            if is_placeholder(item.text or ""):
                return False
            return item.name in names or self.render_context.is_secret(item.name, item.text or "")

        return hidden

    def hide_items(self, reader: Callable[[bytes], ReadResult], secret_names: Iterable[str]) -> Hidden:
        """Return a function that hides the lines of secrets found by a reader of the file; all lines of a file that it
        cannot read.
        """
        names = frozenset(secret_names)

        def hidden(data: bytes) -> Mapping[int, str]:
            try:
                reading = reader(data)
            except InputError:
                return dict.fromkeys(
                    range(1, data.count(b"\n") + 2), "•••• (a file that cannot be read and may contain secrets)"
                )
            return hidden_lines(
                reading, data.decode(errors="replace").split("\n"), self._is_hidden(names), self.render_context.masker
            )

        return hidden


def hidden_lines(
    reading: ReadResult, lines: Sequence[str], is_secret: Callable[[ReadItem], bool], masker: Masker
) -> dict[int, str]:
    """Return the lines from each secret to the next entry, and those that could not be read; comments and empty lines
    after a secret stay visible.

    Returns all lines where the reader does not know the line of a secret.
    """
    total = len(lines)
    texts = {
        item.text for item in reading.items if item.text and (item.secret or is_secret(item))
    }  # the same text elsewhere is no less secret
    if any(item.text in texts and not 0 < item.location.line <= total for item in reading.items):
        return dict.fromkeys(range(1, total + 1), "•••• (its reader does not know on which line a secret is)")
    marks = [
        (item.location.line, f"{item.name} = {masker.mask(item.text or '')}" if item.text in texts else None)
        for item in reading.items
    ]
    marks += [
        (remark.location.line, "•••• (ignored by its reader, may be a secret)")
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
    """Hide nothing: for files without secrets."""
    del data
    return {}


def reading_of(dialect: Dialect, path: Path) -> ReadResult:
    """Return a file as its dialect reads it. Raises InputError if it does not exist."""
    return dialect.read(read_bytes(path), display_path(path))
