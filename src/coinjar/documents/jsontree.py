"""Parse a JSON text (RFC 8259) into the same tree of positions as a YAML text."""

from __future__ import annotations

import re

# Public in practice; the stubs leave it out.
from json.decoder import JSONDecodeError, scanstring  # type: ignore[attr-defined]

from coinjar.core.errors import InputError, location_of
from coinjar.documents.json_literal import LITERAL
from coinjar.documents.tree import TreeMember, TreeNode
from coinjar.documents.yamltext import DEEPEST

_BLANK = re.compile(r"[ \t\n\r]*")


def build_json_tree(source: str, file: str) -> TreeNode:
    """Return the tree.

    A string has the style `"`, every other scalar none. Raises InputError with the location of the fault.
    """
    try:
        tree, end = _value(source, _skip(source, 0), 0)
        if _skip(source, end) != len(source):
            raise JSONDecodeError("Unexpected text after the end", source, _skip(source, end))
    except JSONDecodeError as fault:
        where = location_of(source, fault.pos, file)
        raise InputError(
            f"this is not JSON: {fault.msg[0].lower()}{fault.msg[1:]}",
            hint="correct it there",
            location=where,
            code="not-json",
        ) from None
    return tree


def _skip(source: str, at: int) -> int:
    match = _BLANK.match(source, at)
    return match.end() if match else at


def _value(source: str, at: int, depth: int) -> tuple[TreeNode, int]:
    if depth > DEEPEST:
        raise JSONDecodeError(f"It is nested more than {DEEPEST} levels deep", source, at)
    letter = source[at : at + 1]
    if letter == '"':
        words, end = scanstring(source, at + 1)
        return _scalar(at, end, words, '"'), end
    if letter in ("{", "["):
        return _collection(source, at, depth)
    bare = LITERAL.match(source, at)
    if bare is None:
        raise JSONDecodeError("A value is missing", source, at)
    return _scalar(at, bare.end(), bare.group(), None), bare.end()


def _scalar(start: int, end: int, source: str, style: str | None) -> TreeNode:
    tree = TreeNode("scalar", start, end)
    tree.text, tree.style = source, style
    return tree


def _collection(source: str, start: int, depth: int) -> tuple[TreeNode, int]:
    is_map = source[start] == "{"
    close = "}" if is_map else "]"
    tree = TreeNode("map" if is_map else "seq", start, start)
    tree.flow = True
    at = _skip(source, start + 1)
    while source[at : at + 1] != close:
        if is_map:
            key, at = _key(source, at)
        value, at = _value(source, at, depth + 1)
        if is_map:
            tree.members.append(TreeMember(key, value))
        else:
            tree.elements.append(value)
        at = _skip(source, at)
        if source[at : at + 1] == ",":
            comma, at = at, _skip(source, at + 1)
            if source[at : at + 1] == close:
                raise JSONDecodeError("There is a comma before the end", source, comma)
        elif source[at : at + 1] != close:
            raise JSONDecodeError(f"Expecting ',' or '{close}'", source, at)
    tree.end = tree.last = at + 1
    return tree, at + 1


def _key(source: str, at: int) -> tuple[TreeNode, int]:
    if source[at : at + 1] != '"':
        raise JSONDecodeError("Expecting a name in double quotes", source, at)
    name, end = scanstring(source, at + 1)
    colon = _skip(source, end)
    if source[colon : colon + 1] != ":":
        raise JSONDecodeError("Expecting ':'", source, colon)
    return _scalar(at, end, name, '"'), _skip(source, colon + 1)
