"""What a call of a function says about a variable: names, keys of mappings, and fallbacks among its arguments."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence

from coinjar.mentions import tree

_STAND_INS = frozenset({"default", "fallback", "otherwise", "default_value", "defaultvalue", "dflt"})
"""Names of parameters for a fallback."""


def stand_in(function: tree.FunctionNode, node: tree.CallNode, at: int) -> tree.Node | None:
    """Return a call's fallback for a missing value: a named argument, an argument of such a parameter, or the one after
    the variable's name.
    """
    named = next((value for name, value in node.named.items() if name in _STAND_INS), None)
    place = next(
        (index for index, name in enumerate(function.parameters) if name.lstrip("$").lower() in _STAND_INS), at + 1
    )
    return named or (node.arguments[place] if len(node.arguments) > place else None)


def in_order_of(node: tree.CallNode) -> list[tree.Node]:
    """Return a call's arguments, then the values of the named ones other than a fallback, as they are written."""
    named = [value.inner[0] for name, value in node.named.items() if value.inner and name not in _STAND_INS]
    return [*node.arguments, *named]


def argument_of(function: tree.FunctionNode, node: tree.CallNode, at: int) -> tree.Node | None:
    """Return what a call gives one of a function's parameters, by its name or its place; None if nothing."""
    named = node.named.get(function.parameters[at].lstrip("$"))
    if named is not None and named.inner:
        return named.inner[0]
    return node.arguments[at] if len(node.arguments) > at else None


def keys_of(nodes: Iterable[tree.Node]) -> Iterator[tree.Node]:
    """Yield the names among arguments: the keys of mappings, and the others as they are."""
    for node in nodes:
        if isinstance(node, tree.MappingNode):
            yield from (key for key in node.keys if isinstance(key, tree.StringNode))
        else:
            yield node


def keys_of_mappings(nodes: Iterable[tree.Node]) -> Iterator[tree.StringNode]:
    """Yield the keys of the mappings among arguments."""
    for node in nodes:
        if isinstance(node, tree.MappingNode):
            yield from (key for key in node.keys if isinstance(key, tree.StringNode))


def tested_key(arguments: Sequence[tree.Node], is_map: Callable[[tree.Node], bool]) -> tree.Node | None:
    """Return what is looked for in a mapping: the two arguments come in any order. None without a mapping."""
    pairs = (arguments[:2], arguments[1::-1]) if len(arguments) > 1 else ()
    return next((key for key, mapping in pairs if is_map(mapping)), None)


def keys_of_map(node: tree.Node) -> Iterator[tree.Node]:
    """Yield the keys of a map that a call makes: `Map.of("A", "1")`, `mapOf("A" to "1")`."""
    if not isinstance(node, tree.CallNode):
        return
    if last_name(node.function) == "of":
        yield from (key for key in node.arguments[::2] if isinstance(key, tree.StringNode))
    for pair in node.arguments if last_name(node.function) == "mapOf" else ():
        yield from (key for key in pair.inner[:1] if isinstance(key, tree.StringNode))


def last_name(node: tree.Node) -> str | None:
    """Return the last word of a function's name; None for other expressions."""
    return node.text if isinstance(node, tree.NameNode) else node.name if isinstance(node, tree.MemberNode) else None


def is_own(node: tree.Node) -> bool:
    """Return whether a function is called by its bare name, or as the object's own."""
    return isinstance(node, tree.NameNode) or (
        isinstance(node, tree.MemberNode)
        and isinstance(node.of, tree.NameNode)
        and node.of.text in ("this", "self", "static", "$this")
    )


def pieces(text: tree.StringNode, pattern: re.Pattern[str]) -> list[tree.Node]:
    """Return the names that a text refers to: the last group of each match of a pattern."""
    nodes: list[tree.Node] = []
    for match in pattern.finditer(text.text):
        group = match.lastindex or 0
        start = text.start + len(text.text[: match.start(group)].encode())
        nodes.append(tree.StringNode(match[group], start, start + len(match[group].encode())))
    return nodes


def paired(arguments: Iterable[tree.Node]) -> Iterator[tree.Node]:
    """Yield the names of texts `NAME=value`."""
    for text in arguments:
        if isinstance(text, tree.StringNode):
            name = text.text.partition("=")[0]
            yield tree.StringNode(name, text.start, text.start + len(name.encode()))


def is_compared_with_empty(node: tree.ComparisonNode) -> bool:
    """Return whether something is compared with the empty text."""
    return any(isinstance(side, tree.StringNode) and not side.text for side in (node.left, node.right))
