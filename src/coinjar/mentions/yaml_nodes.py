"""Shared by the readers of YAML: a tree with positions in bytes."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import accumulate
from typing import NamedTuple

from coinjar.core.errors import InputError
from coinjar.documents.tree import TreeNode, build_trees
from coinjar.mentions.base import READ, Mention, UnreadPart

NAME = re.compile(r"[A-Z_][A-Z0-9_]*")
"""A key of an object that is meant to be a variable."""


_STEP = 1024


class YamlText:
    """A YAML text with its documents' trees."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.text = data.decode(errors="replace")
        self.plain = len(self.text) == len(data)
        self.unread: UnreadPart | None = None
        self._offsets: list[int] = []

    def trees(self) -> list[TreeNode]:
        """The documents that are mappings; none if the text is not YAML: `unread` says why."""
        try:
            return [node for node in build_trees(self.data, "") if node.kind == "map"]
        except InputError as fault:
            self.unread = (
                UnreadPart(fault.location.line, fault.location.column, fault.message)
                if fault.location
                else UnreadPart(0, 0, fault.message)
            )
            return []

    def at(self, position: int) -> int:
        """Return a position in characters as one in bytes."""
        if self.plain:
            return position
        if not self._offsets:  # of each so-many characters: a file of a MiB asks many thousand times
            sizes = (len(self.text[at : at + _STEP].encode()) for at in range(0, len(self.text), _STEP))
            self._offsets = [0, *accumulate(sizes)]
        whole = position // _STEP
        return self._offsets[whole] + len(self.text[whole * _STEP : position].encode())

    def mention(self, node: TreeNode, how: str = READ, service: str | None = None) -> Mention:
        """Return the mention of a scalar that is a name as a whole."""
        start = self.at(node.start) + (node.style in ("'", '"'))
        return Mention(node.text, start, start + len(node.text.encode()), how, service=service)

    def inside(self, node: TreeNode) -> tuple[int, int]:
        """Return the range of a scalar's text, without quotes and block indicators."""
        start, end = node.start, node.last if node.style in ("|", ">") else node.end
        if node.style in ("'", '"'):
            start, end = start + 1, end - 1
        elif node.style in ("|", ">"):
            start = self.text.find("\n", start) + 1
        return self.at(start), self.at(end)


class VisitedNode(NamedTuple):
    """A node with the names on the path to it."""

    path: tuple[str, ...]
    node: TreeNode


def walk(node: TreeNode, path: tuple[str, ...] = ()) -> Iterator[VisitedNode]:
    """Yield every node below, without following aliases."""
    yield VisitedNode(path, node)
    for member in node.members:
        yield from walk(member.value, (*path, member.name))
    for child in node.elements:
        yield from walk(child, path)


def scalars(node: TreeNode, path: tuple[str, ...] = ()) -> Iterator[VisitedNode]:
    """Yield every scalar below that is a value."""
    return (visited for visited in walk(node, path) if visited.node.kind == "scalar")
