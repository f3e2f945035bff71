"""Repeat a member or an element of a document in its own layout, with some of its text replaced."""

from __future__ import annotations

from collections.abc import Sequence

from coinjar.documents.removal import Splice, after_line
from coinjar.documents.tree import TreeNode


def member_again(source: str, parent: TreeNode, name: str, new: str, inner: Sequence[Splice] = ()) -> Splice:
    """Return the insertion of a mapping's member once more behind itself, under a new name.

    `inner` are replacements in the original's value, made in the copy only.
    """
    member = parent.member(name)
    assert member is not None
    key = _quoted(member.key, new)
    if parent.flow:
        at = member.value.last
        return Splice(at, at, f", {key}{_copied(source, member.key.end, at, inner)}")
    at = after_line(source, member.value.last)
    indent = " " * (member.key.start - source.rfind("\n", 0, member.key.start) - 1)
    return _line(source, at, indent + key + _copied(source, member.key.end, at, inner))


def element_again(source: str, parent: TreeNode, index: int, inner: Sequence[Splice]) -> Splice:
    """Return the insertion of a list's element once more behind itself, with `inner` replaced in the copy."""
    element = parent.elements[index]
    if parent.flow:
        return Splice(element.last, element.last, f", {_copied(source, element.start, element.last, inner)}")
    start = source.rindex("-", 0, element.start)
    at = after_line(source, element.last)
    indent = " " * (start - source.rfind("\n", 0, start) - 1)
    return _line(source, at, indent + _copied(source, start, at, inner))


def _line(source: str, at: int, text: str) -> Splice:
    newline = "\r\n" if "\r\n" in source else "\n"
    before = newline if source[at - 1] != "\n" else ""
    return Splice(at, at, before + text + ("" if text.endswith("\n") else newline))


def _copied(source: str, start: int, end: int, inner: Sequence[Splice]) -> str:
    parts, last = [], start
    for splice in sorted(inner):
        parts += [source[last : splice.start], splice.text]
        last = splice.end
    return "".join(parts) + source[last:end]


def _quoted(key: TreeNode, new: str) -> str:
    quote = key.style if key.style in ("'", '"') else ""
    return f"{quote}{new}{quote}"
