"""The names that running systems have for stages and services, where they differ from the jar's."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from yaml.nodes import Node

from coinjar.core.errors import InputError
from coinjar.core.model import Destination, Jar
from coinjar.core.names import matches, suggestion
from coinjar.destinations.options import TEXTS_BY_NAME, Option
from coinjar.documents.field_reader import FieldReader

NAMES_THERE = {
    "stage_names": Option("The names of stages there, where they differ: they replace {stage}.", TEXTS_BY_NAME),
    "service_names": Option("The names of services there, where they differ: they replace {service}.", TEXTS_BY_NAME),
}


def texts_of(fields: FieldReader, node: Node | None, what: str) -> dict[str, str]:
    """Return an option that maps names to texts."""
    members = fields.members(node, f"'{what.partition(' ')[0]}'") if node is not None else ()
    return {name: fields.text(value, what) for name, _, value in members}


def check_declared(fields: FieldReader, node: Node, name: str, what: str, declared: Sequence[str]) -> None:
    """Refuse a key of an option that is neither declared nor matches a declared pattern."""
    if name not in declared and not matches(name, (pattern for pattern in declared if "*" in pattern)):
        hint = suggestion(name, declared, f"declared are {', '.join(declared)}")
        fields.fault(node, f"'{name}' of {what} is not declared", hint, "destination")


def check_names_there(fields: FieldReader, options: Mapping[str, Node], destination: Destination, jar: Jar) -> None:
    """Refuse names of nothing, and one name there for two stages or services: they would overwrite each other."""
    for key, declared, limits in (
        ("stage_names", list(jar.stages), destination.stages),
        ("service_names", list(jar.services), destination.services),
    ):
        names = texts_of(fields, options.get(key), key)
        for name in names:
            check_declared(fields, options[key], name, key, declared)
        first: dict[str, str] = {}
        limited = [name for name in declared if "*" not in name and (limits is None or name in limits)]
        for name in limited if names else ():
            there = names.get(name, name)
            other = first.setdefault(there, name)
            if other != name:
                message = (
                    f"{destination.name} has the same name, {there}, for {other} and {name}, which would overwrite "
                    "each other"
                )
                hint = f"give each its own under {key}, or limit the destination ({key.partition('_')[0]}s:)"
                fields.faults.append(InputError(message, hint=hint, location=destination.location, code="destination"))
