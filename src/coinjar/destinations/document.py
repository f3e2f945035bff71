"""`type: document`: environments inside a YAML or JSON file, on one or several levels; every other byte stays."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import partial

from coinjar.core.diagnostics import Diagnostic, PortUse
from coinjar.core.errors import CoinJarError, Location, raise_all
from coinjar.core.layers import Resolver
from coinjar.core.model import Destination
from coinjar.core.names import SHARED
from coinjar.destinations.base import FileDestination, Output, RenderNotice
from coinjar.destinations.document_places import DocumentPlace, read_form, read_places
from coinjar.destinations.environment_levels import EnvironmentLevel, idle, levels_above, lifted, nearest_above
from coinjar.destinations.open_document import OpenDocument, every_entry
from coinjar.destinations.options import FLAG, FORM, PHASES, Option
from coinjar.destinations.stage_view import RenderContext, StageView, gets, services_for
from coinjar.dialects import carriers, get
from coinjar.dialects.base import Entry, ReadItem, ReadResult, refuse
from coinjar.documents.edit import Edit, apply
from coinjar.documents.environments import MAP, EnvironmentEntry, edits, form_of
from coinjar.documents.field_reader import FieldReader
from coinjar.jarfile.load import read_bytes
from coinjar.jarfile.runner_files import load_runner
from coinjar.runners.description import RunnerDescription
from coinjar.system.files import display_path


class DocumentDestination(FileDestination):
    """`path`, `places` (pointer to what it gets), `form`, `dollars: doubled` (for Compose files), `move_up: true`."""

    input_option = "path"
    places_option = "places"
    declared: Mapping[str, Option] = {
        "path": Option(
            "The YAML or JSON file, relative to the folder that contains jar/; {stage} is replaced.", needed=True
        ),
        "places": Option(
            "JSON Pointers to environments, each with the variables that it gets.",
            {
                "type": "object",
                "propertyNames": {"type": "string", "pattern": "^/"},
                "additionalProperties": {
                    "type": ["object", "null"],
                    "additionalProperties": False,
                    "properties": {
                        "services": {"$ref": "#/$defs/names"},
                        "stage": {"type": "string"},
                        "variables": {"$ref": "#/$defs/names"},
                        "without": {"$ref": "#/$defs/names"},
                        "form": {"enum": ["map", "lines", "pairs"]},
                        "decided_by": {
                            "$ref": "#/$defs/names",
                            "description": "Enclosing levels that this one cannot override.",
                        },
                        "inherits": {
                            "$ref": "#/$defs/names",
                            "description": "Places that precede this one without enclosing it.",
                        },
                        "phases": PHASES,
                    },
                },
            },
            needed=True,
        ),
        "runner": Option("What runs the document: runners/NAME.yaml, or a description that Coin Jar includes."),
        "form": Option("The form in which a missing environment is written.", FORM),
        "dollars": Option(
            "doubled: each dollar sign is written twice, as a Compose file requires.", {"enum": ["plain", "doubled"]}
        ),
        "move_up": Option("Whether to move what all places below a level repeat up to that level.", FLAG),
    }

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.path = self.path_pattern("path", ("stage",))
        self.form = read_form(fields, self.options.get("form"))
        self.doubled = self._doubled()
        self.move_up = self.flag("move_up") or render_context.move_up
        self.places = (
            read_places(
                fields, self.options["places"], render_context.jar, services_for(destination, render_context.jar)
            )
            if "places" in self.options
            else []
        )
        self.above = {} if fields.faults else levels_above({spot.pointer: spot.inherits for spot in self.places})
        self._differing: dict[str, set[str]] = {}
        self.runner = self._runner()

    def _runner(self) -> RunnerDescription | None:
        name = self.text("runner")
        try:
            return load_runner(self.render_context.folder, name) if name else None
        except CoinJarError as fault:
            self.fields.fault(self.options["runner"], fault.message, fault.hint, fault.code)
            return None

    def _doubled(self) -> bool:
        word = self.text("dollars", "plain")
        if word not in ("plain", "doubled"):
            self.fields.fault(
                self.options["dollars"],
                f"'dollars' is not valid as '{word}'",
                "write doubled for a Compose file, or omit it",
            )
        return word == "doubled"

    def open(self, stage: str) -> OpenDocument:
        path = self.resolve_path(self.path, stage)
        return OpenDocument(self.render_context.current(path) or read_bytes(path), display_path(path))

    def outputs(self, view: StageView) -> list[Output]:
        path = self.resolve_path(self.path, view.stage)
        document = self.open(view.stage)
        entries = self._entries(view)
        for spot in self.places:
            if spot.pointer in entries:
                refuse(get("json"), entries[spot.pointer], carriers)
        levels = {spot.pointer: document.level(spot.pointer, spot.decided_by, spot.inherits) for spot in self.places}
        wanted = self._wanted(entries, levels)
        changes = [
            edit
            for spot in self.places
            for edit in self._changes(
                document, spot, levels[spot.pointer], wanted[spot.pointer], entries.get(spot.pointer)
            )
        ]
        data = (
            apply(document.data, document.file, changes, careful=True, as_json=document.as_json)
            if changes
            else document.data
        )
        self._look(OpenDocument(data, document.file), levels)
        got = {entry.name: entry for group in entries.values() for entry in group}
        secret_names = [name for name, entry in got.items() if entry.secret and entry.text is not None]
        hidden = self.hide_items(partial(every_entry, file=document.file), secret_names)
        return [Output(path, data, bool(secret_names), self.about(got.values()), hidden, merges=True)]

    def _stageless(self, view: StageView) -> StageView:
        return StageView(Resolver(self.render_context.jar, SHARED, fetch=view.resolver.fetch), self.destination)

    def _entries(self, view: StageView) -> dict[str, list[Entry]]:
        """Return what each place gets on its stage, or without a stage."""
        shared = self._stageless(view)
        result: dict[str, list[Entry]] = {}
        faults: list[CoinJarError] = []
        for spot in self.places:
            own = (
                view
                if spot.stage == view.stage or (spot.stage is None and "{stage}" in self.path)
                else shared
                if spot.stage is None
                else None
            )
            if own is None:
                continue
            try:
                result[spot.pointer] = self._of_spot(spot, own, lenient=own is shared)
            except CoinJarError as fault:
                faults += fault.each()
        raise_all(list({str(error): error for error in faults}.values()))
        return result

    def _of_spot(self, spot: DocumentPlace, view: StageView, *, lenient: bool) -> list[Entry]:
        """Return what a place gets; for several services, what those without a place of their own below it agree on."""
        variables = self.render_context.jar.variables
        takes = (
            None if spot.takes_all else lambda name: any(spot.takes(item) for item in (name, *variables[name].also_as))
        )
        of_each = {
            service: {
                entry.name: entry
                for entry in view.entries(service, spot.phases, lenient=lenient, takes=takes)
                if spot.takes(entry.name)
            }
            for service in spot.services
        }
        below = [other for other in self.places if spot.pointer in self.above[other.pointer]]
        ask_to_go_on: list[Entry] = []
        differing: list[str] = []
        for name in dict.fromkeys(name for item in of_each.values() for name in item):
            own = [
                service
                for service in spot.services
                if not any(service in other.services and other.takes(name) for other in below)
            ]
            asked = own or spot.services
            entries = [of_each[service].get(name) for service in asked]
            if entries[0] is not None and all(entry is not None and entry.text == entries[0].text for entry in entries):
                ask_to_go_on.append(entries[0])
            else:
                differing.append(name)
        self._differing[spot.pointer] = set(differing)  # the existing value may be right for one of them: it stays
        if differing and not below:
            words = (
                f"{spot.pointer}: {', '.join(sorted(differing))} cannot be set there, because its services "
                f"({', '.join(spot.services)}) have different values; left unchanged"
            )
            self.notice(
                "CJ019",
                spot.location,
                words,
                "give each service a place of its own (inherits: of a place that comes before it)",
            )
        return ask_to_go_on

    def _wanted(
        self, entries: Mapping[str, list[Entry]], levels: Mapping[str, EnvironmentLevel]
    ) -> dict[str, dict[str, str]]:
        """Return what each place should contain, after moving up."""
        now = {
            pointer: {name: entry.text for name, entry in level.entries.items()} for pointer, level in levels.items()
        }
        own: dict[str, dict[str, str]] = {}
        for pointer in levels:
            given = entries.get(pointer)
            own[pointer] = (
                {entry.name: self._spelled(entry.text) for entry in given if entry.text is not None}
                if given is not None
                else {name: text for name, text in now[pointer].items() if text is not None}
            )
        values_at = {
            pointer: self._unmanaged(now[pointer], spot) | own[pointer]
            for pointer, spot in zip(levels, self.places, strict=True)
        }
        final = {pointer: dict(texts) for pointer, texts in own.items()}
        for pointer, texts in final.items():  # what the levels above already set need not be repeated
            around = self.above[pointer][::-1]
            for name in [name for name in texts if now[pointer].get(name) is None]:
                outer = next((other_name for other_name in around if name in values_at[other_name]), None)
                if outer is not None and values_at[outer][name] == texts[name]:
                    del texts[name]
        takes = {spot.pointer: spot.takes for spot in self.places}
        return lifted(final, own, now, takes, self.above, everything=self.move_up)

    def _unmanaged(self, now: Mapping[str, str | None], spot: DocumentPlace) -> dict[str, str]:
        """Return the entries of a place that are not ours."""
        return {name: text for name, text in now.items() if text is not None and not self._manages(spot, name)}

    def _manages(self, spot: DocumentPlace, name: str) -> bool:
        return name in self.render_context.jar.variables and spot.takes(name) and gets(self.destination, name)

    def _spelled(self, text: str) -> str:
        return text.replace("$", "$$") if self.doubled else text

    def _changes(
        self,
        document: OpenDocument,
        spot: DocumentPlace,
        level: EnvironmentLevel,
        wanted: Mapping[str, str],
        entries: list[Entry] | None,
    ) -> list[Edit]:
        match = document.follow(spot.pointer)
        there = level.entries
        in_play = entries is not None
        managed = [name for name in there if self._manages(spot, name)]
        kept = (
            self._differing.get(spot.pointer, set()) if spot.services else set(managed)
        )  # a place without services is not ours to empty
        gone = [
            name
            for name in managed
            if name not in wanted and name not in kept and (in_play or there[name].text is not None)
        ]
        for name in [name for name in gone if there[name].merged]:
            words = (
                f"{name} at {spot.pointer} comes from an anchor ('<<'), and is left unchanged: the jar has no value "
                "for it there"
            )
            self.notice(
                "CJ019",
                level.places[name],
                words,
                "remove it from the anchor, or set a value",
                variable=name,
            )
        gone = [name for name in gone if not there[name].merged]
        same = [
            name
            for name, text in wanted.items()
            if name in there and there[name].text == text and document.stays(there[name].value)
        ]
        form = form_of(match.node) or spot.form or self.form or MAP
        fresh = (
            wanted if in_play else {name: text for name, text in wanted.items() if name not in there or name in same}
        )
        return edits(match.node, match.path, form, fresh, gone, same=same)

    def _look(self, document: OpenDocument, before: Mapping[str, EnvironmentLevel]) -> None:
        """Notice likely mistakes in the document; positions are those of `before`, where the entry existed."""
        levels = [document.level(spot.pointer, spot.decided_by, spot.inherits) for spot in self.places]
        for level, entry, winner in idle(levels):
            words = f"{entry.name} at {level.pointer} has no effect: {winner.pointer} above decides it"
            self.notice(
                "CJ019",
                self._place(document, before[level.pointer], entry),
                words,
                f"change it at {winner.pointer}, or remove it here",
                variable=entry.name,
            )
        for level in levels:
            for entry in level.entries.values():
                if meaning := document.meaning(entry.value):
                    words = f"{entry.name} at {level.pointer} is {meaning[0]}, and is read as the text '{meaning[1]}'"
                    self.notice(
                        "CJ019",
                        self._place(document, before[level.pointer], entry),
                        words,
                        "put it into quotes",
                        variable=entry.name,
                    )
        pointers = [spot.pointer for spot in self.places]
        for spot in self.places:
            below = [pointer for pointer in pointers if nearest_above(pointer, self.above) == spot.pointer]
            if (
                spot.stage is None
                and "{stage}" not in self.path
                and not below
                and any(place.stage for place in self.places)
            ):
                self.notice(
                    "CJ019",
                    spot.location,
                    f"{spot.pointer} has no stage, and gets the values of shared",
                    "give it a stage: …, if it has one",
                )

    def _place(self, document: OpenDocument, before: EnvironmentLevel, entry: EnvironmentEntry) -> Location:
        known = before.entries.get(entry.name)
        return before.places[entry.name] if known else document.location(entry.at)

    def port_uses(self, view: StageView) -> Iterator[PortUse]:
        from coinjar.destinations.linked_places import compose_ports

        return compose_ports(self, view)

    def missing_steps(self, view: StageView) -> Iterator[Diagnostic]:
        from coinjar.destinations.linked_places import missing_steps

        return missing_steps(self, view)

    def runner_notices(self, view: StageView) -> Iterator[RenderNotice]:
        from coinjar.destinations.runner_notices import RunnerContext, notices

        if self.runner is None:
            return iter(())
        document = self.open(view.stage)
        return notices(RunnerContext(document, self.runner, view.resolver, view.services(), self.render_context.masker))

    def read(self, stage: str) -> ReadResult:
        """Return what the places contain, those of other stages omitted.

        A narrower place comes later and takes effect.
        """
        document = self.open(stage)
        items: list[ReadItem] = []
        for spot in sorted(self.places, key=lambda place: (len(self.above[place.pointer]), place.pointer.count("/"))):
            if spot.stage not in (None, stage):
                continue
            for name, entry in document.level(spot.pointer).entries.items():
                if entry.text is not None:
                    text = entry.text.replace("$$", "$") if self.doubled else entry.text
                    items += [
                        ReadItem(name, text, document.location(entry.at), service=service) for service in spot.services
                    ]
        return ReadResult(items, [])
