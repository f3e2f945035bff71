"""The few shapes of a program that matter here. Every language's syntax tree is turned into these; positions count bytes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence


class Node:
    """Anything, with what is inside of it. `start` and `end` are where it stands."""

    __slots__ = ("end", "inner", "start")

    def __init__(self, inner: Sequence[Node] = (), start: int = 0, end: int = 0) -> None:
        self.inner = inner
        self.start, self.end = start, end


class StringNode(Node):
    """A string that is written out; `start` and `end` are those of its content. Not `exact`: its content is spelled in another way (escapes)."""

    __slots__ = ("exact", "text")

    def __init__(self, text: str, start: int, end: int, *, exact: bool = True) -> None:
        super().__init__((), start, end)
        self.text, self.exact = text, exact


class ConstantNode(Node):
    """A number or truth value that is written out; None for null."""

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


class CallNode(Node):
    """`function(arguments, name=named)`."""

    __slots__ = ("arguments", "function", "named")

    def __init__(self, function: Node, arguments: Sequence[Node], named: dict[str, Node] | None = None) -> None:
        self.named = named or {}
        super().__init__((function, *arguments, *self.named.values()))
        self.function, self.arguments = function, arguments


class FallbackNode(Node):
    """The left one, or where it is nothing the right one."""

    __slots__ = ("left", "right")

    def __init__(self, left: Node, right: Node) -> None:
        super().__init__((left, right))
        self.left, self.right = left, right


class TruthTestNode(Node):
    """Something that is only asked for being there, or for being true."""

    __slots__ = ("what",)

    def __init__(self, what: Node) -> None:
        super().__init__((what,))
        self.what = what


class ComparisonNode(Node):
    """Two things held against each other. `negated` for "is not"."""

    __slots__ = ("left", "right")

    def __init__(self, left: Node, right: Node) -> None:
        super().__init__((left, right))
        self.left, self.right = left, right


class ContainsNode(Node):
    """Whether `of` has `key`."""

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
    """`target = value`; with `keeps`, only where there is none yet."""

    __slots__ = ("keeps", "target", "value")

    def __init__(self, target: Node, value: Node, *, keeps: bool = False) -> None:
        super().__init__((target, value))
        self.target, self.value, self.keeps = target, value, keeps
        if isinstance(value, FunctionNode) and isinstance(target, NameNode) and not value.name:
            value.name = target.text


class RemovalNode(Node):
    """Takes something away."""

    __slots__ = ("target",)

    def __init__(self, target: Node) -> None:
        super().__init__((target,))
        self.target = target


class DestructuringNode(Node):
    """Names taken out of a mapping: (key, name here, default). `short` if one word is both key and name."""

    __slots__ = ("entries", "of")

    def __init__(self, entries: Sequence[tuple[StringNode, str, Node | None, bool]], of: Node) -> None:
        super().__init__((of, *(default for _, _, default, _ in entries if default)))
        self.entries, self.of = entries, of


class ListNode(Node):
    """A list that is written out."""

    __slots__ = ()


class MappingNode(Node):
    """A mapping that is written out: its keys, and the mappings that it takes up whole."""

    __slots__ = ("keys", "taken")

    def __init__(self, keys: Sequence[Node], values: Sequence[Node], taken: Sequence[Node]) -> None:
        super().__init__((*values, *taken))
        self.keys, self.taken = keys, taken


class FunctionNode(Node):
    """A function with its parameters' names; a scope of its own."""

    __slots__ = ("body", "name", "parameters")

    def __init__(self, name: str, parameters: Sequence[str], body: Node, defaults: Sequence[Node] = ()) -> None:
        super().__init__((*defaults, body))
        self.name, self.parameters, self.body = name, parameters, body


class LoopNode(Node):
    """`body` for each of `over`."""

    __slots__ = ("body", "over", "variable")

    def __init__(self, variable: str, over: Node, body: Node) -> None:
        super().__init__((over, body))
        self.variable, self.over, self.body = variable, over, body


class ImportNode(Node):
    """A name that stands for something from elsewhere: its whole path, `*` as a name for everything below it."""

    __slots__ = ("name", "path")

    def __init__(self, name: str, path: str) -> None:
        super().__init__()
        self.name, self.path = name, path


class DeclarationNode(Node):
    """A name that something of the file's own has."""

    __slots__ = ("name",)

    def __init__(self, name: str, inner: Sequence[Node] = ()) -> None:
        super().__init__(inner)
        self.name = name


def own(node: Node) -> Iterator[Node]:
    """Everything inside, functions' insides left out."""
    yield node
    if not isinstance(node, FunctionNode):
        for child in node.inner:
            yield from own(child)
