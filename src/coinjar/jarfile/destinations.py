"""`destinations:` of jar.yaml. What only one type has stays as it stands, for that type's own module."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from yaml.nodes import Node

from coinjar.core.model import Destination
from coinjar.core.names import name_fault
from coinjar.documents.fields import Fields
from coinjar.documents.yamltext import place

COMMON = ("type", "services", "stages", "variables", "without", "secrets", "plain_only", "moved_to")


def read_destinations(
    fields: Fields, node: Node, services: Callable[[Node | None, str], list[str]], stages: Callable[[Node, str], frozenset[str]]
) -> dict[str, Destination]:
    """The destinations by name; `services` and `stages` read lists of these."""
    found: dict[str, Destination] = {}
    for name, key, value in fields.members(node, "'destinations'"):
        if words := name_fault("destination", name):
            fields.fault(key, words, "choose another name")
            continue
        own = {option: one for option, _, one in fields.members(value, f"destination '{name}'")}
        kind = fields.text(own.get("type"), f"type of {name}")
        if not kind:
            fields.fault(key, f"the destination {name} has no type", "add type: file, or another one")
        given: dict[str, Any] = {"options": {option: one for option, one in own.items() if option not in COMMON}}
        if "services" in own:
            given["services"] = frozenset(services(own["services"], f"services of {name}"))
        if "stages" in own:
            given["stages"] = stages(own["stages"], f"stages of {name}")
        if "variables" in own:
            given["variables"] = tuple(text for text, _ in fields.texts(own["variables"], f"variables of {name}"))
        if "without" in own:
            given["without"] = tuple(text for text, _ in fields.texts(own["without"], f"without of {name}"))
        if "secrets" in own:
            given["secrets"] = fields.text(own["secrets"], f"secrets of {name}")
        if "moved_to" in own:
            given["moved_to"] = fields.text(own["moved_to"], f"moved_to of {name}")
        found[name] = Destination(name, place(key, fields.file), kind, plain_only=fields.flag(own.get("plain_only"), "plain_only"), **given)
    return found
