"""What `check` wants to know of a jar's destinations: files as they would be rendered, running systems as they would be delivered to."""

from __future__ import annotations

from pathlib import Path

from coinjar.actions.delivery.selection import is_for, is_named, staying
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.output.render_files import SAME, RenderedFile, secrets_in_the_open, state_of
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError, DecryptionError, InputError, Location
from coinjar.core.model import Destination
from coinjar.core.rules.base import CheckContext, Diagnostic
from coinjar.destinations import is_live, make, make_live
from coinjar.destinations.base import Output, RenderContext, StageView
from coinjar.jarfile.load import read_bytes
from coinjar.platforms.description import read_description
from coinjar.system.files import shown_path

OF_VALUES = frozenset({"not-fetched", "circle", "reference", "outside"})
"""Codes of errors that are a value's, not a destination's."""
RULE_OF = {"name-taken": "CJ032", "over-the-limits": "CJ033"}
"""The rules of what a live destination refuses; all else is CJ017."""


def look_at_destinations(opened: OpenJar, facts: CheckContext) -> None:
    """What every destination tells of every stage, for the rules of `check`. Faults of values are other rules' matter."""
    _DestinationChecks(opened, facts).look()


class _DestinationChecks:
    """Gathers spots by rule; the same fault on several stages once."""

    def __init__(self, opened: OpenJar, facts: CheckContext) -> None:
        self.facts = facts
        self.around = RenderContext(facts.jar, opened.folder, Masker(), opened.ring)
        self.spots: dict[str, list[Diagnostic]] = {}
        self.faults: dict[tuple[str, str, str, str, str, Location], list[str]] = {}
        self.examples: dict[Path, Diagnostic] = {}
        self.written: dict[tuple[str, Path], tuple[str, bytes]] = {}
        self.stages = {
            destination.name: [stage for stage in facts.stages if is_for(facts.jar, destination, stage)]
            for destination in facts.jar.destinations.values()
        }

    def look(self) -> None:
        for stage in self.facts.stages:
            self.around.pending.clear()
            for declared in [
                destination
                for destination in self.facts.jar.destinations.values()
                if stage in self.stages[destination.name]
            ]:
                destination = staying(self.facts.jar, declared, stage)
                if destination is None:
                    continue
                view = StageView(self.facts.resolver(stage), destination)
                try:
                    if is_live(destination):
                        for fault in make_live(destination, self.around).refusals(view):
                            self._fault(destination, stage, fault)
                    else:
                        self._file(destination, view)
                except CoinJarError as fault:
                    for error in fault.each():
                        self._fault(destination, stage, error)
        self._descriptions()
        for (rule, name, of, message, hint, place), where in self.faults.items():
            on = "" if where == self.stages[name] else f" on {', '.join(where)}"
            words = f"{message}{on}" if of else f"{name}{on}: {message}"  # a target says its destination itself
            self.spots.setdefault(rule, []).append(
                Diagnostic(words, hint, place, None, where[0] if len(where) == 1 else None)
            )
        self.spots["CJ030"] = list(self.examples.values())
        self.facts.told |= {code: list(dict.fromkeys(names)) for code, names in self.spots.items()}

    def _descriptions(self) -> None:
        """The jar's own descriptions of platforms, used or not."""
        messages = {(message, place) for (_, _, _, message, _, place) in self.faults}
        for path in sorted((self.around.folder / "platforms").glob("*.yaml")):
            try:
                read_description(read_bytes(path), shown_path(path), path.stem)
            except CoinJarError as fault:
                for error in fault.each():
                    place = error.place or Location(shown_path(path))
                    if (error.message, place) not in messages:
                        self.spots.setdefault("CJ017", []).append(Diagnostic(error.message, error.hint, place))

    def _fault(self, destination: Destination, stage: str, fault: CoinJarError) -> None:
        if not (fault.code.startswith("CJ") or fault.code in OF_VALUES or isinstance(fault, DecryptionError)):
            key = (
                RULE_OF.get(fault.code, "CJ017"),
                destination.name,
                fault.of,
                fault.message,
                fault.hint,
                fault.place or destination.place,
            )
            self.faults.setdefault(key, []).append(stage)

    def _file(self, destination: Destination, view: StageView) -> None:
        from coinjar.destinations.linked_places import look

        instance = make(destination, self.around)
        try:
            outputs = instance.outputs(view)
        except CoinJarError:  # what else is to be said of the file is said all the same
            for notice in instance.notices:
                self.spots.setdefault(notice.rule, []).append(notice.spot)
            raise
        if not instance.names_stage and is_named(self.facts.jar, destination, view.stage):
            for output in outputs:
                self._overwritten(destination, view.stage, output)
        notices = [
            *instance.notices,
            *secrets_in_the_open([RenderedFile(destination.name, view.stage, output, SAME) for output in outputs]),
        ]
        links, hops = look(instance, view)
        for notice in notices:
            self.spots.setdefault(notice.rule, []).append(notice.spot)
        if getattr(instance, "is_example", False):
            self.examples |= {
                output.path: _outdated(destination, view.stage, output)
                for output in outputs
                if output.path not in self.examples and state_of(output) != SAME
            }
        self.spots.setdefault("CJ021", []).extend(hops)
        self.facts.links += links

    def _overwritten(self, destination: Destination, stage: str, output: Output) -> None:
        """Two stages that write one file with different content overwrite each other."""
        other, data = self.written.setdefault((destination.name, output.path), (stage, output.data))
        if not output.merges and data != output.data:
            words = f"it writes {shown_path(output.path)} for {other} and for {stage}, which would overwrite each other"
            hint = f"put {{stage}} into the path, or limit the destination (stages: [{other}])"
            self._fault(destination, stage, InputError(words, hint=hint, place=destination.place, code="collision"))


def _outdated(destination: Destination, stage: str, output: Output) -> Diagnostic:
    words = "is not there" if not output.path.exists() else "does not say what jar.yaml declares"
    return Diagnostic(
        f"the example {words}", f"`coinjar render {stage} {destination.name}`", Location(shown_path(output.path))
    )
