"""Where a jar's files name stages, services and the application: to rename one, to copy one, to remove one.

A place is a path of names, `*` for any, and the part of what is there that is a name.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from coinjar.core.name_change import APPLICATION, SERVICE, STAGE, NameChange, service_references
from coinjar.documents.removal import Path
from coinjar.documents.tree import TreeNode
from coinjar.jarfile.renaming import Splices, rewritten

KEY, SCALAR, ELEMENT, VALUE, FIRST, SECOND = "key", "scalar", "element", "value", "first", "second"
"""The name is: a key of the mapping there, the scalar there, an element of the list there, a value of the mapping
there, what is before a slash in a key, what is behind it.
"""
PLACES = {
    APPLICATION: [("app", SCALAR)],
    STAGE: [
        ("stages", KEY),
        ("stages/*/follows", SCALAR),
        ("variables/*/stages", ELEMENT),
        ("destinations/*/stages", ELEMENT),
        ("destinations/*/stage_names", KEY),
        ("destinations/*/hosts", KEY),
        ("destinations/*/moved_to", FIRST),
        ("destinations/*/account", FIRST),
        ("destinations/*/places/*/stage", SCALAR),
        ("proofs/*/stages", ELEMENT),
        ("proofs/*/expect_on", KEY),
        ("accepted/*/stage", SCALAR),
    ],
    SERVICE: [
        ("services", KEY),
        ("sets/*", ELEMENT),
        ("stages/*/hosts/*", ELEMENT),
        ("variables/*/services", ELEMENT),
        ("variables/*/rotate/service", SCALAR),
        ("destinations/*/services", ELEMENT),
        ("destinations/*/service_names", KEY),
        ("destinations/*/workloads", VALUE),
        ("destinations/*/moved_to", SECOND),
        ("destinations/*/account", SECOND),
        ("destinations/*/places/*/services", ELEMENT),
        ("proofs/*/service", SCALAR),
        ("accepted/*/service", SCALAR),
    ],
}
"""The places in jar.yaml that name each."""


class NamePlace(NamedTuple):
    """One place that names a stage or a service: the path of the collection or scalar, the node with the name, which
    part of it is the name, and the node that belongs to a key.
    """

    path: Path
    part: str
    node: TreeNode
    value: TreeNode | None = None


def names_in(root: TreeNode, what: str, name: str) -> Iterator[NamePlace]:
    """Return every place of jar.yaml that names this stage, service or application."""
    for pattern, part in PLACES[what]:
        for path, node in _reached(root, tuple(pattern.split("/")), ()):
            yield from _at(path, node, part, name)


def _reached(node: TreeNode, steps: tuple[str, ...], path: Path) -> Iterator[tuple[Path, TreeNode]]:
    node = node.plain
    if not steps:
        yield path, node
    elif steps[0] == "*" and node.kind == "map":
        for member in node.members:
            yield from _reached(member.value, steps[1:], (*path, member.name))
    elif steps[0] == "*" and node.kind == "seq":
        for index, element in enumerate(node.elements):
            yield from _reached(element, steps[1:], (*path, index))
    elif node.kind == "map" and (inner := node.child(steps[0])) is not None:
        yield from _reached(inner, steps[1:], (*path, steps[0]))


def _at(path: Path, node: TreeNode, part: str, name: str) -> Iterator[NamePlace]:
    if part == SCALAR and node.kind == "scalar" and node.text == name:
        yield NamePlace(path, part, node)
    elif part == ELEMENT and node.kind == "seq":
        for index, element in enumerate(node.elements):
            if element.kind == "scalar" and element.text == name:
                yield NamePlace((*path, index), part, element)
    elif part in (KEY, VALUE, FIRST, SECOND) and node.kind == "map":
        for member in node.members:
            before, _, behind = member.name.partition("/")
            words = {KEY: member.name, VALUE: member.value.text, FIRST: before, SECOND: behind.partition("@")[0]}
            if words[part] == name:
                named = member.value if part == VALUE else member.key
                yield NamePlace((*path, member.name), part, named, member.value)


def in_jar_yaml(data: bytes, file: str, change: NameChange) -> bytes:
    """Rename a stage, a service or the application in jar.yaml. Raises InputError if it cannot be done here."""

    def splices(text: str, root: TreeNode) -> Splices:
        for place in names_in(root, change.what, change.old):
            start, end = _name_of(text, place, change.old)
            yield start, end, change.new
        for key in ("variables", "proofs") if change.what == SERVICE else ():
            section = root.child(key)
            yield from _references(text, section, change) if section is not None else ()

    return rewritten(data, file, splices)


def _name_of(text: str, place: NamePlace, name: str) -> tuple[int, int]:
    """Return where the name is inside the text of its node."""
    node = place.node
    start = text.index("/", node.start, node.end) if place.part == SECOND else node.start
    start = text.index(name, start, node.end)
    return start, start + len(name)


def in_values(data: bytes, file: str, change: NameChange) -> bytes:
    """Rename a service in a file of plain values: the first level, and references."""

    def splices(text: str, root: TreeNode) -> Splices:
        for scope in root.members:
            if change.what == SERVICE and scope.name == change.old:
                start = text.index(change.old, scope.key.start, scope.key.end)
                yield start, start + len(change.old), change.new
        if change.what == SERVICE:
            yield from _references(text, root, change)

    return rewritten(data, file, splices)


def _references(text: str, node: TreeNode, change: NameChange) -> Splices:
    """Rename the service in every reference below a node; only `{text: …}` and the texts of proofs have references, but
    nothing else has this form.
    """
    if node.kind == "scalar":
        for start, end in service_references(text[node.start : node.end], change.old):
            yield node.start + start, node.start + end, change.new
    for member in node.members:
        yield from _references(text, member.value, change)
    for element in node.elements:
        yield from _references(text, element, change)
