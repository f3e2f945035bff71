"""What a file hands on: its calls by the name of the function, and what the objects of its classes hold."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from coinjar.mentions import helper_calls, tree
from coinjar.mentions.call_arguments import argument_of

OWN_OBJECT = frozenset({"this", "self", "$this", "cls"})
ENVIRONMENT_NAME = re.compile(r"(?i)[\w$@]*env(?:iron(?:ment)?)?s?(?:_?vars?)?")
"""What a name that holds an environment looks like: only such parameters are followed to the calls."""


class HandedOn(NamedTuple):
    """The calls of each function, and the values of each member: `this.name = value`, and `name = value` in a class.

    `environments`: names of maps that calls pass on as another program's environment.
    """

    calls: Mapping[str, list[tree.CallNode]] = {}
    members: Mapping[str, list[tree.Node]] = {}
    environments: frozenset[str] = frozenset()

    def arguments(self, function: tree.FunctionNode, parameter: str) -> list[tree.Node | None]:
        """Return what each call in the file gives a parameter; None where one gives nothing, or a name of its own."""
        at = list(function.parameters).index(parameter)
        given = [argument_of(function, call, at) for call in self.calls.get(function.name, ())]
        return [None if isinstance(node, tree.NameNode) else node for node in given]


def handed_on(root: tree.Node) -> HandedOn:
    """Return what a file hands on."""
    calls: dict[str, list[tree.CallNode]] = {}
    members: dict[str, list[tree.Node]] = {}
    environments: set[str] = set()
    for node, given in _all(root, {}):
        if isinstance(node, tree.CallNode):
            calls.setdefault(_called(node), []).append(node)
            passed = (value for name, value in helper_calls.members(node) if name in helper_calls.ENVIRONMENTS)
            environments.update(value.text for value in passed if isinstance(value, tree.NameNode))
        elif isinstance(node, tree.AssignmentNode) and (name := _member(node.target)):
            value = node.value
            usual = given.get(value.text) if isinstance(value, tree.NameNode) else None
            members.setdefault(name, []).append(usual or value)
        elif isinstance(node, tree.DeclarationNode):
            for child in _of_class(node):
                if isinstance(child, tree.AssignmentNode) and isinstance(child.target, tree.NameNode):
                    members.setdefault(child.target.text, []).append(child.value)
    return HandedOn(calls, members, frozenset(environments))


def _of_class(node: tree.DeclarationNode) -> Iterator[tree.Node]:
    """Yield what a class binds itself; it may have a scope of its own (Python)."""
    for child in node.inner:
        is_scope = isinstance(child, tree.FunctionNode) and not child.name and not child.parameters
        yield from tree.own(child.body if is_scope and isinstance(child, tree.FunctionNode) else child)


def _all(node: tree.Node, given: Mapping[str, tree.Node]) -> Iterator[tuple[tree.Node, Mapping[str, tree.Node]]]:
    """Yield every node, with what the parameters around it are unless a caller says otherwise."""
    yield node, given
    for child in node.inner:
        yield from _all(child, node.given if isinstance(node, tree.FunctionNode) else given)


def _called(node: tree.CallNode) -> str:
    function = node.function
    if isinstance(function, tree.NameNode):
        return function.text
    return function.name if isinstance(function, tree.MemberNode) else ""


def _member(target: tree.Node) -> str:
    """Return the name of an object's own member; "" for any other target."""
    if isinstance(target, tree.NameNode):
        return target.text if target.text.startswith("@") else ""  # Ruby's
    of = target.of if isinstance(target, tree.MemberNode) else None
    is_own = isinstance(of, tree.NameNode) and of.text in OWN_OBJECT
    return target.name if is_own and isinstance(target, tree.MemberNode) else ""
