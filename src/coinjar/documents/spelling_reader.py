"""Read how a platform or a file writes the names of variables."""

from __future__ import annotations

import re

from yaml.nodes import MappingNode, Node, ScalarNode

from coinjar.core.name_spelling import NameSpelling
from coinjar.documents.field_reader import FieldReader

KEYS = ("case", "separator", "prefix", "exact")
SEPARATORS = ("_", "-", ".", "/", ":")


def read_spelling(fields: FieldReader, node: Node | None, what: str, code: str) -> NameSpelling:
    """Return the spelling; faults with this code are collected in `fields`."""
    if node is None:
        return NameSpelling()
    own = fields.fields(node, f"'{what}'", KEYS)
    separator = fields.text(own.get("separator"), "separator", "_")
    if separator not in SEPARATORS:
        fields.fault(own["separator"], f"'{separator}' cannot separate words", "write - . / : or _", code)
    case = fields.text(own.get("case"), "case", "same")
    if case not in ("same", "lower"):
        fields.fault(own["case"], f"'case' is not valid as '{case}'", "it is same or lower", code)
    exact: dict[str, str] = {}
    for name, key, value in fields.members(own["exact"], "exact") if "exact" in own else ():
        spelled = fields.text(value, name)
        if not re.fullmatch(r"\S+", spelled):
            fields.fault(value, f"{name} has no name there", "write a name without spaces", code)
        elif spelled in exact.values():
            fields.fault(key, f"two variables are written as {spelled}", "give each a name of its own", code)
        exact[name] = spelled
    return NameSpelling(case == "lower", separator, fields.text(own.get("prefix"), "prefix"), exact)


def spelled_exactly(node: Node | None) -> list[str]:
    """Return the variables that a spelling lists one by one; empty where it is not one."""
    for key, value in node.value if isinstance(node, MappingNode) else ():
        if isinstance(key, ScalarNode) and key.value == "exact" and isinstance(value, MappingNode):
            return [name.value for name, _ in value.value if isinstance(name, ScalarNode)]
    return []
