"""Read a platform's description (platforms/*.yaml).

docs/platforms.md explains how to write one; platform.schema.json is for editors.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from yaml.nodes import MappingNode, Node

from coinjar.core.errors import InputError, Location, raise_all
from coinjar.core.names import suggestion
from coinjar.core.record import Record
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.json_data import typed
from coinjar.documents.yamltext import compose, is_null, location
from coinjar.platforms.requests import (
    METHODS,
    SAFE,
    ListRequest,
    RequestTemplate,
    RestartRequest,
    StateRequest,
    WaitCondition,
    WriteRequests,
)
from coinjar.platforms.templating import request_placeholders

TOP = (
    "platform about settings token one_for stages whole names values most at_once reserved supplied in_effect "
    "account list write state restart run"
).split()
ALWAYS = ("stage", "service")
ONE = (*ALWAYS, "name", "value", "secret", "shown", "stages", "others")
MANY = (*ALWAYS, "changes", "everything")
PAGING = (*ALWAYS, "next")
_SENDING = ("send", "body", "repeat")


class PlatformDescription(Record, kw_only=True):
    """A platform. Sizes are bytes of UTF-8; None: no known limit."""

    name: str
    location: Location
    about: str = ""
    settings: Mapping[str, str] = {}
    token_header: str = ""
    token_text: str = ""
    one_for: str = "service"
    carried: bool = False
    whole: bool = False
    shape: str = ""
    longest_name: int | None = None
    folds_case: bool = False
    largest: int | None = None
    empty: str = "kept"
    line_breaks: bool = True
    most: int | None = None
    at_once: int = 1
    reserved: tuple[str, ...] = ()
    supplied: tuple[str, ...] = ()
    in_effect: str = "next-deploy"
    account: tuple[RequestTemplate, str] | None = None
    listing: ListRequest | None = None
    writing: WriteRequests = WriteRequests()
    state: StateRequest | None = None
    restart: RestartRequest | None = None
    run: RestartRequest | None = None


def read_description(data: bytes, file: str, name: str) -> PlatformDescription:
    """Parse a description. Raises every fault at once, with its location."""
    fields = FieldReader(file)
    root = compose(data, file)
    if root is None or is_null(root):
        raise InputError(
            "the file is empty",
            hint="docs/platforms.md explains how to write one",
            location=Location(file),
            code="platform",
        )
    description = _DescriptionReader(fields, root).read(name)
    raise_all(fields.faults)
    return description


class _DescriptionReader:
    """Reads one description."""

    def __init__(self, fields: FieldReader, root: Node) -> None:
        self.fields = fields
        self.root = root
        self.top = fields.fields(root, "a platform's description", TOP)
        self.settings: dict[str, str] = {}

    def read(self, name: str) -> PlatformDescription:
        fields, top = self.fields, self.top
        if fields.text(top.get("platform"), "platform") != "1":
            fields.fault(
                top.get("platform", self.root),
                "this version does not read this format",
                "the format is platform: 1",
                "platform",
            )
        for key, _, node in fields.members(top["settings"], "'settings'") if "settings" in top else ():
            self.settings[key] = fields.text(node, key)
        if "address" not in self.settings:
            fields.fault(
                top.get("settings", self.root),
                "the settings have no address",
                "add address: and a description of it",
                "platform",
            )
        token = self._part("token", ("header", "text"))
        names = self._part("names", ("shape", "longest", "case"))
        values = self._part("values", ("longest", "empty", "line_breaks"))
        return PlatformDescription(
            name=name,
            location=location(self.root, fields.file),
            about=fields.text(top.get("about"), "about"),
            settings=self.settings,
            token_header=fields.text(token.get("header"), "header", "Authorization"),
            token_text=fields.text(token.get("text"), "text", "Bearer {token}"),
            one_for=self._choice(top.get("one_for"), "one_for", ("service", "stage")),
            carried=self._choice(top.get("stages"), "stages", ("apart", "carried")) == "carried",
            whole=fields.flag(top.get("whole"), "whole"),
            shape=fields.pattern(names.get("shape"), "the pattern of names"),
            longest_name=self._number(names.get("longest"), "longest"),
            folds_case=self._choice(names.get("case"), "case", ("matters", "ignored")) == "ignored",
            largest=self._number(values.get("longest"), "longest"),
            empty=self._choice(values.get("empty"), "empty", ("kept", "removes", "refused")),
            line_breaks=fields.text(values.get("line_breaks"), "line_breaks", "true") != "false",
            most=self._number(top.get("most"), "most"),
            at_once=self._number(top.get("at_once"), "at_once") or 1,
            reserved=self._list("reserved"),
            supplied=self._list("supplied"),
            in_effect=self._choice(top.get("in_effect"), "in_effect", ("next-deploy", "at-once", "next-run")),
            account=self._account(),
            listing=self._listing(),
            writing=self._writing(),
            state=self._state(),
            restart=self._restart("restart"),
            run=self._restart("run"),
        )

    def _part(self, key: str, allowed: Sequence[str]) -> dict[str, Node]:
        return self.fields.fields(self.top[key], f"'{key}'", allowed) if key in self.top else {}

    def _choice(self, node: Node | None, what: str, choices: Sequence[str]) -> str:
        text = self.fields.text(node, what, choices[0])
        if text not in choices:
            assert node is not None, "the default is not one of the choices"
            self.fields.fault(
                node,
                f"'{what}' is not valid as '{text}'",
                suggestion(text, choices, f"it is {' or '.join(choices)}"),
                "platform",
            )
        return text

    def _number(self, node: Node | None, what: str) -> int | None:
        text = self.fields.text(node, what)
        if node is not None and not re.fullmatch(r"[1-9]\d{0,9}", text):
            self.fields.fault(node, f"'{what}' must be a number", "write digits only", "platform")
            return None
        return int(text) if text else None

    def _list(self, key: str) -> tuple[str, ...]:
        return tuple(text for text, _ in self.fields.texts(self.top.get(key), f"'{key}'"))

    # -- requests

    def _sending(self, node: Node | None, what: str, around: Node, known: Sequence[str]) -> RequestTemplate:
        """Read `METHOD /path`, or with a body a mapping of send, body and repeat; its placeholders are checked."""
        fields = self.fields
        here = location(node or around, fields.file)
        if node is None:
            fields.fault(around, f"{what} has no 'send'", "write send: GET /path", "platform")
            return RequestTemplate(method="GET", path="/", body=None, repeat=True, location=here)
        own = fields.fields(node, what, _SENDING) if isinstance(node, MappingNode) else {"send": node}
        text = fields.text(own.get("send"), f"send of {what}")
        match = re.fullmatch(r"([A-Z]+) (/\S*)", text)
        if not match or match[1] not in METHODS:
            fields.fault(
                own.get("send", node),
                f"{what} is not a request",
                f"write METHOD /path; the methods are {', '.join(METHODS)}",
                "platform",
            )
            return RequestTemplate(method="GET", path="/", body=None, repeat=True, location=here)
        body = typed(own["body"]) if "body" in own else None
        for name in [*request_placeholders(match[2]), *request_placeholders(body)]:
            if not name.startswith("/") and name not in (*known, *self.settings):
                hint = suggestion(
                    name,
                    [*known, *self.settings],
                    f"the placeholders here are {', '.join(f'{{{name}}}' for name in (*known, *self.settings))}",
                )
                fields.fault(own["send"], f"'{{{name}}}' in {what} is not defined", hint, "platform")
        return RequestTemplate(
            method=match[1],
            path=match[2],
            body=body,
            repeat=match[1] in SAFE or fields.flag(own.get("repeat"), "repeat"),
            location=here,
        )

    def _with_request(
        self, node: Node, what: str, more: Sequence[str], known: Sequence[str]
    ) -> tuple[RequestTemplate, dict[str, Node]]:
        own = self.fields.fields(node, what, (*_SENDING, *more))
        inner = MappingNode(
            "tag:yaml.org,2002:map",
            [(key, value) for key, value in node.value if key.value in _SENDING],
            node.start_mark,
            node.end_mark,
        )
        return self._sending(inner if "send" in own else None, what, node, known), own

    def _pointer(self, node: Node | None, what: str, default: str = "") -> str:
        text = self.fields.text(node, what, default)
        if text and not text.startswith("/"):
            assert node is not None
            self.fields.fault(
                node, f"'{text}' is not a JSON Pointer", "it begins with '/', as in /items (RFC 6901)", "pointer"
            )
        return text

    def _account(self) -> tuple[RequestTemplate, str] | None:
        node = self.top.get("account")
        if not isinstance(node, MappingNode):
            self.fields.fault(
                node or self.root,
                "'account' is missing",
                "describe how to identify the account: {send: GET /…, is: '{/name}'}",
                "platform",
            )
            return None
        sending, own = self._with_request(node, "'account'", ("is",), ALWAYS)
        return sending, self.fields.text(own.get("is"), "is", "{/name}")

    def _listing(self) -> ListRequest | None:
        node = self.top.get("list")
        if not isinstance(node, MappingNode):
            self.fields.fault(
                node or self.root,
                "'list' is missing",
                "describe how variables are listed: {send: GET /…, map: /path} or items: /path",
                "platform",
            )
            return None
        keys = ("name", "value", "secret", "hidden", "shown", "stages", "mark", "supplied")
        sending, own = self._with_request(node, "'list'", ("map", "items", "next", *keys), PAGING)
        if ("map" in own) == ("items" in own):
            self.fields.fault(
                node,
                "'list' requires either map or items",
                "map: an object of names; items: a list with a name in each",
                "platform",
            )
        form = "map" if "map" in own else "items"
        pointers = {key: self._pointer(own[key], key) for key in keys if key in own}
        onward = self.fields.fields(own["next"], "'next'", ("at", "link", "page")) if "next" in own else {}
        return ListRequest(
            request=sending,
            items=self._pointer(own.get(form), form),
            form=form,
            next_at=self._pointer(onward.get("at"), "at"),
            next_link=self.fields.flag(onward.get("link"), "link"),
            next_page=self.fields.flag(onward.get("page"), "page"),
            **pointers,
        )

    def _writing(self) -> WriteRequests:
        node = self.top.get("write")
        if not isinstance(node, MappingNode):
            self.fields.fault(
                node or self.root,
                "'write' is missing",
                "describe how variables are written: changes, whole, or create, change and remove",
                "platform",
            )
            return WriteRequests()
        own = self.fields.fields(
            node, "'write'", ("changes", "whole", "create", "change", "remove", "narrow", "remove_by")
        )
        result = {
            key: self._sending(own[key], f"'{key}'", node, MANY if key in ("changes", "whole") else ONE)
            for key in ("changes", "whole", "create", "change", "remove", "narrow")
            if key in own
        }
        ways = [key for key in ("changes", "whole", "create") if key in result]
        if len(ways) != 1:
            self.fields.fault(
                node,
                f"'write' has {' and '.join(ways) or 'none of changes, whole and create'}",
                "keep one of changes, whole and create",
                "platform",
            )
        if "create" in result and "remove" not in result:
            self.fields.fault(node, "'write' cannot remove", "add remove: DELETE /…", "platform")
        return WriteRequests(remove_by=self._choice(own.get("remove_by"), "remove_by", ("nothing", "empty")), **result)

    def _state(self) -> StateRequest | None:
        node = self.top.get("state")
        if not isinstance(node, MappingNode):
            return None
        sending, own = self._with_request(node, "'state'", ("pending", "saved", "running"), ALWAYS)
        result = {key: self._pointer(own.get(key), key) for key in ("pending", "saved", "running")}
        if not result["pending"] and not (result["saved"] and result["running"]):
            self.fields.fault(
                node,
                "'state' has neither pending nor saved and running",
                "add pending: /…, or saved: /… and running: /…",
                "platform",
            )
        return StateRequest(sending, **result)

    def _restart(self, key: str) -> RestartRequest | None:
        node = self.top.get(key)
        if not isinstance(node, MappingNode):
            return None
        known = (*ALWAYS, "pipeline") if key == "run" else ALWAYS
        sending, own = self._with_request(node, f"'{key}'", ("wait",), known)
        if "wait" not in own:
            return RestartRequest(sending, None)
        waiting, more = self._with_request(own["wait"], "'wait'", ("until", "fails", "approval", "log"), known)
        tests = {name: self._tests(more.get(name), name) for name in ("until", "fails", "approval")}
        if not tests["until"]:
            self.fields.fault(own["wait"], "'wait' has no until", "add until: {/state: [done]}", "platform")
        return RestartRequest(
            sending,
            WaitCondition(
                request=waiting,
                until=tests["until"],
                fails=tests["fails"],
                approval=tests["approval"],
                log=self._pointer(more.get("log"), "log"),
            ),
        )

    def _tests(self, node: Node | None, what: str) -> dict[str, tuple[str, ...]]:
        if node is None:
            return {}
        return {
            self._pointer(key, what): tuple(text for text, _ in self.fields.texts(value, what))
            for _, key, value in self.fields.members(node, f"'{what}'")
        }
