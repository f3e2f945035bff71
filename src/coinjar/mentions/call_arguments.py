"""What a call of a function says about a variable: names, keys of mappings, and fallbacks among its arguments."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence

from coinjar.mentions import tree
from coinjar.mentions.accesses import EnvironmentAccess
from coinjar.mentions.base import PRESENCE, READ, SET, Mention
from coinjar.mentions.language_terms import ANY_NAME, NAME, AccessPattern

_STAND_INS = frozenset({"default", "fallback", "otherwise", "default_value", "defaultvalue", "dflt"})
"""Names of parameters for a fallback."""


_PICKS = {"has": PRESENCE, "get": READ, "pick": READ, "set": SET, "unset": SET, "deleteProperty": SET}
"""Functions of a mapping and a name."""
_TEXTS = frozenset({"sprintf", "format", "join", "concat", "strcat", "printf"})
"""Functions that make a text of several values, in small letters."""


def makes_a_text(node: tree.Node) -> bool:
    """Return whether a value is made of several: a sum, a text with values in it."""
    called = last_name(node.function) if isinstance(node, tree.CallNode) else None
    is_sum = type(node) is tree.Node and len(node.inner) > 1
    return is_sum or (called is not None and called.lower() in _TEXTS)


def picked_from(node: tree.CallNode, is_map: Callable[[tree.Node], bool]) -> EnvironmentAccess | None:
    """Return what a function of a library picks from the environment, or changes: `_.has(process.env, "X")`."""
    name = last_name(node.function) or ""
    if name not in _PICKS or len(node.arguments) < 2 or not is_map(node.arguments[0]):
        return None
    _, key, *rest = node.arguments
    keys = list(key.inner) if isinstance(key, tree.ListNode) else [key, *rest] if name == "pick" else [key]
    return EnvironmentAccess(keys, _PICKS[name], rest[0] if rest and name == "get" else None)


def stand_in(function: tree.FunctionNode, node: tree.CallNode, at: int) -> tree.Node | None:
    """Return a call's fallback for a missing value: a named argument, an argument of such a parameter, or the one after
    the variable's name.
    """
    pairs = [
        (key, value)
        for each in node.arguments
        if isinstance(each, tree.MappingNode)
        for key, value in zip(each.keys, each.inner, strict=False)
    ]  # Ruby's named arguments
    named = next((value for name, value in node.named.items() if name in _STAND_INS), None)
    named = named or next(
        (value for key, value in pairs if isinstance(key, tree.ConstantNode) and key.text in _STAND_INS), None
    )
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


def by_pattern(how: AccessPattern, node: tree.CallNode) -> EnvironmentAccess | None:
    """Return the access of a call of a function that has this pattern; None without the variable's name."""
    if how.all_names:
        named = [
            tree.StringNode(name, child.start, child.start + len(name))
            for name, child in node.named.items()
            if how.access == SET
        ]
        return EnvironmentAccess(
            [*(keys_of(node.arguments) if how.access == SET else node.arguments), *named], how.access
        )
    given = in_order_of(node)
    if how.expands:
        return EnvironmentAccess(given[:1], how.access, expands=how.expands)
    if len(given) <= how.name:
        return None
    default = given[how.default] if how.default is not None and len(given) > how.default else node.named.get("default")
    return EnvironmentAccess([given[how.name]], how.access, default)


def destructured(node: tree.DestructuringNode, written: Callable[[tree.Node | None], str | None]) -> Iterator[Mention]:
    """Yield what names destructured from the environment read."""
    for key, name, default, short in node.entries:
        renamed, local = (f"{{}}: {name}", "") if short else ("{}", name)
        yield Mention(key.text, key.start, key.end, READ, written(default), renamed=renamed, local=local)


def gives_a_value(test: tree.Node) -> bool:
    """Return whether a test gives the value that it tests to what follows: a name, or C#'s `TryParse(…, out n)`."""
    return isinstance(test, tree.AssignmentNode) or (
        isinstance(test, tree.CallNode) and last_name(test.function) == "TryParse"
    )


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


def is_name(key: tree.Node | None, given_to: str) -> bool:
    """Return whether a text names a variable: in capitals; in any case if the called name contains `var`."""
    pattern = ANY_NAME if "var" in given_to.lower() else NAME
    return isinstance(key, tree.StringNode) and key.exact and pattern.fullmatch(key.text) is not None


def is_own(node: tree.Node) -> bool:
    """Return whether a function is called by its bare name, or as the object's own."""
    if isinstance(node, tree.NameNode):
        return True
    of = node.of if isinstance(node, tree.MemberNode) else None
    of = of.function if isinstance(of, tree.CallNode) else of
    if isinstance(of, tree.MemberNode) and of.name == "class":
        return is_own(of)  # Ruby's `self.class`
    return isinstance(of, tree.NameNode) and of.text in ("this", "self", "static", "$this")


def pieces(text: tree.StringNode, pattern: re.Pattern[str]) -> list[tree.StringNode]:
    """Return the names that a text refers to: the last group of each match of a pattern."""
    nodes: list[tree.StringNode] = []
    for match in pattern.finditer(text.text):
        group = match.lastindex or 0
        start = text.start + len(text.text[: match.start(group)].encode())
        nodes.append(tree.StringNode(match[group], start, start + len(match[group].encode())))
    return nodes


def alternatives(keys: Iterable[tree.Node]) -> Iterator[tree.Node]:
    """Yield the names, of a choice between two of them both."""
    for key in keys:
        sides = (
            (key.left, key.right)
            if isinstance(key, tree.FallbackNode)
            else (key.then, key.other)
            if isinstance(key, tree.ConditionalNode)
            else None
        )
        yield from alternatives(sides) if sides else (key,)


def paired(arguments: Iterable[tree.Node]) -> Iterator[tree.Node]:
    """Yield what names the variables of texts `NAME=value`, also of those that a sum or a call makes."""
    for node in arguments:
        if isinstance(node, tree.ConditionalNode):
            yield from paired([node.then, node.other])
            continue
        parts = node.arguments if isinstance(node, tree.CallNode) else [*_summands(node)]
        first = parts[0] if parts else None
        if isinstance(first, tree.StringNode) and (first is node or "=" in first.text):
            name = first.text.partition("=")[0]
            if not name:
                yield node  # what stands before is computed
            elif "%" not in name:
                yield tree.StringNode(name, first.start, first.start + len(name.encode()))
            else:  # a call puts it there: `sprintf("%s=%s", name, value)`
                yield parts[1] if name == "%s" and len(parts) > 1 else node
        elif len(parts) > 1 and isinstance(parts[1], tree.StringNode) and parts[1].text.startswith("="):
            yield parts[0]
        elif not isinstance(node, tree.CallNode) and any(
            isinstance(part, tree.StringNode) and "=" in part.text for part in parts
        ):
            yield node


def _summands(node: tree.Node) -> Iterator[tree.Node]:
    """Yield the parts of a sum, in order."""
    if type(node) is tree.Node:
        for child in node.inner:
            yield from _summands(child)
    else:
        yield node


def is_compared_with_empty(node: tree.ComparisonNode) -> bool:
    """Return whether something is compared with the empty text."""
    return any(isinstance(side, tree.StringNode) and not side.text for side in (node.left, node.right))
