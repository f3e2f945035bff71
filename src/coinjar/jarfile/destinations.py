"""Read `destinations:` of jar.yaml. Options of a single type are kept as nodes, for that type's module."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from yaml.nodes import Node, ScalarNode, SequenceNode

from coinjar.core.model import Destination
from coinjar.core.names import name_fault, suggestion
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import location

COMMON = ("type", "services", "stages", "variables", "without", "secrets", "plain_only", "moved_to")


def read_destinations(
    fields: FieldReader,
    node: Node,
    services: Callable[[Node | None, str], list[str]],
    stages: Callable[[Node, str], frozenset[str]],
) -> dict[str, Destination]:
    """Return the destinations by name; `services` and `stages` read lists of these."""
    result: dict[str, Destination] = {}
    moved: list[tuple[Node, dict[str, str]]] = []
    for name, key, value in fields.members(node, "'destinations'"):
        if message := name_fault("destination", name):
            fields.fault(key, message, "choose another name")
            continue
        own = {option: node for option, _, node in fields.members(value, f"destination '{name}'")}
        kind = fields.text(own.get("type"), f"type of {name}")
        if not kind:
            fields.fault(key, f"the destination {name} has no type", "add type: file, or another one")
        given: dict[str, Any] = {"options": {option: node for option, node in own.items() if option not in COMMON}}
        given |= _limits(fields, own, name, services, stages)
        if "moved_to" in own:
            moved.append((own["moved_to"], given["moved_to"]))
        result[name] = Destination(
            name=name,
            location=location(key, fields.file),
            type=kind,
            plain_only=fields.flag(own.get("plain_only"), "plain_only"),
            **given,
        )
    for at, targets in moved:
        for target in [target for target in dict.fromkeys(targets.values()) if target not in result]:
            hint = suggestion(target, result, f"the destinations are {', '.join(result)}")
            fields.fault(at, f"there is no destination '{target}'", hint, "unknown-destination")
    return result


def _limits(
    fields: FieldReader,
    own: dict[str, Node],
    name: str,
    services: Callable[[Node | None, str], list[str]],
    stages: Callable[[Node, str], frozenset[str]],
) -> dict[str, Any]:
    """Return the services, stages and variables of a destination, and what replaced it."""
    given: dict[str, Any] = {}
    if "services" in own:
        given["services"] = frozenset(services(own["services"], f"services of {name}"))
    if "stages" in own:
        given["stages"] = stages(own["stages"], f"stages of {name}")
    for key in ("variables", "without"):
        if key in own:
            given[key] = tuple(text for text, _ in fields.texts(own[key], f"{key} of {name}"))
    if "secrets" in own:
        given["secrets"] = fields.text(own["secrets"], f"secrets of {name}")
    if "moved_to" in own:
        given["moved_to"] = _moved(fields, own["moved_to"], name, stages)
    return given


def _moved(fields: FieldReader, node: Node, name: str, stages: Callable[[Node, str], frozenset[str]]) -> dict[str, str]:
    """Read `moved_to: DEST` for all of it, or `{STAGE: DEST, STAGE/SERVICE: DEST}`."""
    if isinstance(node, ScalarNode):
        return {"": fields.text(node, f"moved_to of {name}")}
    result = {}
    for key, at, value in fields.members(node, f"moved_to of {name}"):
        stage = ScalarNode(at.tag, key.partition("/")[0], at.start_mark, at.end_mark)
        stages(SequenceNode("tag:yaml.org,2002:seq", [stage], at.start_mark, at.end_mark), f"moved_to of {name}")
        result[key] = fields.text(value, f"moved_to of {name}")
    return result
