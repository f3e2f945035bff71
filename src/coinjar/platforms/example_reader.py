"""Read the examples of a platform's description."""

from __future__ import annotations

import re
from collections.abc import Mapping

from yaml.nodes import MappingNode, Node, SequenceNode

from coinjar.documents.field_reader import FieldReader
from coinjar.documents.json_data import typed
from coinjar.documents.yamltext import is_null, location
from coinjar.platforms.requests import METHODS, ExampleAnswer, Examples

_KEYS = ("settings", "stage", "reads", "writes", "answers")
_ANSWER = ("send", "body", "status", "headers", "answer")


def read_examples(fields: FieldReader, node: Node, settings: Mapping[str, str]) -> Examples:
    """Return the examples; faults are collected in `fields`."""
    own = fields.fields(node, "'examples'", _KEYS)
    given = _texts(fields, own.get("settings"), "settings")
    if lacking := [name for name in settings if name not in given and name != "address"]:
        fields.fault(
            node, f"the examples have no {', '.join(lacking)}", "add them to settings: of examples", "platform"
        )
    answers = own.get("answers")
    if not isinstance(answers, SequenceNode):
        fields.fault(answers or node, "the examples have no answers", "add answers: a list of requests", "platform")
        return Examples()
    return Examples(
        settings={name: value or "" for name, value in given.items()},
        stage=fields.text(own.get("stage"), "stage", "dev"),
        reads=_texts(fields, own.get("reads"), "reads"),
        writes=_texts(fields, own.get("writes"), "writes"),
        answers=tuple(_answer(fields, item) for item in answers.value),
    )


def _texts(fields: FieldReader, node: Node | None, what: str) -> dict[str, str | None]:
    if node is None:
        return {}
    return {
        name: None if is_null(value) else fields.text(value, name)
        for name, _, value in fields.members(node, f"'{what}' of examples")
    }


def _answer(fields: FieldReader, node: Node) -> ExampleAnswer:
    own = fields.fields(node, "an answer of examples", _ANSWER) if isinstance(node, MappingNode) else {"send": node}
    line = fields.text(own.get("send"), "send")
    match = re.fullmatch(r"([A-Z]+) (/\S*)", line)
    if not match or match[1] not in METHODS:
        fields.fault(own.get("send", node), "this is not a request", "write METHOD /path", "platform")
    status = fields.text(own.get("status"), "status", "200")
    if not re.fullmatch(r"[1-5]\d\d", status):
        fields.fault(own["status"], f"'{status}' is not an HTTP status", "write 200", "platform")
    return ExampleAnswer(
        method=match[1] if match else "GET",
        path=match[2] if match else "/",
        body=typed(own["body"]) if "body" in own else None,
        has_body="body" in own,
        status=int(status) if status.isdigit() else 200,
        headers={
            name: fields.text(value, name)
            for name, _, value in (fields.members(own["headers"], "'headers'") if "headers" in own else ())
        },
        answer=typed(own["answer"]) if "answer" in own else None,
        location=location(node, fields.file),
    )
