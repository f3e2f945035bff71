"""A YAML text as a tree with positions, aliases included: an editor needs what a composer drops."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final

import yaml

from coinjar.documents.yamltext import NULLS, FailsafeLoader, check_bytes, refuse_expansion, translated

NULL: Final = object()
"""A bare null in `data_of`."""


class TreeMember:
    """One name of a mapping with its value."""

    __slots__ = ("key", "value")

    def __init__(self, key: TreeNode, value: TreeNode) -> None:
        self.key = key
        self.value = value

    @property
    def name(self) -> str:
        return self.key.text

    def colon(self, source: str) -> int:
        """The offset of the colon."""
        return source.index(":", self.key.end)


class TreeNode:
    """One node. `start` and `end` count characters; `last` is the end of its own text."""

    __slots__ = (
        "_index",
        "anchor",
        "elements",
        "end",
        "flow",
        "kind",
        "last",
        "members",
        "start",
        "style",
        "target",
        "text",
    )

    def __init__(self, kind: str, start: int, end: int, anchor: str | None = None) -> None:
        self.kind = kind
        self.start, self.end = start, end
        self.last = self.end
        self.text = ""
        self.style: str | None = None
        self.flow = False
        self.anchor = anchor
        self.members: list[TreeMember] = []
        self.elements: list[TreeNode] = []
        self.target: TreeNode | None = None
        self._index: dict[str, TreeMember] | None = None

    def member(self, name: str) -> TreeMember | None:
        """Return the member of this name, if this is a mapping that has it."""
        if self._index is None:
            self._index = {member.name: member for member in self.members}
        return self._index.get(name)

    def child(self, step: str | int) -> TreeNode | None:
        """Return the value of a name in a mapping, or the element at an index of a list; None if there is none."""
        if isinstance(step, str):
            member = self.member(step)
            return member.value if member else None
        return self.elements[step] if 0 <= step < len(self.elements) else None

    @property
    def plain(self) -> TreeNode:
        """This node, or the node that it is an alias of."""
        return self.target if self.kind == "alias" and self.target else self

    @property
    def is_null(self) -> bool:
        return self.kind == "scalar" and not self.style and self.text in NULLS


def _marks(event: yaml.Event) -> tuple[int, int]:
    """Return where an event starts and ends, in characters."""
    assert event.start_mark, "events of a text have marks"
    assert event.end_mark
    return event.start_mark.index, event.end_mark.index


def documents(source: str, file: str) -> list[tuple[int, int]]:
    """Return where each document of a YAML text starts and ends, trailing comments included.

    Raises InputError if it is not YAML.
    """
    try:
        starts = [
            _marks(event)[0]
            for event in yaml.parse(source, Loader=FailsafeLoader)
            if isinstance(event, yaml.DocumentStartEvent)
        ]
    except yaml.YAMLError as fault:
        raise translated(fault, file) from None
    starts[:1] = [0]
    return list(zip(starts, [*starts[1:], len(source)], strict=True))


def build_tree(source: str) -> TreeNode | None:
    """Return the tree of a text with at most one document. Raises yaml.YAMLError."""
    events = yaml.parse(source, Loader=FailsafeLoader)
    anchors: dict[str, TreeNode] = {}
    root = None
    for event in events:
        if isinstance(event, yaml.NodeEvent):
            root = _grow(event, events, anchors, source)
    return root


def build_trees(data: bytes, file: str) -> list[TreeNode]:
    """Return the trees of all documents of a text, with positions in the whole text.

    Raises InputError if it is not YAML, or too large.
    """
    check_bytes(data, file)
    if b"*" in data:
        refuse_expansion(data, file)
    source = data.decode()
    nodes = []
    anchors: dict[str, TreeNode] = {}
    try:
        events = yaml.parse(source, Loader=FailsafeLoader)
        for event in events:
            if isinstance(event, yaml.DocumentStartEvent):
                anchors = {}
            elif isinstance(event, yaml.NodeEvent):
                nodes.append(_grow(event, events, anchors, source))
    except yaml.YAMLError as fault:
        raise translated(fault, file) from None
    return nodes


def _grow(event: yaml.Event, events: Iterator[yaml.Event], anchors: dict[str, TreeNode], source: str) -> TreeNode:
    if isinstance(event, yaml.AliasEvent):
        tree = TreeNode("alias", *_marks(event), event.anchor)
        tree.target = anchors.get(str(event.anchor))
        return tree
    if isinstance(event, yaml.ScalarEvent):
        tree = TreeNode("scalar", *_marks(event), event.anchor)
        tree.text, tree.style = event.value, event.style if event.style in ("'", '"', "|", ">") else None
        if tree.style in ("|", ">"):
            tree.last = _block_end(source, tree)
    else:
        tree = TreeNode(
            "map" if isinstance(event, yaml.MappingStartEvent) else "seq",
            *_marks(event),
            getattr(event, "anchor", None),
        )
        tree.flow = bool(getattr(event, "flow_style", False))
    if tree.anchor and tree.kind != "alias":
        anchors[tree.anchor] = tree
    if tree.kind != "scalar":
        _fill(tree, events, anchors, source)
    return tree


def _block_end(source: str, tree: TreeNode) -> int:
    """Return the end of a block scalar: its end mark is after blank lines, which belong to it only with `+`."""
    value = source[tree.start : tree.end]
    if "+" in value.split("\n", 1)[0].split("#")[0]:
        return tree.end
    end = source.find("\n", tree.start + len(value.rstrip()))
    return tree.end if end < 0 else end + 1


def _fill(tree: TreeNode, events: Iterator[yaml.Event], anchors: dict[str, TreeNode], source: str) -> None:
    inner: list[TreeNode] = []
    for event in events:
        if isinstance(event, yaml.CollectionEndEvent):
            tree.end = tree.last = _marks(event)[1]
            break
        inner.append(_grow(event, events, anchors, source))
    if inner and not tree.flow:
        tree.last = inner[-1].last  # a block's own end mark is after the comments that follow it
    if tree.kind == "map":
        tree.members = [TreeMember(key, value) for key, value in zip(inner[::2], inner[1::2], strict=True)]
    else:
        tree.elements = inner


def data_of(tree: TreeNode | None) -> object:
    """Return the tree's texts as dicts, lists and strings, aliases resolved; bare nulls are NULL.

    Depth and size were checked before.
    """
    if tree is None:
        return None
    if tree.kind == "alias":
        return data_of(tree.target)
    if tree.kind == "scalar":
        return NULL if tree.is_null else tree.text
    if tree.kind == "seq":
        return [data_of(node) for node in tree.elements]
    return {member.name: data_of(member.value) for member in tree.members}
