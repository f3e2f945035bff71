"""`type: document`: environments inside a YAML or JSON file, on one level or several; the rest stays byte for byte."""

from __future__ import annotations

from collections.abc import Mapping
from fnmatch import fnmatchcase
from typing import NamedTuple

from coinjar.core.errors import CoinJarError, InputError, Place, place_of, raise_all
from coinjar.core.layers import Resolver
from coinjar.core.model import Destination
from coinjar.core.names import SHARED
from coinjar.destinations.base import Offline, Output, Surroundings, View, gets
from coinjar.destinations.levels import Level, idle, lifted, nearest_above
from coinjar.dialects import carriers, get
from coinjar.dialects.base import Entry, Item, Reading, decode, refuse
from coinjar.documents.bare import becomes
from coinjar.documents.edit import Edit, apply
from coinjar.documents.environments import FORMS, MAP, Held, edits, form_of, held
from coinjar.documents.fields import Fields
from coinjar.documents.jsontree import grow_json
from coinjar.documents.pointer import Found, follow, parse_pointer
from coinjar.documents.tree import Tree, grow
from coinjar.documents.yamltext import compose
from coinjar.jarfile.load import read_bytes, shown_path


class Spot(NamedTuple):
    """A declared place: whom it is for, and how it is written."""

    pointer: str
    place: Place
    services: tuple[str, ...]
    stage: str | None
    variables: tuple[str, ...]
    without: tuple[str, ...]
    form: str | None
    decided_by: tuple[str, ...]

    def takes(self, name: str) -> bool:
        return any(fnmatchcase(name, one) for one in self.variables) and not any(fnmatchcase(name, one) for one in self.without)


class OpenDocument:
    """A document's text taken apart. Raises InputError for what is neither YAML nor JSON."""

    def __init__(self, data: bytes, file: str) -> None:
        self.file = file
        self.data = data
        self.as_json = file.lower().endswith(".json")
        self.text = decode(data, file)[0]
        if not self.as_json:
            compose(data, file)
        self.root: Tree | None = grow_json(self.text, file) if self.as_json else grow(self.text)

    def place(self, node: Tree) -> Place:
        return place_of(self.text, node.start, self.file)

    def follow(self, pointer: str) -> Found:
        try:
            return follow(self.root, pointer)
        except InputError as fault:
            fault.place = fault.place or Place(self.file)
            raise

    def level(self, pointer: str, decided_by: tuple[str, ...] = ()) -> Level:
        """The environment at a pointer; empty if it is not there yet."""
        found = self.follow(pointer)
        place = self.place(found.node or found.trail[-1])
        try:
            entries = {one.name: one for one in held(found.node)}
            return Level(pointer, place, entries, decided_by, {name: self.place(one.at) for name, one in entries.items()})
        except InputError as fault:
            raise InputError(f"{pointer}: {fault.message}", hint=fault.hint, place=place, code=fault.code) from None


class Document(Offline):
    """`path`, `places` (pointer to what it gets), `form`, `dollars: doubled` (for Compose files), `move_up: true`."""

    keys = ("path", "places", "form", "dollars", "move_up")
    needed = ("path", "places")

    def __init__(self, destination: Destination, around: Surroundings, fields: Fields) -> None:
        super().__init__(destination, around, fields)
        self.path = self.pattern("path", ("stage",))
        self.form = self._form(self.options.get("form"))
        self.doubled = self._doubled()
        self.move_up = self.flag("move_up") or around.move_up
        self.spots = (
            [self._spot(pointer, key, node) for pointer, key, node in fields.members(self.options["places"], "'places'")] if "places" in self.options else []
        )
        for spot in self.spots:
            for other in spot.decided_by:
                if other not in [one.pointer for one in self.spots]:
                    fields.faults.append(
                        InputError(f"{spot.pointer} is decided by {other}, which is no place here", hint="name a place above it", place=spot.place)
                    )

    def _doubled(self) -> bool:
        word = self.text("dollars", "plain")
        if word not in ("plain", "doubled"):
            self.fields.fault(self.options["dollars"], f"'dollars' cannot be '{word}'", "write doubled for a Compose file, or leave it out")
        return word == "doubled"

    def _form(self, node: object) -> str | None:
        form = self.fields.text(node, "form") if node is not None else None  # type: ignore[arg-type]  # a node of the file
        if form is not None and form not in FORMS:
            self.fields.fault(node, f"there is no form '{form}'", f"the forms are {', '.join(FORMS)}")  # type: ignore[arg-type]  # as above
        return form

    def _spot(self, pointer: str, key: object, node: object) -> Spot:
        from coinjar.documents.yamltext import is_null, place

        fields, jar = self.fields, self.around.jar
        allowed = ("services", "stage", "variables", "without", "form", "decided_by")
        own = {} if is_null(node) else fields.fields(node, f"the place {pointer}", allowed)  # type: ignore[arg-type]  # nodes of the file
        try:
            parse_pointer(pointer)
        except InputError as fault:
            fields.fault(key, fault.message, fault.hint, fault.code)  # type: ignore[arg-type]  # as above
        named = [text for text, _ in fields.texts(own.get("services"), f"services of {pointer}")]
        services = (
            tuple(jar.expand(named))
            if "services" in own
            else tuple(name for name in jar.services if self.destination.services is None or name in self.destination.services)
        )
        for name in services:
            if name not in jar.services:
                fields.fault(own["services"], f"there is no service or set '{name}'", f"they are {', '.join([*jar.services, *jar.sets])}", "unknown-service")
        stage = fields.text(own.get("stage"), "stage") or None
        if stage:
            try:
                jar.stage(stage)
            except CoinJarError as fault:
                fields.fault(own["stage"], fault.message, fault.hint, fault.code)
        variables = tuple(text for text, _ in fields.texts(own["variables"], "variables")) if "variables" in own else ("*",)
        without = tuple(text for text, _ in fields.texts(own.get("without"), "without"))
        decided = tuple(text for text, _ in fields.texts(own.get("decided_by"), "decided_by"))
        return Spot(pointer, place(key, fields.file), services, stage, variables, without, self._form(own.get("form")), decided)  # type: ignore[arg-type]  # as above

    def open(self, stage: str) -> OpenDocument:
        path = self.resolve_path(self.path, stage)
        return OpenDocument(self.around.current(path) or read_bytes(path), shown_path(path))

    def outputs(self, view: View) -> list[Output]:
        path = self.resolve_path(self.path, view.stage)
        document = self.open(view.stage)
        entries = self._entries(view)
        for spot in self.spots:
            if spot.pointer in entries:
                refuse(get("json"), entries[spot.pointer], carriers)
        levels = {spot.pointer: document.level(spot.pointer, spot.decided_by) for spot in self.spots}
        wanted = self._wanted(entries, levels)
        changes = [one for spot in self.spots for one in self._changes(document, spot, levels[spot.pointer], wanted[spot.pointer], entries.get(spot.pointer))]
        data = apply(document.data, document.file, changes, careful=True, as_json=document.as_json) if changes else document.data
        self._look(OpenDocument(data, document.file), levels)
        self.around.pending[path] = data
        got = {one.name: one for group in entries.values() for one in group}
        secret_names = [name for name, one in got.items() if one.secret and one.text is not None]
        hidden = self.hide_items(lambda data: self._read(OpenDocument(data, document.file), None), secret_names)
        return [Output(path, data, bool(secret_names), self.about(got.values()), hidden, merges=True)]

    def _stageless(self, view: View) -> View:
        return View(Resolver(self.around.jar, SHARED, fetch=view.resolver.fetch), self.destination)

    def _entries(self, view: View) -> dict[str, list[Entry]]:
        """What each place in play gets: on the stage it belongs to, or where no stage speaks."""
        shared = self._stageless(view)
        found: dict[str, list[Entry]] = {}
        faults: list[CoinJarError] = []
        for spot in self.spots:
            own = view if spot.stage == view.stage or (spot.stage is None and "{stage}" in self.path) else shared if spot.stage is None else None
            if own is None:
                continue
            try:
                found[spot.pointer] = self._of_spot(spot, own, lenient=own is shared)
            except CoinJarError as fault:
                faults += fault.each()
        raise_all(list({str(one): one for one in faults}.values()))
        return found

    def _of_spot(self, spot: Spot, view: View, *, lenient: bool) -> list[Entry]:
        """What a place gets; of several services what they agree on."""
        of_each = [{one.name: one for one in view.entries(service, lenient=lenient) if spot.takes(one.name)} for service in spot.services]
        if not of_each:
            return []
        agreed = [one for name, one in of_each[0].items() if all(name in other and other[name].text == one.text for other in of_each)]
        differing = sorted({name for one in of_each for name in one} - {one.name for one in agreed})
        if differing and not any(nearest_above(other.pointer, [one.pointer for one in self.spots]) == spot.pointer for other in self.spots):
            words = f"{spot.pointer} does not get {', '.join(differing)}: its services ({', '.join(spot.services)}) differ there"
            self.notice("CJ019", spot.place, words, "give each service a place of its own")
        return agreed

    def _wanted(self, entries: Mapping[str, list[Entry]], levels: Mapping[str, Level]) -> dict[str, dict[str, str]]:
        """What each place should say, after moving up."""
        now = {pointer: {name: one.text for name, one in level.entries.items()} for pointer, level in levels.items()}
        own: dict[str, dict[str, str]] = {}
        for pointer in levels:
            given = entries.get(pointer)
            own[pointer] = (
                {one.name: self._spelled(one.text) for one in given if one.text is not None}
                if given is not None
                else {name: text for name, text in now[pointer].items() if text is not None}
            )
        final = {pointer: dict(texts) for pointer, texts in own.items()}
        for pointer, texts in final.items():  # what a level above says already need not be said again
            parent = nearest_above(pointer, list(levels))
            while parent is not None:
                for name in [name for name, text in texts.items() if own[parent].get(name) == text and now[pointer].get(name) is None]:
                    del texts[name]
                parent = nearest_above(parent, list(levels))
        return lifted(final, own, now, everything=self.move_up)

    def _spelled(self, text: str) -> str:
        return text.replace("$", "$$") if self.doubled else text

    def _changes(self, document: OpenDocument, spot: Spot, level: Level, wanted: Mapping[str, str], entries: list[Entry] | None) -> list[Edit]:
        found = document.follow(spot.pointer)
        there = level.entries
        known = self.around.jar.variables
        in_play = entries is not None
        managed = {name for name in there if name in known and spot.takes(name) and gets(self.destination, name)}
        gone = [name for name in managed if name not in wanted and (in_play or there[name].text is not None)]
        same = [name for name, text in wanted.items() if name in there and there[name].text == text and _stays(document, there[name].value)]
        form = form_of(found.node) or spot.form or self.form or MAP
        return edits(
            found.node,
            found.path,
            form,
            wanted if in_play else {name: text for name, text in wanted.items() if there.get(name) is None or name in same},
            gone,
            same=same,
        )

    def _look(self, document: OpenDocument, before: Mapping[str, Level]) -> None:
        """Notice what stands in the document and will surprise; positions are those of `before`, where it stood there already."""
        levels = [document.level(spot.pointer, spot.decided_by) for spot in self.spots]
        for level, entry, winner in idle(levels):
            words = f"{entry.name} at {level.pointer} cannot win: {winner.pointer} above decides it"
            self.notice(
                "CJ019", self._place(document, before[level.pointer], entry), words, f"change it at {winner.pointer}, or take it out here", variable=entry.name
            )
        for level in levels:
            for entry in level.entries.values():
                if entry.value is not None and (meaning := _meaning(document, entry.value)):
                    words = f"{entry.name} at {level.pointer} is {meaning[0]}, and becomes the text '{meaning[1]}'"
                    self.notice("CJ019", self._place(document, before[level.pointer], entry), words, "put it into quotes", variable=entry.name)
        pointers = [spot.pointer for spot in self.spots]
        for spot in self.spots:
            below = [one for one in pointers if nearest_above(one, pointers) == spot.pointer]
            if spot.stage is None and "{stage}" not in self.path and not below and any(one.stage for one in self.spots):
                self.notice(
                    "CJ019",
                    spot.place,
                    f"{spot.pointer} belongs to no stage, and gets the values that hold where no stage speaks",
                    "give it a stage: …, if it has one",
                )

    def _place(self, document: OpenDocument, before: Level, entry: Held) -> Place:
        known = before.entries.get(entry.name)
        return before.places[entry.name] if known else document.place(entry.at)

    def read(self, stage: str) -> Reading:
        return self._read(self.open(stage), stage)

    def _read(self, document: OpenDocument, stage: str | None) -> Reading:
        """What the places hold; with a stage, those of other stages left out. A narrower place comes later, and so counts."""
        items: list[Item] = []
        for spot in sorted(self.spots, key=lambda one: one.pointer.count("/")):
            if stage is not None and spot.stage not in (None, stage):
                continue
            for name, one in document.level(spot.pointer).entries.items():
                if one.text is not None:
                    text = one.text.replace("$$", "$") if self.doubled else one.text
                    items += [Item(name, text, document.place(one.at), service=service) for service in spot.services]
        return Reading(items, [])


def _meaning(document: OpenDocument, node: Tree) -> tuple[str, str] | None:
    return becomes(node, as_json=document.as_json)


def _stays(document: OpenDocument, node: Tree | None) -> bool:
    """Whether a scalar that has the right characters also becomes the right text."""
    meaning = _meaning(document, node) if node is not None else None
    return meaning is None or node is None or meaning[1] == node.text
