"""Read the parts of a platform's description that several of its keys share: requests, pointers, conditions."""

from __future__ import annotations

import re
from collections.abc import Sequence

from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from coinjar.core.names import suggestion
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.json_data import typed
from coinjar.documents.yamltext import is_null, location
from coinjar.platforms.conditions import NULL, WORDS, Condition
from coinjar.platforms.requests import METHODS, SAFE, KeptValue, RequestTemplate
from coinjar.platforms.templating import request_placeholders

SENDING = ("send", "body", "headers", "form", "repeat", "keep")
"""The keys of a request."""


class RequestReader:
    """Reads requests. `placeholders` are those that every request may use: the settings, and what answers leave."""

    def __init__(self, fields: FieldReader) -> None:
        self.fields = fields
        self.placeholders: list[str] = []

    # -- single values

    def choice(self, node: Node | None, what: str, choices: Sequence[str]) -> str:
        """Return one of the choices; the first is the default."""
        word = self.fields.text(node, what, choices[0])
        if word not in choices:
            assert node is not None, "the default is not one of the choices"
            self.fields.fault(
                node,
                f"'{what}' is not valid as '{word}'",
                suggestion(word, choices, f"it is {' or '.join(choices)}"),
                "platform",
            )
        return word

    def number(self, node: Node | None, what: str) -> int | None:
        """Return a positive number."""
        digits = self.fields.text(node, what)
        if node is not None and not re.fullmatch(r"[1-9]\d{0,9}", digits):
            self.fields.fault(node, f"'{what}' must be a number", "write digits only", "platform")
            return None
        return int(digits) if digits else None

    def statuses(self, node: Node | None, what: str, default: tuple[int, ...]) -> tuple[int, ...]:
        """Return a list of HTTP statuses."""
        result = []
        for digits, item in self.fields.texts(node, what):
            if re.fullmatch(r"[345]\d\d", digits):
                result.append(int(digits))
            else:
                self.fields.fault(item, f"'{digits}' is not an HTTP status of an error", "write 409", "platform")
        return tuple(result) if node is not None else default

    def pointer(self, node: Node | None, what: str, default: str = "") -> str:
        """Return a JSON Pointer."""
        result = self.fields.text(node, what, default)
        if result and not result.startswith("/"):
            assert node is not None
            self.fields.fault(
                node, f"'{result}' is not a JSON Pointer", "it begins with '/', as in /items (RFC 6901)", "pointer"
            )
        return result

    # -- conditions

    def conditions(self, node: Node | None, what: str, *, is_negated: bool = False) -> tuple[Condition, ...]:
        """Return conditions that must all hold: a pointer to true (`is_negated`: to false), or a mapping of pointers to
        a word, a list of texts, or `{not: [texts]}`.
        """
        if node is None:
            return ()
        if isinstance(node, ScalarNode):
            return (Condition(self.pointer(node, what), texts=("false" if is_negated else "true",)),)
        return tuple(
            self._condition(self.pointer(key, what), value, what)
            for _, key, value in self.fields.members(node, f"'{what}'")
        )

    def _condition(self, pointer: str, node: Node, what: str) -> Condition:
        if isinstance(node, SequenceNode):
            return Condition(pointer, texts=self._texts(node, what))
        if isinstance(node, MappingNode):
            own = self.fields.fields(node, f"'{what}'", ("not",))
            return Condition(pointer, texts=self._texts(own.get("not"), what), is_negated=True)
        word = NULL if is_null(node) else self.fields.text(node, what)
        if word not in WORDS:
            hint = f"write a list of texts, {{not: [texts]}}, or {', '.join(WORDS)}"
            self.fields.fault(node, f"'{what}' has the condition '{word}'", hint, "platform")
        return Condition(pointer, word=word)

    def _texts(self, node: Node | None, what: str) -> tuple[str, ...]:
        return tuple(item for item, _ in self.fields.texts(node, what))

    def tests(self, node: Node | None, what: str) -> dict[str, tuple[str, ...]]:
        """Return texts by pointer, of which one must match."""
        if node is None:
            return {}
        return {
            self.pointer(key, what): self._texts(value, what)
            for _, key, value in self.fields.members(node, f"'{what}'")
        }

    # -- requests

    def sending(self, node: Node | None, what: str, around: Node, known: Sequence[str]) -> RequestTemplate:
        """Read `METHOD /path`, or a mapping of SENDING; its placeholders are checked."""
        fields = self.fields
        here = location(node or around, fields.file)
        if node is None:
            fields.fault(around, f"{what} has no 'send'", "write send: GET /path", "platform")
            return RequestTemplate(method="GET", path="/", body=None, repeat=True, location=here)
        own = fields.fields(node, what, SENDING) if isinstance(node, MappingNode) else {"send": node}
        line = fields.text(own.get("send"), f"send of {what}")
        match = re.fullmatch(r"([A-Z]+) (/\S*)", line)
        if not match or match[1] not in METHODS:
            fields.fault(
                own.get("send", node),
                f"{what} is not a request",
                f"write METHOD /path; the methods are {', '.join(METHODS)}",
                "platform",
            )
            return RequestTemplate(method="GET", path="/", body=None, repeat=True, location=here)
        keep = self._keep(own.get("keep"))
        headers = self._headers(own.get("headers"), what)
        body = typed(own["body"]) if "body" in own else None
        is_form = fields.flag(own.get("form"), "form")
        if is_form and not (isinstance(body, dict) and all(isinstance(value, str) for value in body.values())):
            fields.fault(own["form"], f"the form of {what} has no fields", "write body: {field: text, ...}", "platform")
        self.check_placeholders([match[2], body, *headers.values()], what, own["send"], known)
        return RequestTemplate(
            method=match[1],
            path=match[2],
            body=body,
            repeat=match[1] in SAFE or fields.flag(own.get("repeat"), "repeat"),
            location=here,
            headers=headers,
            form=is_form,
            keep=keep,
        )

    def check_placeholders(self, templates: Sequence[object], what: str, node: Node, known: Sequence[str]) -> None:
        """Add a fault for each placeholder that nothing fills here."""
        every = (*known, *self.placeholders)
        for name in dict.fromkeys(name for template in templates for name in request_placeholders(template)):
            if not name.startswith("/") and name not in every:
                words = f"the placeholders here are {', '.join(f'{{{name}}}' for name in every)}"
                self.fields.fault(
                    node, f"'{{{name}}}' in {what} is not defined", suggestion(name, every, words), "platform"
                )

    def _keep(self, node: Node | None) -> dict[str, KeptValue]:
        result = {}
        for name, key, value in self.fields.members(node, "'keep'") if node is not None else ():
            own = self.fields.fields(value, f"'{name}' of keep", ("header", "at"))
            if len(own) != 1:
                self.fields.fault(
                    value, f"'{name}' of keep requires one of header and at", "write {header: ETag}", "platform"
                )
            if not re.fullmatch(r"[a-z_]+", name):
                self.fields.fault(key, f"'{name}' cannot be a placeholder", "write it in small letters", "platform")
            header = self.fields.text(own.get("header"), "header")
            result[name] = KeptValue(header, self.pointer(own.get("at"), "at"))
            if name not in self.placeholders:
                self.placeholders.append(name)
        return result

    def _headers(self, node: Node | None, what: str) -> dict[str, str]:
        return {
            name: self.fields.text(value, name)
            for name, _, value in (self.fields.members(node, f"headers of {what}") if node is not None else ())
        }

    def with_request(
        self, node: Node, what: str, more: Sequence[str], known: Sequence[str]
    ) -> tuple[RequestTemplate, dict[str, Node]]:
        """Return the request of a mapping that has other keys as well, and its nodes by key."""
        own = self.fields.fields(node, what, (*SENDING, *more))
        assert isinstance(node, MappingNode)
        inner = MappingNode(
            "tag:yaml.org,2002:map",
            [(key, value) for key, value in node.value if key.value in SENDING],
            node.start_mark,
            node.end_mark,
        )
        return self.sending(inner if "send" in own else None, what, node, known), own
