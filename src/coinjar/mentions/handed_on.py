"""What a file hands on: its calls by the name of the function, and what the objects of its classes hold."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from coinjar.mentions import named_maps, tree
from coinjar.mentions.call_arguments import argument_of

OWN_OBJECT = frozenset({"this", "self", "$this", "cls"})
ENVIRONMENT_NAME = re.compile(r"(?i)[\w$@]*env(?:iron(?:ment)?)?s?(?:_?vars?)?")
"""What a name that holds an environment looks like: only such parameters are followed to the calls."""


_LOOKED_AT = frozenset({tree.CallNode, tree.AssignmentNode, tree.DeclarationNode, tree.FunctionNode})


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
    """Return what a file hands on. Every node of every file is seen here, so it has no recursion."""
    calls: dict[str, list[tree.CallNode]] = {}
    members: dict[str, list[tree.Node]] = {}
    environments: set[str] = set()
    waiting: list[tuple[tree.Node, Mapping[str, tree.Node]]] = [(root, {})]
    while waiting:
        node, given = waiting.pop()  # `given`: what the parameters around are unless a caller says otherwise
        if type(node) in _LOOKED_AT:  # few are
            if isinstance(node, tree.CallNode):
                calls.setdefault(_called(node), []).append(node)
                environments.update(_passed_on(node))
            elif isinstance(node, tree.FunctionNode):
                given = node.given
            else:
                for name, value in _given_to_members(node, given):
                    members.setdefault(name, []).append(value)
        if node.inner:
            waiting += [(child, given) for child in node.inner]
    return HandedOn(calls, members, frozenset(environments))


def _passed_on(node: tree.CallNode) -> Iterator[str]:
    """Yield the names of maps that a call passes on as an environment."""
    if node.named or any(isinstance(child, tree.MappingNode | tree.ListNode) for child in node.arguments):
        for name, value in named_maps.members(node):
            if name in named_maps.ENVIRONMENTS and isinstance(value, tree.NameNode):
                yield value.text


def _given_to_members(node: tree.Node, given: Mapping[str, tree.Node]) -> Iterator[tuple[str, tree.Node]]:
    """Yield the members that an assignment or a class gives a value, with it."""
    if isinstance(node, tree.AssignmentNode) and (name := _member(node.target)):
        usual = given.get(node.value.text) if isinstance(node.value, tree.NameNode) else None
        yield name, usual or node.value
    for child in _of_class(node) if isinstance(node, tree.DeclarationNode) else ():
        if isinstance(child, tree.AssignmentNode) and isinstance(child.target, tree.NameNode):
            yield child.target.text, child.value


def _of_class(node: tree.DeclarationNode) -> Iterator[tree.Node]:
    """Yield what a class binds itself; it may have a scope of its own (Python)."""
    for child in node.inner:
        is_scope = isinstance(child, tree.FunctionNode) and not child.name and not child.parameters
        yield from tree.own(child.body if is_scope and isinstance(child, tree.FunctionNode) else child)


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
