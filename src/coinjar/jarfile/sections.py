"""Sections of jar.yaml with user-defined names, and lists of services and stages."""

from __future__ import annotations

from collections.abc import Mapping

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
    listed = fields.texts(node, what)
    for name, at in listed:
        if name != ALL and name not in jar.services and name not in jar.sets:
            known = [ALL, *jar.services, *jar.sets]
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


def former_names(fields: FieldReader, node: Node | None, what: str, name: str) -> tuple[str, ...]:
    """Return the earlier names of a stage, a service or the application (`what`), the first one first."""
    listed = fields.texts(node, f"formerly of {name}")
    for former, at in listed:
        message = name_fault(what, former) or (f"'{former}' is its present name" if former == name else None)
        if message:
            fields.fault(at, message, "list earlier names only")
    return tuple(former for former, _ in listed)


def refuse_taken(fields: FieldReader, what: str, former: Mapping[str, tuple[str, ...]], node: Node | None) -> None:
    """Report earlier names that another stage or service (`what`) has or had: its records would be the other's."""
    owners: dict[str, str] = {}
    for name, earlier in former.items():
        for old in earlier:
            other = owners.setdefault(old, name) if old not in former else old
            if other != name and node is not None:
                fields.fault(
                    node,
                    f"the {what} {name} was formerly {old}, which is also a name of {other}",
                    f"remove {old} from `formerly` of {name}, or give {other} another name",
                )
