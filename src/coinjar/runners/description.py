"""What a description of a runner says, and where a document departs from it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from coinjar.core.names import ANY_NAME
from coinjar.documents.tree import TreeNode

Steps = tuple[str, ...]
"""The steps of a pointer; `*` in a pattern is any one step."""
_COMMON = frozenset({"env", "environment", "variables"})
"""Keys that other runners use for environments."""


class WrongReference(NamedTuple):
    """A form that this runner does not replace, and what to write instead, with `{name}`."""

    form: str
    write: str

    @property
    def pattern(self) -> re.Pattern[str]:
        """What finds it; the group is the name."""
        before, _, after = self.form.partition("{name}")
        return re.compile(rf"{re.escape(before)}\s*([A-Za-z_]\w*)\s*{re.escape(after)}")


class RunnerDescription(NamedTuple):
    """A runner: the keys of environments; its levels (patterns, the widest first); the levels that are jobs, and the
    key with which one names its stage ("" if none does); wrong references; built-in names, each with what it is.
    """

    name: str
    about: str = ""
    environments: tuple[str, ...] = ()
    levels: tuple[Steps, ...] = ()
    jobs: Steps = ()
    stage: str = ""
    wrong: tuple[WrongReference, ...] = ()
    names: Mapping[str, str] = {}
    marks: tuple[Steps, ...] = ()
    """What a document of this runner has: files below `code:` are recognized by it."""

    def fits(self, root: TreeNode) -> bool:
        """Return whether a document has all marks; False without marks."""
        return bool(self.marks) and all(_has(root, mark) for mark in self.marks)

    def is_level(self, steps: Steps) -> bool:
        """Return whether the node at a path may have an environment."""
        return any(matches(steps, pattern) for pattern in self.levels)


class Departure(NamedTuple):
    """Something in a document that its runner does not take as it is meant."""

    node: TreeNode
    message: str
    fix: str


class StagelessJob(NamedTuple):
    """A job that names no stage."""

    label: str
    node: TreeNode
    steps: Steps


def _has(node: TreeNode, steps: Steps) -> bool:
    child = node.plain.child(steps[0]) if steps else node
    return child is not None and (len(steps) < 2 or _has(child, steps[1:]))


def matches(steps: Steps, pattern: Steps) -> bool:
    """Return whether a path fits a pattern."""
    return len(steps) == len(pattern) and all(
        wanted in ("*", step) for step, wanted in zip(steps, pattern, strict=True)
    )


def walk(node: TreeNode, steps: Steps = ()) -> Iterator[tuple[Steps, TreeNode]]:
    """Yield every node with its path; elements of a list by their number. Aliases, of which a few can mean millions of
    nodes, are not followed.
    """
    yield steps, node
    for member in node.members:
        yield from walk(member.value, (*steps, member.name))
    for number, element in enumerate(node.elements):
        yield from walk(element, (*steps, str(number)))


def departures(root: TreeNode, runner: RunnerDescription) -> Iterator[Departure]:
    """Yield wrong ways of referring, environments where the runner looks at none, and those under another's key."""
    for steps, node in walk(root):
        if node.plain.kind == "scalar":
            yield from _references(node, runner)
        if not steps or not _is_environment(node) or any(step in runner.environments for step in steps[:-1]):
            continue
        within = "/".join(["", *steps[:-1]]) or "the top"
        if steps[-1] in runner.environments and not runner.is_level(steps[:-1]):
            places = ", ".join("/".join(["", *level]) or "the top" for level in runner.levels)
            yield Departure(
                node, f"{runner.name} looks at no {steps[-1]} at {within}: nothing sees it", f"its places are {places}"
            )
        elif steps[-1] in _COMMON - {*runner.environments} and runner.is_level(steps[:-1]):
            keys = " or ".join(runner.environments)
            yield Departure(node, f"{runner.name} has no {steps[-1]}: nothing sees it", f"write {keys}")


def _references(node: TreeNode, runner: RunnerDescription) -> Iterator[Departure]:
    for wrong in runner.wrong:
        for match in wrong.pattern.finditer(node.plain.text):
            right = wrong.write.replace("{name}", match[1])
            yield Departure(node, f"{runner.name} does not replace {match[0]}", f"write {right}")


def _is_environment(node: TreeNode) -> bool:
    members = node.plain.members
    return bool(members) and all(
        member.value.plain.kind == "scalar" and re.fullmatch(ANY_NAME, member.name) for member in members
    )


def stageless_jobs(root: TreeNode, runner: RunnerDescription) -> Iterator[StagelessJob]:
    """Yield the jobs that name no stage."""
    if not runner.stage or not runner.jobs:
        return
    for steps, node in walk(root):
        if matches(steps, runner.jobs) and node.plain.kind == "map" and node.plain.child(runner.stage) is None:
            name = node.plain.child("name")
            yield StagelessJob(name.plain.text if name else "/".join(["", *steps]), node, steps)
