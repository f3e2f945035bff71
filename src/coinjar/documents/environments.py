"""An environment inside a document: a map, a list of `NAME=VALUE`, or a list of name and value pairs."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from coinjar.core.errors import InputError
from coinjar.documents.edit import END, Edit
from coinjar.documents.removal import Path
from coinjar.documents.tree import TreeNode
from coinjar.documents.writer import Plain

MAP, LINES, PAIRS = "map", "lines", "pairs"
FORMS = (MAP, LINES, PAIRS)


class EnvironmentEntry(NamedTuple):
    """One entry of an environment.

    `text` is None where it has no value of its own; `at` is its name's node, `step` its key or index.
    """

    name: str
    text: str | None
    at: TreeNode
    value: TreeNode | None
    step: str | int
    merged: bool = False
    """Whether it is defined elsewhere, and a merge key (`<<`) includes it here."""


def form_of(node: TreeNode | None) -> str | None:
    """Return the form of the node; None where nothing shows it."""
    node = node.plain if node else None
    if node is None or node.is_null or not (node.members or node.elements):
        return None
    if node.kind == "map":
        return MAP
    return PAIRS if node.elements[0].plain.kind == "map" else LINES


def held(node: TreeNode | None, *, merged: bool = False) -> list[EnvironmentEntry]:
    """Return the entries in order; with `merged` also those of merge keys (YAML 1.1, `<<`).

    Raises InputError if it is not an environment.
    """
    node = node.plain if node else None
    if node is None or node.is_null:
        return []
    if node.kind == "map":
        own = [
            EnvironmentEntry(member.name, _text(member.value.plain), member.key, member.value.plain, member.name)
            for member in node.members
            if member.name != "<<"
        ]
        return own + _merged(node, {entry.name for entry in own}) if merged else own
    if node.kind == "seq":
        return [
            other_entry
            for number, element in enumerate(node.elements)
            if (other_entry := _element(element.plain, number))
        ]
    raise InputError(
        "this is not an environment: it must be a map or a list", hint="correct the pointer", code="environment"
    )


def _merged(node: TreeNode, own: set[str]) -> list[EnvironmentEntry]:
    """Return the entries of merge keys; the first wins, and entries of the map itself win over all."""
    result: dict[str, EnvironmentEntry] = {}
    for child in [member.value.plain for member in node.members if member.name == "<<"]:
        for source in [element.plain for element in child.elements] if child.kind == "seq" else [child]:
            for entry in held(source, merged=True) if source.kind == "map" else ():
                if entry.name not in own:
                    result.setdefault(entry.name, entry._replace(merged=True))
    return list(result.values())


def _text(node: TreeNode) -> str | None:
    return node.text if node.kind == "scalar" and not node.is_null else None


def _element(node: TreeNode, number: int) -> EnvironmentEntry | None:
    if node.kind == "scalar":
        name, equals, value = node.text.partition("=")
        return EnvironmentEntry(name, value if equals else None, node, node if equals else None, number)
    name_node, value_node = node.child("name"), node.child("value")
    if name_node is None:
        return None
    value_node = value_node.plain if value_node else None
    return EnvironmentEntry(name_node.text, _text(value_node) if value_node else None, node, value_node, number)


def edits(
    node: TreeNode | None,
    path: Path,
    form: str,
    wanted: Mapping[str, str],
    gone: Iterable[str],
    *,
    same: Iterable[str] = (),
) -> list[Edit]:
    """Return the edits that update the environment at `path`: set what is wanted, remove what is gone, keep what is
    already the `same`.
    """
    there = {entry.name: entry for entry in held(node)}
    kept = set(same)
    changes = [Edit((*path, there[name].step), None) for name in gone if name in there]
    new = {name: text for name, text in wanted.items() if name not in there and name not in kept}
    for name, text in wanted.items():
        if name in there and name not in kept:
            step = there[name].step
            if form == MAP:
                changes.append(Edit((*path, step), text))
            elif form == LINES:
                changes.append(Edit((*path, step), f"{name}={text}"))
            else:
                changes.append(Edit((*path, step, "value"), text))
    if not new:
        return changes
    elements: list[Plain] = [
        f"{name}={text}" if form == LINES else {"name": name, "value": text} for name, text in new.items()
    ]
    if (
        not there and (path or form != MAP) and not (node and node.plain.members)
    ):  # nothing there, or an empty one of either kind
        return [Edit(path, dict(new) if form == MAP else elements)]
    if form == MAP:
        return changes + [Edit((*path, name), text) for name, text in new.items()]
    return changes + [Edit((*path, END), element) for element in elements]
