"""Resolve names through imports, single assignments and loops, as far as they are known."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, NamedTuple

from coinjar.mentions import tree

if TYPE_CHECKING:
    from coinjar.mentions.language_terms import LanguageTerms

_DEEPEST = 8
"""Maximum steps from a name to its value."""


class Parameter(NamedTuple):
    """A name that is a function's parameter."""

    function: tree.FunctionNode


Bound = tree.Node | Parameter


class Scopes:
    """The scopes around a position, the innermost last."""

    def __init__(self, words: LanguageTerms) -> None:
        self.words = words
        self.stack: list[dict[str, list[Bound]]] = []
        self.stars: list[str] = []
        self.called: set[str] = set()
        self.followed: set[str] = set()
        """Names that were followed to find a text."""
        self.asked: dict[tree.FunctionNode, int | None] = {}
        """Functions already examined: which parameter names a variable."""

    @contextmanager
    def inside(self, node: tree.Node) -> Iterator[None]:
        """Enter a file or a function."""
        result: dict[str, list[Bound]] = {}
        if isinstance(node, tree.FunctionNode):
            for name in node.parameters:
                result.setdefault(name, []).append(Parameter(node))
        for child in node.inner:
            for inner in tree.own(child):
                self._bind(inner, result)
        if not self.stack:
            self.called = {_called(child) for child in _all(node) if isinstance(child, tree.CallNode)}
        self.stack.append(result)
        try:
            yield
        finally:
            self.stack.pop()

    def _bind(self, node: tree.Node, result: dict[str, list[Bound]]) -> None:
        if (
            isinstance(node, tree.AssignmentNode)
            and isinstance(node.target, tree.NameNode)
            and not isinstance(node.value, tree.FunctionNode)
        ):
            result.setdefault(node.target.text, []).append(node.value)
        elif isinstance(node, tree.ImportNode):
            if node.name == "*":
                self.stars.append(node.path)
            else:
                result.setdefault(node.name, []).append(node)
        elif isinstance(node, tree.DeclarationNode | tree.FunctionNode):
            result.setdefault(node.name, []).append(node)
        elif isinstance(node, tree.LoopNode):
            result.setdefault(node.variable, []).append(node)
        elif isinstance(node, tree.DestructuringNode):
            for key, name, _, _ in node.entries:
                result.setdefault(name, []).append(tree.MemberNode(node.of, key.text))

    def bound(self, name: str) -> list[Bound]:
        """Return what a name is bound to in the innermost scope that binds it."""
        return next((scope[name] for scope in reversed(self.stack) if name in scope), [])

    def owner(self, name: str) -> Bound | None:
        """Return the single node that a name is bound to."""
        bound = self.bound(name)
        return bound[0] if len(bound) == 1 else None

    def function(self, name: str) -> tree.FunctionNode | None:
        """Return the file's function of this name."""
        owner = self.owner(name)
        if isinstance(owner, tree.FunctionNode):
            return owner
        value = owner if isinstance(owner, tree.Node) else None
        return value if isinstance(value, tree.FunctionNode) else None

    def is_called(self, name: str) -> bool:
        """Return whether the file calls a function of this name."""
        return name in self.called

    def path(self, node: tree.Node, depth: int = 0) -> str | None:  # noqa: PLR0911 - a shape a line
        """Return an expression's path; None if it is not known."""
        if depth > _DEEPEST:
            return None
        if isinstance(node, tree.NameNode):
            return self._path_of(node.text, depth)
        if isinstance(node, tree.MemberNode):
            before = self.path(node.of, depth + 1)
            if before and node.name in self.words.copies:
                return before
            return self._shorter(f"{before}.{node.name}") if before else None
        if isinstance(node, tree.CallNode):
            if (
                isinstance(node.function, tree.NameNode)
                and node.function.text == "require"
                and node.arguments
                and isinstance(node.arguments[0], tree.StringNode)
            ):
                return self.words.modules.get(node.arguments[0].text)
            before = self.path(node.function, depth + 1)
            if before in self.words.copies and len(node.arguments) == 1:
                return self.path(node.arguments[0], depth + 1)
            if isinstance(node.function, tree.MemberNode) and node.function.name in self.words.copies:
                return before
            return f"{before}()" if before and not node.arguments else None
        return None

    def _path_of(self, name: str, depth: int) -> str | None:
        bound = self.bound(name)
        if not bound:
            starred = next((f"{star}.{name}" for star in self.stars if f"{star}.{name}" in self.words.functions), None)
            return starred or (name if self.words.free or name in self.words.builtins else None)
        names = {
            self._shorter(item.path) if isinstance(item, tree.ImportNode) else self._value(item, name, depth)
            for item in bound
        }
        return names.pop() if len(names) == 1 else None

    def _value(self, bound: Bound, name: str, depth: int) -> str | None:
        if isinstance(bound, Parameter | tree.DeclarationNode | tree.FunctionNode | tree.LoopNode) or (
            isinstance(bound, tree.NameNode) and bound.text == name
        ):
            return None
        return self.path(bound, depth + 1)

    def _shorter(self, path: str) -> str:
        for longer, short in self.words.same.items():
            if path == longer or path.startswith(longer + "."):
                return short + path[len(longer) :]
        return path

    def texts(self, node: tree.Node, depth: int = 0) -> list[tree.StringNode] | None:
        """Return the possible texts of an expression; None if they are known only at run time."""
        if isinstance(node, tree.StringNode):
            return [node]
        if isinstance(node, tree.NameNode) and depth <= _DEEPEST:
            self.followed.add(node.text)
            owner = self.owner(node.text)
            if isinstance(owner, tree.LoopNode):
                return self._listed(owner.over, depth)
            if isinstance(owner, tree.StringNode | tree.NameNode):
                return self.texts(owner, depth + 1)
        return None

    def _listed(self, node: tree.Node, depth: int) -> list[tree.StringNode] | None:
        if isinstance(node, tree.CallNode) and self.path(node.function) in self.words.lists:
            node = tree.ListNode(node.arguments)
        if isinstance(node, tree.NameNode):
            self.followed.add(node.text)
            owner = self.owner(node.text)
            return self._listed(owner, depth + 1) if isinstance(owner, tree.Node) and depth <= _DEEPEST else None
        if not isinstance(node, tree.ListNode):
            return None
        result = [self.texts(child, depth + 1) for child in node.inner]
        return None if None in result else [text for names in result for text in names or []]


def _called(node: tree.CallNode) -> str:
    function = node.function
    return (
        function.text
        if isinstance(function, tree.NameNode)
        else function.name
        if isinstance(function, tree.MemberNode)
        else ""
    )


def _all(node: tree.Node) -> Iterator[tree.Node]:
    yield node
    for child in node.inner:
        yield from _all(child)
