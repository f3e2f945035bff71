"""Resolve names through imports, single assignments and loops, as far as they are known."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from typing import TYPE_CHECKING, NamedTuple

from coinjar.mentions import tree
from coinjar.mentions.base import TooLongToRead
from coinjar.mentions.call_arguments import last_name
from coinjar.mentions.handed_on import ENVIRONMENT_NAME, OWN_OBJECT, HandedOn, handed_on

if TYPE_CHECKING:
    from coinjar.mentions.language_terms import LanguageTerms

_DEEPEST = 8
"""Maximum steps from a name to its value."""


_SAME_LIST = ("freeze", "dup", "iter", "into_iter", "stream", "toList")
"""Methods of a list whose result has the same elements."""
_IMPLICIT = "it"
"""The parameter of a function without any (Kotlin)."""
_MOST_STEPS = 500_000
"""Steps of following names, after which a file is not read further: real files of a MiB need a tenth of that."""


class Parameter(NamedTuple):
    """A name that is a function's parameter."""

    function: tree.FunctionNode


Bound = tree.Node | Parameter


class _Frame(NamedTuple):
    """A scope: what its names are bound to, and what was found of them, by name and number of steps before."""

    bound: dict[str, list[Bound]]
    paths: dict[tuple[str, int], str | None]
    texts: dict[tuple[str, int], list[tree.StringNode] | None]


class Scopes:
    """The scopes around a position, the innermost last."""

    def __init__(self, words: LanguageTerms) -> None:
        self.words = words
        self.stack: list[_Frame] = []
        self.visible = 0
        """How many scopes, from the outermost, the name that is being followed can see."""
        self.steps = 0
        self.stars: list[str] = []
        self.handed = HandedOn()
        self.held: dict[str, str | None] = {}
        """Members already examined: which mapping of the environment they are."""
        self.followed: set[str] = set()
        """Names that were followed to find a text."""
        self.asked: dict[tree.FunctionNode, tuple[int, str] | None] = {}
        """Functions already examined: which parameter names a variable, and how it is used."""

    @contextmanager
    def inside(self, node: tree.Node) -> Iterator[None]:
        """Enter a file or a function."""
        result: dict[str, list[Bound]] = {}
        if isinstance(node, tree.FunctionNode):
            for name in node.parameters:
                usual = node.given.get(name)
                is_mapping = isinstance(usual, tree.MemberNode | tree.CallNode)  # a literal is one value of many
                is_mapping |= isinstance(usual, tree.NameNode) and usual.text in self.words.maps
                result.setdefault(name, []).append(usual if is_mapping and usual is not None else Parameter(node))
            if node.over is not None and len(node.parameters) < 2:
                name = node.parameters[0] if node.parameters else _IMPLICIT
                result[name] = [tree.LoopNode(name, node.over, node.body)]
        for child in node.inner:
            for inner in tree.own(child):
                self._bind(inner, result)
        if not self.stack:
            self.handed = handed_on(node)
        with self._binding(result):
            yield

    def looping(self, node: tree.LoopNode) -> AbstractContextManager[None]:
        """Enter a loop's body: another loop of the function may have a variable of the same name."""
        return self._binding({node.variable: [self.map_of(node) or node]})

    def map_of(self, node: tree.LoopNode) -> tree.Node | None:
        """Return one of the mappings of the environment that a loop goes through; None if it has anything else."""
        maps = node.over.inner if isinstance(node.over, tree.ListNode) else ()
        return maps[0] if maps and all(self.path(one) in self.words.maps for one in maps) else None

    @contextmanager
    def _binding(self, names: dict[str, list[Bound]]) -> Iterator[None]:
        self.stack.append(_Frame(names, {}, {}))
        outer, self.visible = self.visible, len(self.stack)
        try:
            yield
        finally:
            self.stack.pop()
            self.visible = outer

    def _bind(self, node: tree.Node, result: dict[str, list[Bound]]) -> None:
        if (
            isinstance(node, tree.AssignmentNode)
            and isinstance(node.target, tree.NameNode)
            and not isinstance(node.value, tree.FunctionNode)
            and node.target.text not in self.words.maps  # the language's own, whatever it is given (PHP)
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
        at = self._frame_of(name)
        return self.stack[at].bound[name] if at is not None else []

    def _frame_of(self, name: str) -> int | None:
        """Return the innermost visible scope that binds a name."""
        return next((at for at in range(self.visible - 1, -1, -1) if name in self.stack[at].bound), None)

    def step(self) -> None:
        """Count one step of following. Raises TooLongToRead, so that no file takes longer than its size explains."""
        self.steps += 1
        if self.steps > _MOST_STEPS:
            raise TooLongToRead

    def owner(self, name: str) -> Bound | None:
        """Return the single node that a name is bound to."""
        bound = self._values_among(self.bound(name))
        return bound[0] if len(bound) == 1 else None

    def _values_among(self, bound: list[Bound]) -> list[Bound]:
        """Return what a name that is not called can mean."""
        if len(bound) < 2 or not self.words.calls_apart:
            return bound
        return [item for item in bound if not isinstance(item, tree.FunctionNode)] or bound

    def function(self, name: str, given: int | None = None) -> tree.FunctionNode | None:
        """Return the file's function of this name; of several the one that takes as many arguments as are `given`."""
        bound = self.bound(name)
        functions = [item for item in bound if isinstance(item, tree.FunctionNode)]
        if len(functions) < len(bound) and not self.words.calls_apart:
            return None
        if len(functions) > 1:
            functions = [each for each in functions if len(each.parameters) == given]
        return functions[0] if len(functions) == 1 else None

    def is_called(self, name: str) -> bool:
        """Return whether the file calls a function of this name."""
        return name in self.handed.calls

    def path(self, node: tree.Node, depth: int = 0) -> str | None:  # noqa: PLR0911 - a shape a line
        """Return an expression's path; None if it is not known."""
        if depth > _DEEPEST:
            return None
        if isinstance(node, tree.NameNode):
            return self._path_of(node.text, depth)
        if isinstance(node, tree.MemberNode):
            return self._path_of_member(node, depth)
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
        if isinstance(node, tree.MappingNode):  # a copy with more in it
            paths = (self.path(child, depth + 1) for child in node.taken)
            return next((path for path in paths if path in self.words.maps), None)
        return None

    def _path_of_member(self, node: tree.MemberNode, depth: int) -> str | None:
        if isinstance(node.of, tree.NameNode) and node.of.text in OWN_OBJECT and node.name in self.handed.members:
            return self._held(node.name)
        before = self.path(node.of, depth + 1)
        if before and node.name in self.words.copies:
            return before
        return self._shorter(f"{before}.{node.name}") if before else None

    def _path_of(self, name: str, depth: int) -> str | None:
        """Return a name's path, as the scope that binds it sees it; each is found once for each distance."""
        at = self._frame_of(name)
        while at is not None and self._is_no_value(self.stack[at].bound[name]):
            at = next((outer for outer in range(at - 1, -1, -1) if name in self.stack[outer].bound), None)
        if at is None:
            if name in self.handed.members and name.startswith("@"):
                return self._held(name)
            starred = next((f"{star}.{name}" for star in self.stars if f"{star}.{name}" in self.words.functions), None)
            return starred or (name if self.words.free or name in self.words.builtins else None)
        frame = self.stack[at]
        if (name, depth) not in frame.paths:
            outer, self.visible = self.visible, at + 1
            frame.paths[name, depth] = self._agreed(frame.bound[name], name, depth)
            self.visible = outer
        return frame.paths[name, depth]

    def _is_no_value(self, bound: list[Bound]) -> bool:
        """Return whether a path cannot begin with what a scope binds: methods, and where modules have names of their
        own all but these.
        """
        if self.words.apart:
            return not any(isinstance(item, tree.ImportNode) for item in bound) and any(
                isinstance(item, tree.Node) and not isinstance(item, tree.DeclarationNode) for item in bound
            )
        return all(map(_is_method, bound))

    def _agreed(self, bound: list[Bound], name: str, depth: int) -> str | None:
        """Return the path of all that a name is bound to; None where two of them differ."""
        names: set[str | None] = set()
        bound = [item for item in self._values_among(bound) if not _is_method(item)]
        if self.words.apart and any(isinstance(item, tree.ImportNode) for item in bound):
            bound = [item for item in bound if not isinstance(item, tree.FunctionNode)]
        for item in [item for item in bound if len(bound) == 1 or not (_is_wrapped(item, name) or _is_empty(item))]:
            self.step()
            path = self._shorter(item.path) if isinstance(item, tree.ImportNode) else self._value(item, name, depth)
            names.add(path)
            if len(names) > 1 or None in names:
                return None
        return names.pop() if names else None

    def _value(self, bound: Bound, name: str, depth: int) -> str | None:
        if isinstance(bound, Parameter):
            return self._common(self.handed_to(bound.function, name), depth)
        if isinstance(bound, tree.DeclarationNode | tree.FunctionNode | tree.LoopNode) or (
            isinstance(bound, tree.NameNode) and bound.text == name
        ):
            return None
        return self.path(bound, depth + 1)

    def takes(self, node: tree.CallNode, at: int) -> set[str]:
        """Return the words by which a function uses an environment that a call hands it; none for other functions."""
        name = node.function.text if isinstance(node.function, tree.NameNode) else ""
        function = self.function(name, len(node.arguments)) if name else None
        taken = function.parameters[at : at + 1] if function else []
        return {name, *taken} if name and (function is None or all(map(ENVIRONMENT_NAME.fullmatch, taken))) else set()

    def handed_to(self, function: tree.FunctionNode, parameter: str) -> list[tree.Node | None]:
        """Return what the file's calls give a parameter that seems to be an environment; none for any other."""
        if not function.name or not ENVIRONMENT_NAME.fullmatch(parameter):
            return []
        self.followed.add(function.name)
        return self.handed.arguments(function, parameter)

    def is_child(self, node: tree.Node) -> bool:
        """Return whether this is another program's environment."""
        owner = self.owner(node.text) if isinstance(node, tree.NameNode) and self.words.child_maps else None
        if isinstance(node, tree.NameNode) and isinstance(owner, Parameter):
            handed = self.handed_to(owner.function, node.text)
            return bool(handed) and all(child is not None and self.is_child(child) for child in handed)
        node = owner if isinstance(owner, tree.CallNode) else node
        is_called = isinstance(node, tree.CallNode) and not node.arguments
        node = node.function if isinstance(node, tree.CallNode) and is_called else node
        # a bare call is one of the object around it (Kotlin's `apply`), unless the file has such a function
        is_of_object = isinstance(node, tree.NameNode) and is_called and self.owner(node.text) is None
        return (isinstance(node, tree.MemberNode) or is_of_object) and last_name(node) in self.words.child_maps

    def _held(self, member: str) -> str | None:
        """Return the mapping of the environment that the file's objects hold as a member; found once for each."""
        if member not in self.held:
            self.held[member] = None  # also while it is looked for: members may be given each other
            self.held[member] = self._common(self.handed.members[member], 0)
        return self.held[member]

    def _common(self, values: Sequence[tree.Node | None], depth: int) -> str | None:
        """Return the mapping of the environment that all of these values are, as the file sees them; None if not."""
        outer, self.visible = self.visible, 1
        paths: set[str | None] = set()
        for value in values:
            self.step()
            paths.add(self.path(value, depth + 1) if value is not None else None)
            if len(paths) > 1:
                break
        self.visible = outer
        path = paths.pop() if len(paths) == 1 else None
        return path if path in self.words.maps else None

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
            at = self._frame_of(node.text)
            if at is None:
                return None
            frame = self.stack[at]
            if (node.text, depth) not in frame.texts:
                outer, self.visible = self.visible, at + 1
                frame.texts[node.text, depth] = self._texts_of(self.owner(node.text), depth)
                self.visible = outer
            return frame.texts[node.text, depth]
        if isinstance(node, tree.MemberNode) and isinstance(node.of, tree.NameNode):
            return self._constant_of(node.of.text, node.name)
        return None

    def _constant_of(self, declared: str, name: str) -> list[tree.StringNode] | None:
        """Return the text of a constant of a class in this file (`Names.QUEUE`)."""
        owner = self.owner(declared)
        self.followed |= {declared, name}
        if not isinstance(owner, tree.DeclarationNode):
            return None
        values = [
            child.value
            for child in _all(owner)
            if isinstance(child, tree.AssignmentNode)
            and isinstance(child.target, tree.NameNode)
            and child.target.text == name
        ]
        return [value for value in values if isinstance(value, tree.StringNode)] if len(values) == 1 else None

    def _texts_of(self, owner: Bound | None, depth: int) -> list[tree.StringNode] | None:
        self.step()
        if isinstance(owner, tree.LoopNode):
            return self._listed(owner.over, depth)
        if isinstance(owner, tree.StringNode | tree.NameNode):
            return self.texts(owner, depth + 1)
        return None

    def elements(self, node: tree.Node) -> list[tree.StringNode]:
        """Return the texts of a list; none if they are known only at run time."""
        return self._listed(node, 0) or []

    def _listed(self, node: tree.Node, depth: int) -> list[tree.StringNode] | None:
        function = node.function if isinstance(node, tree.CallNode) and not node.arguments else node
        if isinstance(function, tree.MemberNode) and function.name in _SAME_LIST:
            return self._listed(function.of, depth)
        if isinstance(node, tree.CallNode) and self.path(node.function) in self.words.lists:
            node = tree.ListNode(node.arguments)
        if isinstance(node, tree.NameNode):
            self.followed.add(node.text)
            owner = self.owner(node.text)
            return self._listed(owner, depth + 1) if isinstance(owner, tree.Node) and depth <= _DEEPEST else None
        if not isinstance(node, tree.ListNode):
            return None
        result: dict[int, tree.StringNode] = {}
        for child in node.inner:
            texts = self.texts(child, depth + 1)
            if texts is None:
                return None
            result |= {text.start: text for text in texts}
        return list(result.values())


def _is_method(item: Bound) -> bool:
    return isinstance(item, tree.FunctionNode) and item.is_method


def _is_empty(item: Bound) -> bool:
    """Return whether a name is given nothing, as where a module is missing: `None`, `{}`, `dict()`."""
    if isinstance(item, tree.CallNode):
        is_dict = isinstance(item.function, tree.NameNode) and item.function.text == "dict"
        return is_dict and not item.arguments and not item.named
    is_mapping = isinstance(item, tree.MappingNode) and not item.keys and not item.taken
    return is_mapping or (isinstance(item, tree.ConstantNode) and item.text is None)


def _is_wrapped(item: Bound, name: str) -> bool:
    """Return whether a name is given what a function makes of itself: `os = watched(os)`."""
    return isinstance(item, tree.CallNode) and any(
        isinstance(node, tree.NameNode) and node.text == name for node in item.arguments
    )


def _all(node: tree.Node) -> Iterator[tree.Node]:
    yield node
    for child in node.inner:
        yield from _all(child)
