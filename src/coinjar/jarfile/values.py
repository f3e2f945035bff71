"""Values in YAML: a text, one of the forms, or data for the kinds `list` and `json`."""

from __future__ import annotations

import re
from collections.abc import Callable
from json import dumps

from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from coinjar.core.definition import UNSET, Command, Content, Definition, FromEnv, FromFile, FromJar, FromStore
from coinjar.core.errors import CoinJarError
from coinjar.core.kinds import join_list
from coinjar.core.model import Variable
from coinjar.core.references import parse_template
from coinjar.documents.field_reader import NULL_HINT, FieldReader
from coinjar.documents.yamltext import is_null

_MAIN = ("text", "command", "file", "from_env", "stored_in", "from_jar", "unset")
_EXTRAS = (
    ("may_be_empty", "command"),
    ("base64", "file"),
    ("key", "stored_in"),
    ("name", "from_jar"),
    ("service", "from_jar"),
    ("stage", "from_jar"),
)
"""Further keys, each with the form that it belongs to."""
FORMS = (*_MAIN, *(extra for extra, _ in _EXTRAS))
_JSON_WORD = (
    r"null|true|false|-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][-+]?[0-9]+)?"  # YAML 1.2.2, 10.2.1.2, as JSON writes it
)


def read_value(fields: FieldReader, variable: Variable, node: Node) -> Definition | None:
    """Return one value of a variable; None after a fault."""
    content = _content(fields, variable, node)
    if content is None:
        return None
    mark = node.start_mark
    return Definition(content, fields.file, mark.line + 1, mark.column + 1)


def _content(fields: FieldReader, variable: Variable, node: Node) -> Content | None:
    if isinstance(node, ScalarNode):
        if is_null(node):
            fields.fault(node, f"{variable.name} has a bare null, which is ambiguous", NULL_HINT, "null")
            return None
        return str(node.value)
    if variable.kind == "json":
        return _as_json(fields, variable, node)
    if isinstance(node, SequenceNode):
        if variable.kind == "list":
            return _as_list(fields, variable, node)
        hint = "declare it as kind: list or kind: json" if variable.kind == "text" else "write one text"
        fields.fault(node, f"{variable.name} is a list, but its kind is {variable.kind}", hint)
        return None
    return _form(fields, variable, node)


def _form(fields: FieldReader, variable: Variable, node: Node) -> Content | None:
    before = len(fields.faults)
    what = f"the value of {variable.name}"
    if not any(name in _MAIN for name, _, _ in fields.members(node, what)):
        del fields.faults[before:]
        fields.fault(
            node,
            f"{what} is a mapping, but its kind is {variable.kind}",
            "declare it as kind: json, or write a form such as {file: path}",
        )
        return None
    result = fields.fields(node, what, FORMS)
    main = [name for name in _MAIN if name in result]
    if len(main) != 1:
        fields.fault(
            node,
            f"{what} must have one form, but has {' and '.join(main) or 'none'}",
            f"keep one of {', '.join(_MAIN)}",
        )
        return None
    for extra, owner in _EXTRAS:
        if extra in result and main != [owner]:
            fields.fault(
                result[extra], f"'{extra}' is allowed only with '{owner}'", f"remove it, or write {{{owner}: …}}"
            )
    content = _one_form(fields, what, main[0], result)
    return content if len(fields.faults) == before else None


def _one_form(fields: FieldReader, what: str, form: str, result: dict[str, Node]) -> Content | None:
    node = result[form]
    if form == "text":
        try:
            return parse_template(fields.text(node, f"'text' of {what}"))
        except CoinJarError as fault:
            fields.fault(node, fault.message, fault.hint, fault.code)
            return None
    if form == "command":
        argv = tuple(text for text, _ in fields.texts(node, f"'command' of {what}"))
        if not argv:
            fields.fault(node, f"'command' of {what} is empty", "write [program, argument]")
        return Command(argv, fields.flag(result.get("may_be_empty"), "may_be_empty"))
    if form == "file":
        return FromFile(fields.text(node, f"'file' of {what}"), fields.flag(result.get("base64"), "base64"))
    if form in _READERS:
        return _READERS[form](fields, what, result)
    if not fields.flag(node, "unset"):
        fields.fault(node, f"'unset' of {what} can only be true", "write {unset: true}, or a value")
    return UNSET


def _environment(fields: FieldReader, what: str, result: dict[str, Node]) -> FromEnv:
    return FromEnv(fields.text(result["from_env"], f"'from_env' of {what}"))


def _stored(fields: FieldReader, what: str, result: dict[str, Node]) -> FromStore:
    if "key" not in result:
        fields.fault(result["stored_in"], f"{what} has no key", "write {stored_in: DESTINATION, key: KEY}")
    return FromStore(
        fields.text(result["stored_in"], f"'stored_in' of {what}"), fields.text(result.get("key"), f"'key' of {what}")
    )


def _of_another(fields: FieldReader, what: str, result: dict[str, Node]) -> FromJar:
    if "name" not in result:
        fields.fault(result["from_jar"], f"{what} has no name", "write {from_jar: PATH, name: NAME}")
    return FromJar(
        fields.text(result["from_jar"], f"'from_jar' of {what}"),
        *(fields.text(result.get(key), f"'{key}' of {what}") for key in ("name", "service", "stage")),
    )


_READERS: dict[str, Callable[[FieldReader, str, dict[str, Node]], Content]] = {
    "from_env": _environment,
    "stored_in": _stored,
    "from_jar": _of_another,
}


def _as_list(fields: FieldReader, variable: Variable, node: SequenceNode) -> str | None:
    elements = []
    for item in node.value:
        if not isinstance(item, ScalarNode):
            fields.fault(
                item,
                f"an element of {variable.name} is not a text",
                "a list contains texts; for other data declare kind: json",
            )
            return None
        if is_null(item):
            fields.fault(item, f"an element of {variable.name} is a bare null", 'write "" or "null"', "null")
            return None
        elements.append(str(item.value))
    try:
        return join_list(elements, variable.constraints)
    except ValueError as fault:
        fields.fault(node, f"{variable.name} {fault}", "declare another separator", "CJ003")
        return None


class _NotJson(Exception):
    """Data that is not valid JSON."""

    def __init__(self, node: Node, message: str, hint: str) -> None:
        super().__init__(message)
        self.node, self.message, self.hint = node, message, hint


def _as_json(fields: FieldReader, variable: Variable, node: Node) -> str | None:
    parts: list[str] = []
    try:
        _write_json(node, parts)
    except _NotJson as fault:
        fields.fault(fault.node, f"{variable.name}: {fault.message}", fault.hint)
        return None
    return "".join(parts)


def _write_json(node: Node, parts: list[str]) -> None:
    """Write YAML data as JSON text; plain numbers keep their digits, other plain words are texts. `compose` has refused
    aliases that contain themselves or multiply too much.
    """
    if isinstance(node, ScalarNode):
        bare = not node.style and (re.fullmatch(_JSON_WORD, node.value) or node.value in ("", "~"))
        parts.append(
            (node.value if node.value not in ("", "~") else "null") if bare else dumps(node.value, ensure_ascii=False)
        )
    elif isinstance(node, MappingNode):
        names: set[str] = set()
        for key, value in node.value:
            if not isinstance(key, ScalarNode):
                raise _NotJson(key, "a name in it is not a text", "JSON requires texts as names")
            if key.value in names:
                raise _NotJson(key, f"'{key.value}' is given twice", "keep one")
            parts.append(("," if names else "{") + dumps(key.value, ensure_ascii=False) + ":")
            names.add(key.value)
            _write_json(value, parts)
        parts.append("}" if node.value else "{}")
    else:
        for number, value in enumerate(node.value):
            parts.append("[" if number == 0 else ",")
            _write_json(value, parts)
        parts.append("]" if node.value else "[]")
