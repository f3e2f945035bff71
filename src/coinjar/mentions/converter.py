"""Convert a parser's syntax tree to ours: only what surrounds the relevant words, so that a long file is cheap."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Callable, Iterable, Sequence
from typing import ClassVar

from tree_sitter import Language as Grammar
from tree_sitter import Node as Syntax
from tree_sitter import Parser

from coinjar.mentions import tree
from coinjar.mentions.base import TextMentions
from coinjar.mentions.helper_calls import places
from coinjar.mentions.language_terms import LanguageTerms
from coinjar.mentions.reading_rounds import read_again
from coinjar.mentions.syntax import parse

_UNARY = ("unary_expression", "prefix_unary_expression", "prefix_expression", "unary_op_expression", "unary")
_NEGATIVE = re.compile(rb"-\d[\d.]*")


class SyntaxConverter:
    """Converts nodes of one language's grammar.

    A subclass has a method for each type of node that it handles, named `_` and the type.
    """

    falls_back: ClassVar[frozenset[str]] = frozenset()
    """Operators of a value with a fallback."""
    joins: ClassVar[frozenset[str]] = frozenset()
    """Operators whose left side is only tested for truth."""
    asks: ClassVar[frozenset[str]] = frozenset()
    """Operators whose both sides are."""
    compares: ClassVar[frozenset[str]] = frozenset({"==", "!="})
    words: ClassVar[LanguageTerms]
    root: ClassVar[bytes]
    """A regular expression of the words by which the environment is accessed."""

    def __init__(self, data: bytes, also: Iterable[str]) -> None:
        self.data = data
        self.also = also
        self.spots = places(data, self.root, also)

    def touches(self, node: Syntax) -> bool:
        """Return whether one of the words is inside a node."""
        at = bisect_left(self.spots, node.start_byte)
        return at < len(self.spots) and self.spots[at] < node.end_byte

    def convert(self, node: Syntax | None) -> tree.Node:
        """Return the converted node; an empty one for None."""
        if node is None:
            return tree.Node()
        if node.type in _UNARY and _NEGATIVE.fullmatch(self.data, node.start_byte, node.end_byte):
            return tree.ConstantNode(self.word(node))
        method: Callable[[Syntax], tree.Node] = getattr(self, f"_{node.type}", self.any)
        grown = method(node)
        if not grown.end:
            grown.start, grown.end = node.start_byte, node.end_byte
        return grown

    def any(self, node: Syntax) -> tree.Node:
        """Convert a node of an irrelevant type: only its contents."""
        return tree.Node(self.each(node.named_children))

    def _throw_expression(self, node: Syntax) -> tree.Node:
        """Convert what is thrown: its message is no value that could be fallen back to."""
        return tree.Node([tree.Node(), *self.each(node.named_children)])

    _throw = _throw_expression

    def each(self, nodes: Sequence[Syntax]) -> list[tree.Node]:
        """Return the relevant nodes."""
        return [self.convert(node) for node in nodes if self.touches(node)]

    def all(self, nodes: Sequence[Syntax]) -> list[tree.Node]:
        """Return all nodes except comments."""
        return [self.convert(node) for node in nodes if "comment" not in node.type]

    def arguments(self, nodes: Sequence[Syntax]) -> tuple[list[tree.Node], dict[str, tree.Node]]:
        """Return a call's arguments, and the named ones, each at the place of its name."""
        given, named = list[tree.Node](), dict[str, tree.Node]()
        for node in [node for node in nodes if "comment" not in node.type]:
            name = self.argument_name(node)
            if name is None:
                given.append(self.convert(node))
            else:
                value = self.convert(node.named_children[-1])
                named[self.word(name)] = tree.Node([value], name.start_byte, name.end_byte)
        return given, named

    def argument_name(self, node: Syntax) -> Syntax | None:
        """Return the name of a named argument; None for any other."""
        return node.child_by_field_name("name") if node.type == "argument" else None

    def field(self, node: Syntax, name: str) -> tree.Node:
        return self.convert(node.child_by_field_name(name))

    def word(self, node: Syntax | None) -> str:
        """Return the text of a node."""
        return self.data[node.start_byte : node.end_byte].decode(errors="replace") if node else ""

    def name(self, node: Syntax) -> tree.NameNode:
        return tree.NameNode(self.word(node), node.start_byte, node.end_byte)

    def member(self, node: Syntax, of: str, name: str) -> tree.Node:
        last = node.child_by_field_name(name)
        return tree.MemberNode(
            self.field(node, of), self.word(last), last.start_byte if last else 0, last.end_byte if last else 0
        )

    def binary(self, node: Syntax) -> tree.Node:
        """Convert two sides with an operator between them."""
        left, right, sign = (
            self.field(node, "left"),
            self.field(node, "right"),
            self.word(node.child_by_field_name("operator")),
        )
        if sign in self.falls_back:
            return tree.FallbackNode(left, right)
        if sign in self.joins:
            return tree.Node([tree.TruthTestNode(left), right])
        if sign in self.asks:
            return tree.Node([tree.TruthTestNode(left), tree.TruthTestNode(right)])
        return tree.ComparisonNode(left, right) if sign in self.compares else tree.Node([left, right])

    def choice(self, node: Syntax) -> tree.Node:
        """Convert a condition and its consequence, as a value or as a statement."""
        return tree.ConditionalNode(
            self.field(node, "condition"), self.field(node, "consequence"), self.field(node, "alternative")
        )

    def assign(self, node: Syntax) -> tree.Node:
        return tree.AssignmentNode(self.field(node, "left"), self.field(node, "right"))

    def assign_if_none(self, node: Syntax) -> tree.Node:
        """Convert an assignment that may only set a missing value."""
        sign = self.word(node.child_by_field_name("operator"))
        return tree.AssignmentNode(self.field(node, "left"), self.field(node, "right"), keeps=sign in ("||=", "??="))

    def function(self, node: Syntax) -> tree.Node:
        """Convert a function with named parameters; one without a body is only declared."""
        parameters, body = node.child_by_field_name("parameters"), node.child_by_field_name("body")
        if body is None:
            return tree.Node()
        names = (
            [self.word(child.child_by_field_name("name")) for child in parameters.named_children] if parameters else []
        )
        return tree.FunctionNode(self.word(node.child_by_field_name("name")), names, self.convert(body))

    def declared(self, node: Syntax) -> tree.Node:
        """Convert a class or similar: its name is declared in the file."""
        return tree.DeclarationNode(self.word(node.child_by_field_name("name")), [self.field(node, "body")])

    def items(self, node: Syntax) -> tree.Node:
        """Convert a list literal."""
        return tree.ListNode(self.all(node.named_children))

    def text(self, node: Syntax, inner: Sequence[str], *, opens: str = "\"'`") -> tree.Node:
        """Convert a string: a text if it is one piece, or empty; otherwise its interpolations."""
        parts = [child for child in node.named_children if child.type not in ("string_start", "string_end")]
        if not parts:
            word = self.word(node)
            bare = word.lstrip("@rRbBuU#").strip("#")
            width = next(
                (
                    count
                    for count in (3, 1)
                    if bare[:1] and bare[:1] in opens and bare.startswith(bare[0] * count) and len(bare) >= 2 * count
                ),
                0,
            )
            start = node.start_byte + word.index(bare) + width if bare else node.start_byte
            return tree.StringNode(bare[width : len(bare) - width], start, start + len(bare.encode()) - 2 * width)
        if all(node.type in inner for node in parts):
            start, end = parts[0].start_byte, parts[-1].end_byte
            plain = not any("escape" in node.type for node in parts)
            return tree.StringNode(self.data[start:end].decode(errors="replace"), start, end, exact=plain)
        return tree.Node(self.each(parts))

    def value(self, node: Syntax) -> tree.Node:
        word = self.word(node)
        number = word.replace("_", "") if word[:1].isdigit() else word  # `86_400` is 86400
        return tree.ConstantNode(number.rstrip("lLfFdDuU_").lower())

    def nothing(self, node: Syntax) -> tree.Node:
        del node
        return tree.ConstantNode(None)

    def inside(self, node: Syntax) -> tree.Node:
        """Convert what a node wraps: parentheses, casts."""
        children = [child for child in node.named_children if "comment" not in child.type]
        return self.convert(children[0]) if children else tree.Node()


def reader(
    grammar: Callable[[], object], grower: type[SyntaxConverter], respelled: Callable[[bytes], bytes] = bytes
) -> Callable[[bytes, frozenset[str]], TextMentions]:
    """Return the reader of a language; it builds the tree again with the words that the first pass found relevant.

    `respelled` returns the text, of the same length, without spellings that the grammar does not understand.
    """
    parsers: list[Parser] = []

    def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
        if not parsers:
            parsers.append(Parser(Grammar(grammar())))
        root = parse(parsers[0], respelled(data))
        return read_again(lambda also: grower(data, also).convert(root), grower.words, helpers)

    return find
