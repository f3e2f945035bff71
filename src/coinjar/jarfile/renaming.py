"""Rename variables in the jar's own files: only the names change, every other byte stays."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence

from coinjar.core.errors import InputError, Location
from coinjar.core.name_patterns import is_pattern
from coinjar.core.names import matches
from coinjar.core.reference_renames import condition, in_pointer, left_behind, references, spliced
from coinjar.documents.environments import held
from coinjar.documents.pointer import follow
from coinjar.documents.tree import TreeMember, TreeNode, build_tree
from coinjar.documents.yamltext import compose

Splices = Iterator[tuple[int, int, str]]
_LISTS = ("variables", "without", "names", "reserved", "supplied")
_BETWEEN = re.compile(r"\s*,\s*|\s*\n *- +")
"""What separates the elements of a list, if there is no comment."""
_FREE_TEXT = frozenset({"about", "reason", "default", "sample", "choices", "pattern"})


class _NameSplices:
    """Collects the splices for one file."""

    def __init__(self, text: str, renames: Mapping[str, str]) -> None:
        self.text = text
        self.renames = renames

    def key(self, member: TreeMember) -> Splices:
        """Rename a mapping's key."""
        if member.name in self.renames:
            yield self._put(member.key, self.renames[member.name])

    def scalar(self, node: TreeNode, change: Callable[[str, Mapping[str, str]], str]) -> Splices:
        """Replace a scalar as a whole."""
        if node.kind == "scalar":
            new = change(node.text, self.renames)
            if new != node.text:
                yield self._put(node, new)

    def text_of(self, node: TreeNode | None) -> Splices:
        """Rename the references in a value, if it is a text with references."""
        inner = node.child("text") if node is not None and node.kind == "map" else None
        if inner is not None:
            yield from self.refers(inner)

    def refers(self, node: TreeNode) -> Splices:
        """Rename references inside a scalar."""
        if node.kind == "scalar":
            for start, end, new in references(self.text[node.start : node.end], self.renames):
                yield node.start + start, node.start + end, new

    def every(self, node: TreeNode | None) -> Splices:
        """Rename the names in a list; where its patterns would no longer match a name, the name is added, and where
        they match the new name, it is removed: so a rename back leaves the list as it was.
        """
        if node is None or node.kind != "seq":
            return
        names = [child.text for child in node.elements]
        patterns = [name for name in names if is_pattern(name)]
        for before, child in zip([None, *node.elements], node.elements, strict=False):
            if (
                before is not None
                and child.text in self.renames
                and matches(self.renames[child.text], patterns)
                and _BETWEEN.fullmatch(self.text[before.end : child.start])
            ):
                yield before.end, child.end, ""
            else:
                yield from self.scalar(child, _renamed)
        lost = left_behind(names, self.renames)
        if lost and node.elements and node.flow:
            yield node.elements[-1].end, node.elements[-1].end, "".join(f", {name}" for name in lost)
        elif lost and node.elements:
            last = node.elements[-1]
            indent = self.text[self.text.rfind("\n", 0, last.start) + 1 : last.start]
            newline = "\r\n" if "\r\n" in self.text else "\n"
            yield last.end, last.end, "".join(f"{newline}{indent}{name}" for name in lost)

    def _put(self, node: TreeNode, new: str) -> tuple[int, int, str]:
        quote = node.style if node.style in ("'", '"') else ""
        return node.start, node.end, f"{quote}{new}{quote}"


def _renamed(text: str, renames: Mapping[str, str]) -> str:
    return renames.get(text, text)


def _declaration(names: _NameSplices, member: TreeMember) -> Splices:
    yield from names.key(member)
    yield from names.text_of(member.value.child("default") if member.value.kind == "map" else None)
    for node in _elements(member.value, "only_with"):
        yield from names.scalar(node, condition)
    rotation = member.value.child("rotate") if member.value.kind == "map" else None
    for turn in _members(rotation, "turns") if rotation is not None else ():
        yield from names.key(turn)


def in_jar_yaml(data: bytes, file: str, renames: Mapping[str, str]) -> bytes:
    """Rename variables in jar.yaml: declarations, conditions, groups, accepted findings, destinations, proofs."""

    def splices(names: _NameSplices, root: TreeNode) -> Splices:
        for member in _members(root, "variables"):
            yield from _declaration(names, member)
        for member in _members(root, "together"):
            for node in member.value.elements:
                yield from names.scalar(node, _renamed)
        for entry in _elements(root, "accepted"):
            if (variable := entry.child("variable")) is not None:
                yield from names.scalar(variable, _renamed)
        for member in _members(root, "destinations"):
            yield from _lists(names, member.value)
            yield from _exact(names, member.value.child("names") if member.value.kind == "map" else None)
            for place in _members(member.value, "places"):
                yield from _lists(names, place.value)
        for member in _members(root, "proofs"):
            yield from _proof(names, member.value)

    return _rewritten(data, file, renames, splices)


def in_values(data: bytes, file: str, renames: Mapping[str, str]) -> bytes:
    """Rename variables in a file of plain values, and references to them."""

    def splices(names: _NameSplices, root: TreeNode) -> Splices:
        for scope in root.members:
            for member in scope.value.members:
                yield from names.key(member)
                yield from names.text_of(member.value)

    return _rewritten(data, file, renames, splices)


def in_description(data: bytes, file: str, renames: Mapping[str, str]) -> bytes:
    """Rename the reserved and supplied names in a platform's description."""

    def splices(names: _NameSplices, root: TreeNode) -> Splices:
        for member in [member for top in (root, root.child("names") or root) for member in top.members]:
            if member.name in _LISTS:
                yield from names.every(member.value)
        spelled = root.child("names")
        yield from _exact(names, spelled.child("written") if spelled is not None and spelled.kind == "map" else None)

    return _rewritten(data, file, renames, splices)


def in_environments(data: bytes, file: str, pointers: Sequence[str], renames: Mapping[str, str]) -> bytes:
    """Rename variables in a document's environments at these pointers; a pointer to nothing is another command's
    error.
    """

    def splices(names: _NameSplices, root: TreeNode) -> Splices:
        del names  # the entries know their positions
        for pointer in pointers:
            try:
                entries = held(follow(root, pointer).node)
            except InputError:
                continue
            for entry in entries:
                if entry.name in renames:
                    node = entry.at.child("name") or entry.at if entry.at.kind == "map" else entry.at
                    start = node.start + (node.style in ("'", '"'))
                    yield start, start + len(entry.name), renames[entry.name]

    return _rewritten(data, file, renames, splices)


def _lists(names: _NameSplices, node: TreeNode) -> Splices:
    for key in ("variables", "without"):
        yield from names.every(node.child(key) if node.kind == "map" else None)


def _exact(names: _NameSplices, node: TreeNode | None) -> Splices:
    """Rename the jar's names among those that a file or a platform spells in a way of its own."""
    for member in _members(node, "exact") if node is not None else ():
        yield from names.key(member)


def _proof(names: _NameSplices, node: TreeNode) -> Splices:
    for member in node.members:
        if member.name == "at":
            yield from names.scalar(member.value, in_pointer)
        elif member.name in ("variable", "digest", "key"):
            yield from names.scalar(member.value, _renamed)
        elif member.name not in _FREE_TEXT and member.value.kind == "scalar":
            yield from names.refers(member.value)
        elif member.name not in _FREE_TEXT:
            yield from _proof(names, member.value)


def _members(node: TreeNode, name: str) -> list[TreeMember]:
    inner = node.child(name) if node.kind == "map" else None
    return inner.members if inner is not None else []


def _elements(node: TreeNode, name: str) -> list[TreeNode]:
    inner = node.child(name) if node.kind == "map" else None
    return inner.elements if inner is not None else []


def _rewritten(
    data: bytes, file: str, renames: Mapping[str, str], splices: Callable[[_NameSplices, TreeNode], Splices]
) -> bytes:
    return rewritten(data, file, lambda text, root: splices(_NameSplices(text, renames), root))


def rewritten(data: bytes, file: str, splices: Callable[[str, TreeNode], Splices]) -> bytes:
    """Return a YAML file with the splices of its text and tree applied. Raises InputError if the result is not YAML."""
    compose(data, file)
    text = data.decode()
    mark = "\ufeff" if text.startswith("\ufeff") else ""
    text = text[len(mark) :]
    root = build_tree(text)
    if root is None or root.kind != "map":
        return data
    new = (mark + spliced(text, list(dict.fromkeys(splices(text, root))))).encode()
    try:
        compose(new, file)
    except InputError:
        raise InputError(
            "the names cannot be changed here", hint="change them by hand", location=Location(file), code="edit"
        ) from None
    return new
