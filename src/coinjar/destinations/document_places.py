"""`places:` of a document: pointers to environments, and what each gets."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from yaml.nodes import MappingNode, Node, SequenceNode

from coinjar.core.errors import CoinJarError, InputError, Location
from coinjar.core.model import Jar
from coinjar.core.names import matches
from coinjar.destinations.options import read_phases, undeclared
from coinjar.documents.environments import FORMS
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.pointer import parse_pointer
from coinjar.documents.yamltext import is_null, location

KEYS = ("services", "stage", "variables", "without", "form", "decided_by", "inherits", "phases")


class DocumentPlace(NamedTuple):
    """A declared place: its services and stage, and how it is written."""

    pointer: str
    location: Location
    services: tuple[str, ...]
    stage: str | None
    variables: tuple[str, ...]
    without: tuple[str, ...]
    form: str | None
    decided_by: tuple[str, ...]
    inherits: tuple[str, ...] = ()
    """Places that precede it without enclosing it: it sees their values unless it sets its own."""
    phases: tuple[str, ...] = ("run",)
    """Whose variables it gets: those of the build, of the run."""

    @property
    def takes_all(self) -> bool:
        return self.variables == ("*",) and not self.without

    def takes(self, name: str) -> bool:
        return matches(name, self.variables) and not matches(name, self.without)


def read_form(fields: FieldReader, node: Node | None) -> str | None:
    """Return how a new environment is written; None if nothing is declared."""
    form = fields.text(node, "form") if node is not None else None
    if node is not None and form not in FORMS:
        fields.fault(node, f"there is no form '{form}'", f"the forms are {', '.join(FORMS)}")
    return form


def read_places(fields: FieldReader, node: Node, jar: Jar, services: Sequence[str]) -> list[DocumentPlace]:
    """The places; `services` are those of a place that names none."""
    places = [
        _read_place(fields, pointer, key, own, jar, services) for pointer, key, own in fields.members(node, "'places'")
    ]
    known = [spot.pointer for spot in places]
    for spot in places:
        for key, others in (("is decided by", spot.decided_by), ("inherits", spot.inherits)):
            for other in others:
                if other not in known or other == spot.pointer:
                    message = (
                        f"{spot.pointer} {key} {other}, which is not {'another' if other in known else 'a'} place here"
                    )
                    fields.faults.append(InputError(message, hint="name a place above it", location=spot.location))
    return places


def names_in_places(node: Node | None) -> set[str]:
    """Return the names and patterns that the places of an option give under `variables` and `without`."""
    places = [own for _, own in node.value if isinstance(own, MappingNode)] if isinstance(node, MappingNode) else []
    lists = [value for own in places for key, value in own.value if key.value in ("variables", "without")]
    return {str(text.value) for each in lists if isinstance(each, SequenceNode) for text in each.value}


def _read_place(
    fields: FieldReader, pointer: str, key: Node, node: Node, jar: Jar, services: Sequence[str]
) -> DocumentPlace:
    own = {} if is_null(node) else fields.fields(node, f"the place {pointer}", KEYS)
    try:
        parse_pointer(pointer)
    except InputError as fault:
        fields.fault(key, fault.message, fault.hint, fault.code)
    if "services" in own:
        services = jar.expand([text for text, _ in fields.texts(own["services"], f"services of {pointer}")])
        for name in [service for service in services if service not in jar.services]:
            fields.fault(
                own["services"],
                f"there is no service or set '{name}'",
                f"they are {', '.join([*jar.services, *jar.sets])}",
                "unknown-service",
            )
    stage = fields.text(own.get("stage"), "stage") or None
    if stage:
        try:
            jar.stage(stage)
        except CoinJarError as fault:
            fields.fault(own["stage"], fault.message, fault.hint, fault.code)
    named = {name: dict(fields.texts(own.get(name), name)) for name in ("variables", "without")}
    for name, given in named.items():
        for unknown, hint in undeclared(given, jar):
            fields.fault(given[unknown], f"'{unknown}' in {name} is not declared", hint, "destination")
    variables = tuple(named["variables"]) if "variables" in own else ("*",)
    decided = tuple(text for text, _ in fields.texts(own.get("decided_by"), "decided_by"))
    inherits = tuple(text for text, _ in fields.texts(own.get("inherits"), "inherits"))
    return DocumentPlace(
        pointer,
        location(key, fields.file),
        tuple(services),
        stage,
        variables,
        tuple(named["without"]),
        read_form(fields, own.get("form")),
        decided,
        inherits,
        read_phases(fields, own.get("phases"), "phases"),
    )
