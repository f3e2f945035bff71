"""Python classes whose annotated fields are settings: each is read from a variable of its name, its prefix before it.

They are known by their base's name, so what they read is probable.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Callable, Iterator, Mapping
from typing import NamedTuple

from coinjar.mentions.base import READ, Mention

_BASE = re.compile(r"\w*Settings(?:Base)?")
_DERIVED = re.compile(rb"class\s+\w+\s*\([^()]*Settings")
_ALIASES = ("validation_alias", "alias", "env")
_KINDS = {"int": "integer", "float": "number", "bool": "boolean", "AnyUrl": "url", "HttpUrl": "url"}
_DEEPEST = 4
"""Classes of settings inside of each other."""
_NOT_A_FIELD = ("ClassVar", "InitVar")
At = Callable[[int, int], int]
"""Returns the offset of a line (from 1) and a column in bytes."""


class _Field(NamedTuple):
    """A field: its own name's node, the texts that name it otherwise, its default and its kind."""

    name: ast.Name
    aliases: list[ast.Constant]
    default: str | None
    kind: str
    type: str


def mentions(parsed: ast.Module, data: bytes, at: At) -> Iterator[Mention]:
    """Yield what the fields of the settings classes read."""
    if not _DERIVED.search(data):
        return
    classes = [*_classes(parsed)]
    by_name = {node.name: node for node in classes}
    for node in classes:
        base = next((_last(base) for base in node.bases if _is_settings(base)), None)
        if base and not _is_configured_elsewhere(node):
            around = _Around(by_name, _configured(node, "env_nested_delimiter"), data, at)
            yield from _of_class(node, _configured(node, "env_prefix"), base, around)


class _Around(NamedTuple):
    """What is needed of a text: its classes, what joins a field with those inside it ("": nothing), its positions."""

    classes: Mapping[str, ast.ClassDef]
    delimiter: str
    data: bytes
    at: At


def _of_class(node: ast.ClassDef, prefix: str, base: str, around: _Around, depth: int = 0) -> Iterator[Mention]:
    for item in node.body:
        field = _field(item)
        if field is None:
            continue
        inner = around.classes.get(field.type)
        if inner is not None and around.delimiter and depth < _DEEPEST:
            below = f"{prefix}{field.name.id}{around.delimiter}"
            yield from _of_class(inner, below, base, around, depth + 1)
        elif inner is None:
            yield from _of_field(field, prefix, base, around.data, around.at)


def _classes(parsed: ast.Module) -> Iterator[ast.ClassDef]:
    """Yield every class, also those inside of others, of functions and of conditions."""
    waiting: list[ast.stmt] = [*parsed.body]
    while waiting:
        node = waiting.pop()
        if isinstance(node, ast.ClassDef):
            yield node
        for part in ("body", "orelse", "handlers", "finalbody"):
            waiting += getattr(node, part, ())


def _of_field(field: _Field, prefix: str, base: str, data: bytes, at: At) -> Iterator[Mention]:
    for alias in field.aliases:
        start = at(alias.lineno, alias.col_offset)
        start = data.find(str(alias.value).encode(), start)
        name = str(alias.value)
        yield Mention(name, start, start + len(name.encode()), READ, field.default, probable=base, kind=field.kind)
    if not field.aliases:
        start = at(field.name.lineno, field.name.col_offset)
        end = start + len(field.name.id.encode())
        name = (prefix + field.name.id).upper()
        yield Mention(name, start, end, READ, field.default, probable=base, kind=field.kind)


def _last(node: ast.AST) -> str:
    return node.id if isinstance(node, ast.Name) else node.attr if isinstance(node, ast.Attribute) else ""


def _is_settings(node: ast.AST) -> bool:
    return _BASE.fullmatch(_last(node)) is not None


def _configured(node: ast.ClassDef, setting: str) -> str:
    """Return a text of the class's configuration, in any of its forms; "" if it is not there."""
    for item in ast.walk(node):
        pairs: list[tuple[str | None, ast.AST]] = []
        if isinstance(item, ast.Call):
            pairs = [(keyword.arg, keyword.value) for keyword in item.keywords]
        elif isinstance(item, ast.Assign):
            pairs = [(_last(target), item.value) for target in item.targets]
        elif isinstance(item, ast.Dict):
            pairs = [
                (str(key.value) if isinstance(key, ast.Constant) else None, value)
                for key, value in zip(item.keys, item.values, strict=True)
            ]
        elif isinstance(item, ast.ClassDef):
            pairs = [(keyword.arg, keyword.value) for keyword in item.keywords]
        for name, value in pairs:
            if name == setting and isinstance(value, ast.Constant) and isinstance(value.value, str):
                return value.value
    return ""


def _is_configured_elsewhere(node: ast.ClassDef) -> bool:
    """Return whether a class takes its configuration, and so perhaps a prefix, from a function or name of its own."""
    given = [
        item.value
        for item in node.body
        if isinstance(item, ast.Assign | ast.AnnAssign)
        and any(_last(to) == "model_config" for to in (item.targets if isinstance(item, ast.Assign) else [item.target]))
    ]
    return any(
        isinstance(value, ast.Name | ast.Attribute)
        or (isinstance(value, ast.Call) and not _last(value.func).lower().endswith("dict"))
        for value in given
    )


def _field(item: ast.stmt) -> _Field | None:
    if not (isinstance(item, ast.AnnAssign) and isinstance(item.target, ast.Name)):
        return None
    name = item.target
    annotation, more = item.annotation, list[ast.expr]()
    if isinstance(annotation, ast.Subscript) and _last(annotation.value) == "Annotated":
        parts = annotation.slice.elts if isinstance(annotation.slice, ast.Tuple) else [annotation.slice]
        annotation, *more = parts
    kind = _last(annotation)
    outer = _last(annotation.value) if isinstance(annotation, ast.Subscript) else kind
    if name.id.startswith("_") or name.id == "model_config" or outer in _NOT_A_FIELD or _is_settings(annotation):
        return None  # a class of settings inside of this one has fields of its own
    value, aliases = item.value, list[ast.Constant]()
    for said in [call for call in (value, *more) if isinstance(call, ast.Call)]:
        named: Mapping[str | None, ast.expr] = {keyword.arg: keyword.value for keyword in said.keywords}
        aliases = aliases or next((found for key in _ALIASES if (found := _texts(named.get(key)))), [])
        if said is value:
            value = named.get("default") or (said.args[0] if said.args else None)
    return _Field(name, aliases, _literal(value), _KINDS.get(kind, ""), kind)


def _texts(node: ast.expr | None) -> list[ast.Constant]:
    if isinstance(node, ast.Constant):
        return [node] if isinstance(node.value, str) and node.value else []
    parts = node.args if isinstance(node, ast.Call) else node.elts if isinstance(node, ast.List | ast.Tuple) else []
    return [text for part in parts for text in _texts(part)]


def _literal(node: ast.expr | None) -> str | None:
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        inner = _literal(node.operand)
        return None if inner is None else f"-{inner}"
    if not isinstance(node, ast.Constant) or node.value is None or node.value is Ellipsis:
        return None
    return str(node.value).lower() if isinstance(node.value, bool) else str(node.value)
