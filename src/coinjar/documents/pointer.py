"""JSON Pointer (RFC 6901), extended by a step `[field=value]` that selects a list's element by one of its fields."""

from __future__ import annotations

import re
from typing import NamedTuple, TypeAlias

from coinjar.core.errors import InputError
from coinjar.core.names import nearest
from coinjar.core.pointer_steps import split_pointer
from coinjar.documents.removal import Path
from coinjar.documents.tree import TreeNode

_PICK = re.compile(r"\[([^=\]]+)=(.*)\]", re.DOTALL)


class ElementSelector(NamedTuple):
    """Selects the element whose field has this text."""

    field: str
    value: str


Step: TypeAlias = str | ElementSelector


def parse_pointer(text: str) -> tuple[Step, ...]:
    """Return the steps. Raises InputError if it is not a pointer."""
    if text and not text.startswith("/"):
        raise InputError(
            f"'{text}' is not a JSON Pointer", hint="it begins with '/', as in /jobs/deploy/env", code="pointer"
        )
    if re.search(r"~(?![01])", text):
        raise InputError(
            f"'{text}' has an invalid escape with '~'", hint="write ~0 for '~' and ~1 for '/'", code="pointer"
        )
    steps: list[Step] = []
    for step in split_pointer(text):
        pick = _PICK.fullmatch(step)
        steps.append(ElementSelector(pick[1], pick[2]) if pick else step)
    return tuple(steps)


class PointerMatch(NamedTuple):
    """The node a pointer selects: the nodes on the way, root first, and the path.

    `missing` is the last step if there is no node yet.
    """

    trail: tuple[TreeNode, ...]
    path: Path
    missing: bool

    @property
    def node(self) -> TreeNode | None:
        return None if self.missing else self.trail[-1]


def follow(root: TreeNode | None, pointer: str) -> PointerMatch:
    """Follow a pointer; only its last step may be missing. Raises InputError that says which step does not exist."""
    steps = parse_pointer(pointer)
    trail: list[TreeNode] = [root] if root is not None else []
    path: list[str | int] = []
    if root is None:
        raise InputError(
            f"{pointer or 'the whole document'} does not exist: the document is empty",
            hint="correct the pointer",
            code="pointer",
        )
    for number, step in enumerate(steps):
        node = trail[-1].plain
        at = _step(node, step)
        child = node.child(at) if at is not None else None
        if child is None:
            if number == len(steps) - 1 and isinstance(step, str) and node.kind == "map":
                return PointerMatch(tuple(trail), (*path, step), missing=True)
            raise _nowhere(pointer, steps, number, node)
        assert at is not None
        path.append(at)
        trail.append(child)
    return PointerMatch(tuple(trail), tuple(path), missing=False)


def _step(node: TreeNode, step: Step) -> str | int | None:
    if isinstance(step, ElementSelector):
        for number, element in enumerate(node.elements):
            field = element.plain.child(step.field)
            if field is not None and field.text == step.value:
                return number
        return None
    if node.kind == "seq":
        return int(step) if re.fullmatch(r"0|[1-9]\d{0,8}", step) else None
    return step


def _nowhere(pointer: str, steps: tuple[Step, ...], number: int, node: TreeNode) -> InputError:
    step = steps[number]
    before = "/" + "/".join(
        f"[{step.field}={step.value}]" if isinstance(step, ElementSelector) else step for step in steps[:number]
    )
    where = before if number else "the document"
    if isinstance(step, ElementSelector):
        known = [field.text for child in node.elements if (field := child.plain.child(step.field)) is not None]
        message, hint = (
            f"no element of {where} has {step.field}: {step.value}",
            f"there are {', '.join(known)}" if known else "it is not a list of such elements",
        )
    else:
        near = nearest(step, [member.name for member in node.members])
        message = f"{where} has no '{step}'"
        hint = (
            f"did you mean '{near}'?"
            if near
            else f"it has {', '.join(member.name for member in node.members[:8]) or 'nothing'}"
        )
    return InputError(f"{pointer or 'the whole document'} does not exist: {message}", hint=hint, code="pointer")


def above(pointer: str, other: str) -> bool:
    """Return whether an environment at `pointer` encloses `other`'s with the same name: whole pipeline, job, step."""
    if not pointer or not other:
        return False  # the whole document is not an environment of anything inside it
    *mine, name = parse_pointer(pointer)
    *theirs, its_name = parse_pointer(other)
    return name == its_name and len(mine) < len(theirs) and theirs[: len(mine)] == mine
