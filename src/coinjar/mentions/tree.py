"""The few node types of a program that matter here.

Every language's syntax tree is converted to these; positions count bytes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence


class Node:
    """Any node, with its contents. `start` and `end` are its range."""

    __slots__ = ("end", "inner", "start")

    def __init__(self, inner: Sequence[Node] = (), start: int = 0, end: int = 0) -> None:
        self.inner = inner
        self.start, self.end = start, end


class StringNode(Node):
    """A string literal; `start` and `end` are those of its content. Not `exact`: its content is escaped."""

    __slots__ = ("exact", "text")

    def __init__(self, text: str, start: int, end: int, *, exact: bool = True) -> None:
        super().__init__((), start, end)
        self.text, self.exact = text, exact


class ConstantNode(Node):
    """A number or boolean literal; None for null."""

    __slots__ = ("text",)

    def __init__(self, text: str | None) -> None:
        super().__init__()
        self.text = text


class NameNode(Node):
    """A name."""

    __slots__ = ("text",)

    def __init__(self, text: str, start: int = 0, end: int = 0) -> None:
        super().__init__((), start, end)
        self.text = text


class MemberNode(Node):
    """`of.name`; the position is the name's."""

    __slots__ = ("name", "of")

    def __init__(self, of: Node, name: str, start: int = 0, end: int = 0) -> None:
        super().__init__((of,), start, end)
        self.of, self.name = of, name


class IndexNode(Node):
    """`of[key]`."""

    __slots__ = ("key", "of")

    def __init__(self, of: Node, key: Node) -> None:
        super().__init__((of, key))
        self.of, self.key = of, key


EACH = frozenset(
    "forEach for_each map flatMap each filter some every associateWith associate mapNotNull any all "
    "Where Select All Any ForEach reject select find detect partition any? all? none?".split()
)
"""Methods that call a function with each element of a list."""


class CallNode(Node):
    """`function(arguments, name=named)`."""

    __slots__ = ("arguments", "function", "named")

    def __init__(self, function: Node, arguments: Sequence[Node], named: dict[str, Node] | None = None) -> None:
        self.named = named or {}
        super().__init__((function, *arguments, *self.named.values()))
        self.function, self.arguments = function, arguments
        last = arguments[-1] if arguments else None
        if isinstance(function, MemberNode) and function.name in EACH and isinstance(last, FunctionNode):
            last.over = function.of


class FallbackNode(Node):
    """The left one, or the right one where it is missing."""

    __slots__ = ("left", "right")

    def __init__(self, left: Node, right: Node) -> None:
        super().__init__((left, right))
        self.left, self.right = left, right


class TruthTestNode(Node):
    """An operand that is tested for existence or truth only."""

    __slots__ = ("what",)

    def __init__(self, what: Node) -> None:
        super().__init__((what,))
        self.what = what


class ComparisonNode(Node):
    """A comparison. `negated` for "is not"."""

    __slots__ = ("left", "right")

    def __init__(self, left: Node, right: Node) -> None:
        super().__init__((left, right))
        self.left, self.right = left, right


class ContainsNode(Node):
    """Whether `of` contains `key`."""

    __slots__ = ("key", "of")

    def __init__(self, key: Node, of: Node) -> None:
        super().__init__((key, of))
        self.key, self.of = key, of


class ConditionalNode(Node):
    """`then` if `test`, else `other`; as a value or as a statement."""

    __slots__ = ("other", "test", "then")

    def __init__(self, test: Node, then: Node, other: Node) -> None:
        super().__init__((test, then, other))
        self.test, self.then, self.other = test, then, other


class AssignmentNode(Node):
    """`target = value`; with `keeps`, only where there is no value yet."""

    __slots__ = ("keeps", "target", "value")

    def __init__(self, target: Node, value: Node, *, keeps: bool = False) -> None:
        super().__init__((target, value))
        self.target, self.value, self.keeps = target, value, keeps
        if isinstance(value, FunctionNode) and isinstance(target, NameNode) and not value.name:
            value.name = target.text


class RemovalNode(Node):
    """The removal of a variable."""

    __slots__ = ("target",)

    def __init__(self, target: Node) -> None:
        super().__init__((target,))
        self.target = target


class DestructuringNode(Node):
    """Names destructured from a mapping: (key, local name, default). `short` if one word is both key and name."""

    __slots__ = ("entries", "of")

    def __init__(self, entries: Sequence[tuple[StringNode, str, Node | None, bool]], of: Node) -> None:
        super().__init__((of, *(default for _, _, default, _ in entries if default)))
        self.entries, self.of = entries, of


class ListNode(Node):
    """A list literal."""

    __slots__ = ()


class MappingNode(Node):
    """A mapping literal: its keys, and the mappings that it includes."""

    __slots__ = ("keys", "taken")

    def __init__(self, keys: Sequence[Node], values: Sequence[Node], taken: Sequence[Node]) -> None:
        super().__init__((*values, *taken))
        self.keys, self.taken = keys, taken


class FunctionNode(Node):
    """A function with its parameters' names; it has its own scope. `over`: a list it is called with, one by one;
    `given`: what its parameters are unless a caller says otherwise; `is_method`: its name alone does not mean it.
    """

    __slots__ = ("body", "given", "is_method", "name", "over", "parameters")

    def __init__(self, name: str, parameters: Sequence[str], body: Node, defaults: Sequence[Node] = ()) -> None:
        super().__init__((*defaults, body))
        self.name, self.parameters, self.body = name, parameters, body
        self.over: Node | None = None
        self.given: dict[str, Node] = {}
        self.is_method = False


class LoopNode(Node):
    """`body` for each element of `over`."""

    __slots__ = ("body", "over", "variable")

    def __init__(self, variable: str, over: Node, body: Node) -> None:
        super().__init__((over, body))
        self.variable, self.over, self.body = variable, over, body


class ImportNode(Node):
    """An imported name: its whole path, `*` as the name for everything below it."""

    __slots__ = ("name", "path")

    def __init__(self, name: str, path: str) -> None:
        super().__init__()
        self.name, self.path = name, path


class DeclarationNode(Node):
    """A name that the file declares."""

    __slots__ = ("name",)

    def __init__(self, name: str, inner: Sequence[Node] = ()) -> None:
        super().__init__(inner)
        self.name = name


def own(node: Node) -> Iterator[Node]:
    """Yield everything inside, except the contents of functions."""
    yield node
    if not isinstance(node, FunctionNode):
        for child in node.inner:
            yield from own(child)
