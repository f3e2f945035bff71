"""Remove members and elements from a document's text."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple, TypeAlias

from coinjar.documents.tree import TreeNode
from coinjar.documents.writer import ScalarWriter

Path: TypeAlias = tuple[str | int, ...]
"""Names of mappings and indexes in lists, from the root."""
_COMMENT_BEHIND = re.compile(r"(?:[ \t]*,)?[ \t]+#[^\n]*")
_NOTHING_BEHIND = re.compile(r"[ \t]*(?:#[^\n]*)?\n")


class Splice(NamedTuple):
    """A text that replaces the range between two offsets."""

    start: int
    end: int
    text: str


def trail_of(tree: TreeNode | None, path: Path) -> list[TreeNode]:
    """Return the collections along a path, the root first; empty if the path does not exist."""
    trail: list[TreeNode] = []
    for step in path:
        if tree is None:
            return []
        trail.append(tree)
        tree = tree.child(step)
    return trail if tree is not None else []


def node_at(tree: TreeNode, path: Path) -> TreeNode:
    """Return the node at a path that exists; of an alias the node that it is an alias of."""
    node = tree.plain
    for step in path:
        inner = node.child(step)
        assert inner is not None, "the path exists"
        node = inner.plain
    return node


def emptied(source: str, tree: TreeNode | None, path: Path, keeps: int, writer: ScalarWriter) -> list[Splice]:
    """Remove a collection that loses all its members, and the ones that this empties in turn, unless it contains a
    comment or must stay.
    """
    trail = trail_of(tree, path)
    depth = len(path) - 1
    while (
        depth > keeps
        and isinstance(path[depth - 1], str)
        and "#" not in source[start_of(trail[depth - 1], path[depth - 1]) : start_of(trail[depth], 0)]
    ):
        depth -= 1
        if len(trail[depth].members) != 1:
            return without(source, trail[depth], [path[depth]])
    lost = trail[depth]
    if 0 < depth <= keeps and not lost.flow and lost.kind == "map" and "#" not in source[lost.start : lost.last]:
        member = trail[depth - 1].member(str(path[depth - 1]))
        if member and not source[member.colon(source) + 1 : lost.start].strip():  # next to its name, as people write it
            newline = writer.newline if source[lost.last - 1 : lost.last] == "\n" else ""
            return [Splice(member.colon(source) + 1, lost.last, " {}" + newline)]
    if (writer.careful or 0 < depth <= keeps) and lost.kind == "seq" and not lost.flow and depth > 0:
        member = trail[depth - 1].member(str(path[depth - 1]))
        if (
            member
            and (behind := _NOTHING_BEHIND.match(source, member.colon(source) + 1))
            and "#" in source[behind.end() : start_of(lost, 0)]
        ):
            first = (
                source.rfind("\n", 0, source.rindex("-", 0, start_of(lost, 0))) + 1
            )  # a comment stands between: it stays
            return [
                Splice(member.colon(source) + 1, member.colon(source) + 1, " []"),
                Splice(first, after_line(source, lost.last), ""),
            ]
    if writer.careful or lost.flow or 0 < depth <= keeps:  # it stays, empty
        start = (
            start_of(lost, 0)
            if not lost.flow
            else lost.start + source[lost.start : lost.end].index("{" if lost.kind == "map" else "[")
        )
        start = source.rindex("-", 0, start) if lost.kind == "seq" and not lost.flow else start
        newline = "" if lost.flow or source[lost.last - 1 : lost.last] != "\n" else writer.newline
        return [Splice(start, lost.last, ("{}" if lost.kind == "map" else "[]") + newline)]
    return without(source, lost, [member.name for member in lost.members] or list(range(len(lost.elements))))


def without(source: str, parent: TreeNode, steps: Sequence[str | int]) -> list[Splice]:
    """Remove some of a collection's members or elements."""
    return (
        _flow_cuts(source, parent, set(steps)) if parent.flow else [_blockcut(source, parent, step) for step in steps]
    )


def start_of(parent: TreeNode, step: str | int) -> int:
    """Return the offset where a member or an element of a collection begins."""
    if parent.kind == "map":
        member = parent.members[step] if isinstance(step, int) else parent.member(step)
        assert member
        return member.key.start
    return parent.elements[int(step)].start


def _flow_cuts(source: str, parent: TreeNode, steps: set[str | int]) -> list[Splice]:
    """Remove members or elements in brackets, each with one adjacent comma and its own trailing comment."""
    inner: list[tuple[str | int, int, int]] = [
        (member.name, member.key.start, member.value.last) for member in parent.members
    ]
    inner += [(at, node.start, node.last) for at, node in enumerate(parent.elements)]
    last_kept = max((number for number, item in enumerate(inner) if item[0] not in steps), default=-1)
    cuts = [
        Splice(start, inner[number + 1][1], "")
        for number, (step, start, _) in enumerate(inner)
        if step in steps and number < last_kept
    ]
    if last_kept + 1 < len(inner):
        start = inner[last_kept][2] if last_kept >= 0 else inner[0][1]
        own = _COMMENT_BEHIND.match(source, inner[-1][2]) if "\n" in source[inner[0][1] : inner[-1][2]] else None
        end = own.end() if own else inner[-1][2]
        line = source.find("\n", start, end)
        beside = source[end : end + 1] not in ("\n", "\r", "")  # the bracket, which the comment would hide
        kept = ""
        if last_kept >= 0 and line >= 0 and "#" in source[start:line]:  # a comment of the last that stays
            comma = source.find(",", start, source.index("#", start))
            cuts += [Splice(comma, comma + 1, "")] if comma >= 0 else []
            start, kept = (
                line,
                source[line : line + 1 + len(source[line + 1 :]) - len(source[line + 1 :].lstrip(" "))]
                if beside
                else "",
            )
        cuts.append(Splice(start, end, kept))
    return cuts


def _blockcut(source: str, parent: TreeNode, step: str | int) -> Splice:
    """Remove the lines of one member or element in block style."""
    at = start_of(parent, step)
    child = parent.child(step)
    assert child
    if parent.kind == "seq":
        at = source.rindex("-", 0, at)
    start = source.rfind("\n", 0, at) + 1
    if source[start:at].strip():  # the first of a collection that starts after a dash
        start = at
        members = parent.members
        if len(members) > 1 and members[0].name == step:
            return Splice(start, members[1].key.start, "")
    return Splice(start, after_line(source, child.last), "")


def after_line(source: str, at: int) -> int:
    """Return the offset of the end of the line that contains `at`."""
    if at and source[at - 1] == "\n":  # a block scalar ends after its line break
        return at
    end = source.find("\n", at)
    return len(source) if end < 0 else end + 1
