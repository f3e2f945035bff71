"""Base classes of destinations, their input and their output."""

from __future__ import annotations

import os
import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterable, Mapping
from pathlib import Path
from typing import Any, NamedTuple

from coinjar.core.consent import WRITES, Act
from coinjar.core.diagnostics import Diagnostic, PortUse
from coinjar.core.errors import InputError, Location
from coinjar.core.inference import is_placeholder
from coinjar.core.model import Destination
from coinjar.core.placeholders import fill, placeholders
from coinjar.destinations.hidden_lines import Hidden, hidden_lines
from coinjar.destinations.options import Option, read_phases, second_names, undeclared
from coinjar.destinations.stage_view import RenderContext, StageView, services_for
from coinjar.dialects.base import Dialect, Entry, ReadItem, ReadResult, any_secret, texts_of
from coinjar.documents.field_reader import FieldReader
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import display_path, expanded, is_outside, leads_outside, link_outside

_HOLDERS = ("stage", "service", "host", "name")
"""All placeholders of options."""


class RenderNotice(NamedTuple):
    """Something to know about a destination, for `render`; and for a rule of `check`, if it names one."""

    rule: str
    diagnostic: Diagnostic


_MOST_LISTED = 1000
"""Entries of a folder that are read to find its links."""


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


class DestinationOptions:
    """Base of file and live destinations: their options.

    Subclasses declare them and read them in `__init__` through `self.options`.
    """

    declared: Mapping[str, Option] = {}
    """The options of the type, by name."""
    has_own_options = False
    """Whether more options depend on the declaration itself."""
    names_stage = False
    """Whether one of its paths contains `{stage}`, so that stages have files of their own."""

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        self.destination = destination
        self.render_context = render_context
        self.fields = fields
        self.options: dict[str, Any] = {}
        self.patterns: list[str] = []
        """The options that are paths on this machine, as written."""
        self._leading_outside: dict[str, list[Act]] = {}
        """By pattern, what it does outside the folder that contains the jar."""
        self._linked_outside: dict[str, bool] = {}
        self._links: dict[str, frozenset[str] | None] = {}
        for key, node in destination.options.items():
            if key in self.declared:
                self.options[key] = node
            else:
                known = ", ".join(self.declared)
                fields.fault(
                    node,
                    f"'{key}' is not an option of destinations of type {destination.type}",
                    f"the options are {known}",
                    "unknown-key",
                )
        for key, option in self.declared.items():
            if option.needed and key not in destination.options:
                fault = InputError(
                    f"the destination {destination.name} has no '{key}'",
                    hint=f"add {key}: …",
                    location=destination.location,
                    code="destination",
                )
                fields.faults.append(fault)
        self._refuse_names_of_nothing()

    def _refuse_names_of_nothing(self) -> None:
        """Refuse names under `variables` and `without` that are not declared, or are second names: what is listed there
        are variables, each with all of its names.
        """
        destination, jar = self.destination, self.render_context.jar
        for key, names in (("variables", destination.variables), ("without", destination.without)):
            amiss = [
                (f"'{name}' in {key} of {destination.name} is not declared", hint)
                for name, hint in undeclared(names, jar)
            ]
            amiss += [
                (
                    f"{key} of {destination.name} names {second}, a second name of {name}",
                    f"write {name}: it includes {second}",
                )
                for second, name in second_names(names, jar)
            ]
            self.fields.faults += [
                InputError(message, hint=hint, location=destination.location, code="destination")
                for message, hint in amiss
            ]

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

    def phases_of(self, key: str) -> tuple[str, ...]:
        """Return an option that names the phases whose variables are written; those of the run if there is none."""
        return read_phases(self.fields, self.options.get(key), key)

    def path_pattern(self, key: str, holders: tuple[str, ...] = ("stage", "service")) -> str:
        """Return an option that is a path on this machine, in which `{stage}` and `{service}` are allowed."""
        path = self.pattern(key, holders)
        self.patterns.append(path)
        return path

    def pattern(self, key: str, holders: tuple[str, ...] = ("stage", "service")) -> str:
        """Return an option in which `{stage}` and `{service}` are allowed."""
        path = self.text(key)
        self.names_stage = self.names_stage or "{stage}" in path
        for name in placeholders(path):
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
            for name in placeholders(text):
                if name in _HOLDERS and name not in holders:
                    hint = f"the placeholders here are {' and '.join(f'{{{holder}}}' for holder in holders)}"
                    self.fields.fault(
                        node, f"'{{{name}}}' in {key} of {self.destination.name} is not replaced", hint, "destination"
                    )
        return [text for text, _ in result]

    def resolve_path(self, pattern: str, stage: str, service: str = "") -> Path:
        """Return a path with its placeholders replaced, relative to the folder that contains the jar.

        Raises ConsentMissing for a path outside that folder, InputError for a symlink out of it.
        """
        if pattern not in self._leading_outside:
            self._leading_outside[pattern] = self._outside([pattern])
        outside = self._leading_outside[pattern]
        self.render_context.gate.require(*outside)
        named = fill(pattern, stage=stage, service=service)
        path = self.render_context.root / (expanded(named) if named.startswith("~") else named)
        if not outside and self._is_linked_outside(str(path)):
            raise link_outside(path)
        return path

    def _is_linked_outside(self, path: str) -> bool:
        """Return whether links lead out of the folder that contains the jar; each folder is followed once, and listed
        once for its links. Texts here, since a jar may have thousands of files.
        """
        root, (folder, _, name) = self.render_context.root, path.rpartition("/")
        folder = folder or "."
        if folder not in self._linked_outside:
            self._linked_outside[folder] = leads_outside(Path(folder), root)
            self._links[folder] = _links_in(folder)
        links = self._links[folder]
        is_link = name in links if links is not None else os.path.islink(path)  # noqa: PTH114 - see above
        return self._linked_outside[folder] or (is_link and leads_outside(Path(path), root))

    def _outside(self, patterns: Iterable[str]) -> list[Act]:
        where = self.destination.location
        return [Act(WRITES, pattern, where) for pattern in patterns if is_outside(pattern)]

    def acts(self) -> list[Act]:
        """Return what the destination makes this machine do besides writing below the folder that contains the jar."""
        return self._outside(self.patterns)


def _links_in(folder: str) -> frozenset[str] | None:
    """Return the names of the links in a folder; None if it cannot be listed, or is too large for that to pay."""
    links: set[str] = set()
    try:
        with os.scandir(folder) as entries:
            for number, entry in enumerate(entries):
                if number == _MOST_LISTED:
                    return None
                if entry.is_symlink():
                    links.add(entry.name)
    except FileNotFoundError:
        return frozenset()
    except OSError:
        return None
    return frozenset(links)


class FileDestination(DestinationOptions, ABC):
    """A destination that writes files."""

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.notices: list[RenderNotice] = []

    def services_of(self, view: StageView, pattern: str) -> list[str]:
        """Return the services, each with a file of its own. Raises InputError if several would share one."""
        services = view.services()
        if len(services) > 1 and "{service}" not in pattern:
            message = (
                f"the destination {self.destination.name} has {len(services)} services ({', '.join(services)}), but "
                "a path for one"
            )
            raise InputError(
                message,
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

    input_option = ""
    """The option with the path that people write and Coin Jar reads, if there is one: a rename changes it."""
    suffix_option = ""
    """The option with the suffix of files that mention variables, if there is one."""
    places_option = ""
    """The option with JSON Pointers to environments in the input file, if there is one."""

    def port_uses(self, view: StageView) -> Iterable[PortUse]:
        """Return the ports in the files, to compare with the variables (CJ020). Raises InputError."""
        del view
        return ()

    def missing_steps(self, view: StageView) -> Iterable[Diagnostic]:
        """Return where a build argument is not passed on (CJ021). Raises InputError."""
        del view
        return ()

    def runner_notices(self, view: StageView) -> Iterable[RenderNotice]:
        """Return what the runner of the file does not take as it is meant (CJ045, CJ046). Raises InputError."""
        del view
        return ()

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

    def about(self, entries: Collection[Entry]) -> str:
        """Return how many variables there are, and how many are secret."""
        count = len(entries) - texts_of(entries).count(None)
        secret = sum(entry.secret and entry.text is not None for entry in entries) if any_secret(entries) else 0
        return f"{count} variable{'s' if count != 1 else ''}" + (
            f", {secret} secret{'s' if secret != 1 else ''}" if secret else ""
        )

    def _is_hidden(self, names: frozenset[str]) -> Callable[[ReadItem], bool]:
        """Return a test whether an item's text is a secret, and not the reference that replaces it."""
        reference = self.destination.secrets

        def hidden(item: ReadItem) -> bool:
            if reference is not None and item.text == fill(reference, name=item.name):
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


def reading_of(dialect: Dialect, path: Path) -> ReadResult:
    """Return a file as its dialect reads it. Raises InputError if it does not exist."""
    return dialect.read(read_bytes(path), display_path(path))
