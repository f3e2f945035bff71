"""Collect diagnostics of a jar's destinations: files as they would be rendered, running systems as they would be
delivered to.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple, Self

from coinjar.actions.checking.context import FileContext
from coinjar.actions.delivery.selection import is_for, is_named, staying
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.output.render_files import SAME, RenderedFile, secrets_in_the_open, state_of
from coinjar.core.delivery import DesiredValue
from coinjar.core.diagnostics import Diagnostic, PortUse
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError, DecryptionError, InputError, Location
from coinjar.core.model import Destination, Resolved
from coinjar.destinations import is_live, make, make_live
from coinjar.destinations.base import Output
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.dialects.base import Entry
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes
from coinjar.platforms.description_reader import read_description
from coinjar.runners.reader import read_runner
from coinjar.system.files import display_path
from coinjar.system.second_process import beside

OF_VALUES = frozenset({"not-fetched", "circle", "reference", "outside"})
"""Codes of errors that belong to a value, not to a destination."""
RULE_OF = {"name-taken": "CJ032", "over-the-limits": "CJ033"}
"""The rules of what a live destination does not support; everything else is CJ017."""


_MANY_FILES = 1000
"""Files from which on a second process inspects those of the later stages."""
_HERE = 40
"""Percent of the stages that are left for this process, which has other rules to run as well."""
_Fault = tuple[str, str, str, str, str, Location]
"""Of a fault that is reported once: the rule, the destination, what it is of, message, hint and place."""


class _SharedFile(NamedTuple):
    """A file of one stage whose path does not name the stage: `merges` if it keeps what others write into it."""

    destination: str
    stage: str
    path: Path
    data: bytes
    merges: bool


class _Found(NamedTuple):
    """What was found on some stages: only what can be passed from one process to another."""

    diagnostics: dict[str, list[Diagnostic]]
    faults: dict[_Fault, list[str]]
    examples: dict[Path, Diagnostic]
    port_uses: list[PortUse]
    shared: list[_SharedFile]


class DestinationChecks:
    """The diagnostics of every destination on every stage, by rule, and the ports in their files.

    The same fault on several stages is reported once. Faults of values are reported by other rules.
    """

    def __init__(self, opened: OpenJar, context: FileContext) -> None:
        self.opened = opened
        self.context = context
        self.render_context = RenderContext(context.jar, opened.folder, Masker(), opened.ring, opened.gate)
        self.diagnostics: dict[str, list[Diagnostic]] = {}
        self.faults: dict[_Fault, list[str]] = {}
        self.examples: dict[Path, Diagnostic] = {}
        self.port_uses: list[PortUse] = []
        self.filled: dict[tuple[str, object], list[tuple[str, str, Mapping[str, DesiredValue]]]] = {}
        self.usual: dict[Resolved, Entry] = {}
        self.here = len(context.stages)
        """How many of the stages this process inspects."""
        self.later: Callable[[], _Found] | None = None
        """What waits for the others."""
        self.shared: list[_SharedFile] = []
        """Files whose path does not name the stage: stages may overwrite each other's."""
        self.stages = {
            destination.name: [stage for stage in context.stages if is_for(context.jar, destination, stage)]
            for destination in context.jar.destinations.values()
        }

    def start(self) -> Self:
        """Let a second process inspect the later stages where files are many, while this one goes on; return the
        checks.
        """
        stages = self.context.stages
        if self.later is None and self._are_many_files():
            self.here = len(stages) * _HERE // 100
            others = DestinationChecks(self.opened, self.context)
            self.later = beside(lambda: others._inspect(stages[self.here :]))
        return self

    def run(self) -> Self:
        """Inspect every destination; return the checks."""
        self._inspect(self.start().context.stages[: self.here])
        if self.later is not None:
            self._add(self.later())
        self._overwritten()
        self._descriptions()
        for (rule, name, of, message, hint, location), where in self.faults.items():
            on = "" if where == self.stages[name] else f" on {', '.join(where)}"
            words = f"{message}{on}" if of else f"{name}{on}: {message}"  # a target's message names its destination
            self.diagnostics.setdefault(rule, []).append(
                Diagnostic(words, hint, location, None, where[0] if len(where) == 1 else None)
            )
        self.diagnostics["CJ030"] = list(self.examples.values())
        self.diagnostics = {code: list(dict.fromkeys(names)) for code, names in self.diagnostics.items()}
        return self

    def _are_many_files(self) -> bool:
        """Return whether a second process pays, and would ask for nothing that this one asks for as well."""
        destinations = self.context.jar.destinations.values()
        count = len(self.context.stages) * len(destinations) * len(self.context.jar.services)
        plain = all(destination.type == "file" for destination in destinations)
        return plain and count >= _MANY_FILES and self.context.is_alone and self.context.has_every_value

    def _inspect(self, stages: Sequence[str]) -> _Found:
        """Inspect every destination on some stages."""
        for stage in stages:
            self.render_context.pending.clear()
            for declared in [
                destination
                for destination in self.context.jar.destinations.values()
                if stage in self.stages[destination.name]
            ]:
                destination = staying(self.context.jar, declared, stage)
                if destination is None:
                    continue
                view = StageView(self.context.resolver(stage), destination, usual=self.usual)
                try:
                    if is_live(destination):
                        self._live(destination, view)
                    else:
                        self._file(destination, view)
                except CoinJarError as fault:
                    for error in fault.each():
                        self._fault(destination, stage, error)
        return _Found(self.diagnostics, self.faults, self.examples, self.port_uses, self.shared)

    def _add(self, found: _Found) -> None:
        """Add what was found on later stages."""
        for rule, diagnostics in found.diagnostics.items():
            self.diagnostics.setdefault(rule, []).extend(diagnostics)
        for key, where in found.faults.items():
            self.faults.setdefault(key, []).extend(where)
        self.examples = {**found.examples, **self.examples}
        self.port_uses += found.port_uses
        self.shared += found.shared

    def _descriptions(self) -> None:
        """Check the jar's own descriptions of platforms and of runners, used or not."""
        messages = {(message, location) for (_, _, _, message, _, location) in self.faults}
        layout = JarLayout(self.render_context.folder)
        readers: list[tuple[Path, Callable[[bytes, str, str], object]]] = [
            *((path, read_description) for path in layout.platform_files()),
            *((path, read_runner) for path in layout.runner_files()),
        ]
        for path, read in readers:
            try:
                read(read_bytes(path), display_path(path), path.stem)
            except CoinJarError as fault:
                for error in fault.each():
                    location = error.location or Location(display_path(path))
                    if (error.message, location) not in messages:
                        self.diagnostics.setdefault("CJ017", []).append(Diagnostic(error.message, error.hint, location))

    def _fault(self, destination: Destination, stage: str, fault: CoinJarError) -> None:
        if not (fault.code.startswith("CJ") or fault.code in OF_VALUES or isinstance(fault, DecryptionError)):
            key = (
                RULE_OF.get(fault.code, "CJ017"),
                destination.name,
                fault.of,
                fault.message,
                fault.hint,
                fault.location or destination.location,
            )
            self.faults.setdefault(key, []).append(stage)

    def _live(self, destination: Destination, view: StageView) -> None:
        instance = make_live(destination, self.render_context)
        for fault in instance.unsupported_variables(view):
            self._fault(destination, view.stage, fault)
        if is_named(self.context.jar, destination, view.stage):
            for place, desired_values in instance.filled_places(view):
                self._two_in_one_place(destination, view.stage, place, desired_values)

    def _two_in_one_place(
        self, destination: Destination, stage: str, place: object, desired_values: Mapping[str, DesiredValue]
    ) -> None:
        """Report two destinations that lead to one place and want different values there."""
        there = self.filled.setdefault((destination.type, place), [])
        for name, where, values in there:
            differing = sorted(
                variable
                for variable, desired in values.items()
                if variable in desired_values and desired_values[variable].text != desired.text
            )
            if differing and name != destination.name:
                message = f"{name} on {where} fills the same place with other values of {', '.join(differing)}"
                hint = "give each variables of its own (variables:, without:), or its own place"
                fault = InputError(message, hint=hint, location=destination.location, code="collision")
                self._fault(destination, stage, fault)
        there.append((destination.name, stage, desired_values))

    def _file(self, destination: Destination, view: StageView) -> None:
        instance = make(destination, self.render_context)
        try:
            outputs = instance.outputs(view)
        except CoinJarError:  # other faults of the file are reported as well
            for notice in instance.notices:
                self.diagnostics.setdefault(notice.rule, []).append(notice.diagnostic)
            raise
        self.render_context.pending |= {output.path: output.data for output in outputs}
        if not instance.names_stage and is_named(self.context.jar, destination, view.stage):
            self.shared += [
                _SharedFile(destination.name, view.stage, output.path, output.data, output.merges) for output in outputs
            ]
        notices = [
            *instance.notices,
            *secrets_in_the_open([RenderedFile(destination.name, view.stage, output, SAME) for output in outputs]),
        ]
        for notice in notices:
            self.diagnostics.setdefault(notice.rule, []).append(notice.diagnostic)
        if getattr(instance, "is_example", False):
            self.examples |= {
                output.path: _outdated(destination, view.stage, output)
                for output in outputs
                if output.path not in self.examples and state_of(output) != SAME
            }
        with contextlib.suppress(CoinJarError):  # missing and invalid files are reported by other rules
            self.port_uses += list(instance.port_uses(view))
            self.diagnostics.setdefault("CJ021", []).extend(instance.missing_steps(view))
            for notice in instance.runner_notices(view):
                self.diagnostics.setdefault(notice.rule, []).append(notice.diagnostic)

    def _overwritten(self) -> None:
        """Report two stages that write one file with different content: they overwrite each other."""
        written: dict[tuple[str, Path], tuple[str, bytes]] = {}
        for name, stage, path, content, merges in self.shared:
            other, data = written.setdefault((name, path), (stage, content))
            if not merges and data != content:
                destination = self.context.jar.destinations[name]
                message = f"it writes {display_path(path)} for {other} and for {stage}, which overwrite each other"
                hint = f"add {{stage}} to the path, or limit the destination (stages: [{other}])"
                self._fault(
                    destination, stage, InputError(message, hint=hint, location=destination.location, code="collision")
                )


def _outdated(destination: Destination, stage: str, output: Output) -> Diagnostic:
    words = "does not exist" if not output.path.exists() else "does not match jar.yaml"
    return Diagnostic(
        f"the example {words}", f"`coinjar render {stage} {destination.name}`", Location(display_path(output.path))
    )
