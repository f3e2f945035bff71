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


def build_json_tree(text: str, file: str) -> TreeNode:
    """Return the tree.

    A string has the style `"`, every other scalar none. Raises InputError with the location of the fault.
    """
    try:
        tree, end = _value(text, _skip(text, 0), 0)
        if _skip(text, end) != len(text):
            raise JSONDecodeError("Unexpected text after the end", text, _skip(text, end))
    except JSONDecodeError as fault:
        where = location_of(text, fault.pos, file)
        raise InputError(
            f"this is not JSON: {fault.msg[0].lower()}{fault.msg[1:]}",
            hint="correct it there",
            location=where,
            code="not-json",
        ) from None
    return tree


def _skip(text: str, at: int) -> int:
    match = _BLANK.match(text, at)
    return match.end() if match else at


def _value(text: str, at: int, depth: int) -> tuple[TreeNode, int]:
    if depth > DEEPEST:
        raise JSONDecodeError(f"It is nested more than {DEEPEST} levels deep", text, at)
    letter = text[at : at + 1]
    if letter == '"':
        words, end = scanstring(text, at + 1)
        return _scalar(at, end, words, '"'), end
    if letter in ("{", "["):
        return _collection(text, at, depth)
    bare = LITERAL.match(text, at)
    if bare is None:
        raise JSONDecodeError("A value is missing", text, at)
    return _scalar(at, bare.end(), bare.group(), None), bare.end()


def _scalar(start: int, end: int, text: str, style: str | None) -> TreeNode:
    tree = TreeNode("scalar", start, end)
    tree.text, tree.style = text, style
    return tree


def _collection(text: str, start: int, depth: int) -> tuple[TreeNode, int]:
    is_map = text[start] == "{"
    close = "}" if is_map else "]"
    tree = TreeNode("map" if is_map else "seq", start, start)
    tree.flow = True
    at = _skip(text, start + 1)
    while text[at : at + 1] != close:
        if is_map:
            key, at = _key(text, at)
        value, at = _value(text, at, depth + 1)
        if is_map:
            tree.members.append(TreeMember(key, value))
        else:
            tree.elements.append(value)
        at = _skip(text, at)
        if text[at : at + 1] == ",":
            comma, at = at, _skip(text, at + 1)
            if text[at : at + 1] == close:
                raise JSONDecodeError("There is a comma before the end", text, comma)
        elif text[at : at + 1] != close:
            raise JSONDecodeError(f"Expecting ',' or '{close}'", text, at)
    tree.end = tree.last = at + 1
    return tree, at + 1


def _key(text: str, at: int) -> tuple[TreeNode, int]:
    if text[at : at + 1] != '"':
        raise JSONDecodeError("Expecting a name in double quotes", text, at)
    name, end = scanstring(text, at + 1)
    colon = _skip(text, end)
    if text[colon : colon + 1] != ":":
        raise JSONDecodeError("Expecting ':'", text, colon)
    return _scalar(at, end, name, '"'), _skip(text, colon + 1)
