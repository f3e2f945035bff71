"""A parsed YAML or JSON document that contains environments."""

from __future__ import annotations

from collections.abc import Callable

from coinjar.core.errors import InputError, Location, location_of
from coinjar.destinations.environment_levels import EnvironmentLevel
from coinjar.dialects.base import ReadItem, ReadResult, decode
from coinjar.documents.environments import held
from coinjar.documents.implicit_types import implicit_type
from coinjar.documents.jsontree import build_json_tree
from coinjar.documents.pointer import PointerMatch, follow
from coinjar.documents.tree import TreeNode, build_tree
from coinjar.documents.yamltext import compose


class OpenDocument:
    """A parsed document. Raises InputError if it is neither YAML nor JSON."""

    def __init__(self, data: bytes, file: str) -> None:
        self.file = file
        self.data = data
        self.as_json = file.lower().endswith(".json")
        self.text = decode(data, file)[0]
        if not self.as_json:
            compose(data, file)
        self.root: TreeNode | None = build_json_tree(self.text, file) if self.as_json else build_tree(self.text)

    def location(self, node: TreeNode) -> Location:
        return location_of(self.text, node.start, self.file)

    def follow(self, pointer: str) -> PointerMatch:
        try:
            return follow(self.root, pointer)
        except InputError as fault:
            fault.location = fault.location or Location(self.file)
            raise

    def level(self, pointer: str, decided_by: tuple[str, ...] = (), inherits: tuple[str, ...] = ()) -> EnvironmentLevel:
        """Return the environment at a pointer; empty if it does not exist yet."""
        match = self.follow(pointer)
        location = self.location(match.node or match.trail[-1])
        try:
            entries = {entry.name: entry for entry in held(match.node, merged=not self.as_json)}
            return EnvironmentLevel(
                pointer,
                location,
                entries,
                decided_by,
                {name: self.location(entry.at) for name, entry in entries.items()},
                inherits,
            )
        except InputError as fault:
            raise InputError(
                f"{pointer}: {fault.message}", hint=fault.hint, location=location, code=fault.code
            ) from None

    def meaning(self, node: TreeNode | None) -> tuple[str, str] | None:
        """Return the type that readers give a scalar and its value, if it is not a text."""
        return implicit_type(node, as_json=self.as_json) if node is not None else None

    def stays(self, node: TreeNode | None) -> bool:
        """Return whether a scalar with the right characters also has the right type."""
        meaning = self.meaning(node)
        return meaning is None or node is None or meaning[1] == node.text


def every_entry(data: bytes, file: str) -> ReadResult:
    """Yield everything in a document that looks like a name with a value, to find the lines that may contain
    secrets.
    """
    document = OpenDocument(data, file)
    return ReadResult(entries_below(document.root, document.location), [])


def entries_below(root: TreeNode | None, place: Callable[[TreeNode], Location]) -> list[ReadItem]:
    """Yield members of mappings, `NAME=VALUE` elements of lists, and elements with a name and a value."""
    items: list[ReadItem] = []

    def look(node: TreeNode) -> None:
        name, value = node.child("name"), node.child("value")
        if name is not None and value is not None and name.kind == value.kind == "scalar":
            items.append(ReadItem(name.text, value.text, place(node)))
        for member in node.members:
            inner = member.value.plain
            items.append(ReadItem(member.name, inner.text if inner.kind == "scalar" else "", place(member.key)))
            look(member.value)
        for element in node.elements:
            key, equals, text = element.text.partition("=")
            if equals:
                items.append(ReadItem(key.lstrip("-"), text, place(element)))
            look(element)

    if root is not None:
        look(root)
    return items
