"""Sections of jar.yaml with user-defined names, and lists of services and stages."""

from __future__ import annotations

from yaml.nodes import Node

from coinjar.core.errors import CoinJarError
from coinjar.core.model import Jar
from coinjar.core.names import ALL, name_fault, suggestion
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import is_null


def named(fields: FieldReader, node: Node | None, what: str, plural: str) -> list[tuple[str, Node, Node]]:
    """Return the members of a section with user-defined names, invalid names omitted."""
    if node is None or is_null(node):
        return []
    result: list[tuple[str, Node, Node]] = []
    for name, key, value in fields.members(node, f"'{plural}'"):
        if message := name_fault(what, name):
            fields.fault(key, message, "choose another name")
        else:
            result.append((name, key, value))
    return result


def services_of(fields: FieldReader, node: Node | None, what: str, jar: Jar) -> list[str]:
    """Return a list of services, sets or `all`, expanded."""
    known = [ALL, *jar.services, *jar.sets]
    listed = fields.texts(node, what)
    for name, at in listed:
        if name not in known:
            fields.fault(
                at,
                f"there is no service or set '{name}'",
                suggestion(name, known, f"they are {', '.join(known)}"),
                "unknown-service",
            )
    return jar.expand([name for name, _ in listed])


def stages(fields: FieldReader, node: Node, what: str, jar: Jar) -> frozenset[str]:
    """Return a list of declared stages."""
    names = fields.texts(node, what)
    for name, at in names:
        if name == ALL:
            fields.fault(at, f"'all' is not allowed in {what}", "omit 'stages': then it is on all of them")
        elif name not in jar.stages:
            try:
                jar.stage(name)
            except CoinJarError as fault:
                fields.fault(at, fault.message, fault.hint, fault.code)
    return frozenset(name for name, _ in names)
