"""Read a platform's description (platforms/*.yaml).

docs/platforms.md explains how to write one; platform.schema.json is for editors.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from yaml.nodes import MappingNode, Node

from coinjar.core.errors import InputError, Location, raise_all
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.json_data import typed
from coinjar.documents.spelling_reader import read_spelling
from coinjar.documents.yamltext import compose, is_null, location
from coinjar.platforms.description import PlatformDescription
from coinjar.platforms.example_reader import read_examples
from coinjar.platforms.request_reader import RequestReader
from coinjar.platforms.requests import (
    BatchRequest,
    ListRequest,
    RequestTemplate,
    RestartRequest,
    Signature,
    StateRequest,
    TokenRequest,
    WaitCondition,
    WriteRequests,
)

TOP = (
    "platform about settings token sign one_for stages whole names values most total at_once per_second reserved "
    "supplied in_effect statuses busy by_secrecy account list write state restart run examples"
).split()
ALWAYS = ("stage", "service")
ONE = (*ALWAYS, "name", "value", "secret", "shown", "stages", "others")
MANY = (*ALWAYS, "changes", "everything")
PAGING = (*ALWAYS, "next")
BATCH = (*ALWAYS, "items")


def read_description(data: bytes, file: str, name: str) -> PlatformDescription:
    """Parse a description. Raises every fault at once, with its location."""
    fields = FieldReader(file)
    root = compose(data, file)
    if root is None or is_null(root):
        raise InputError(
            "the file is empty",
            hint="`coinjar help descriptions` explains how to write one",
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
        self.requests = RequestReader(fields)
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
        by_secrecy = self._by_secrecy()
        self.requests.placeholders += self.settings
        self.one = (*ONE, *by_secrecy)
        token = self._part("token", ("header", "text", "user", "fetch"))
        names = self._part("names", ("shape", "longest", "case", "written"))
        values = self._part("values", ("longest", "characters", "shape", "empty", "line_breaks", "control"))
        statuses = self._part("statuses", ("gone", "outdated", "busy"))
        return PlatformDescription(
            name=name,
            location=location(self.root, fields.file),
            about=fields.text(top.get("about"), "about"),
            settings=self.settings,
            token_header=fields.text(
                token.get("header"), "header", "" if "sign" in top and "token" not in top else "Authorization"
            ),
            token_text=fields.text(token.get("text"), "text", "Basic {token}" if "user" in token else "Bearer {token}"),
            user=self._template(token.get("user"), "user of 'token'"),
            token_request=self._token_request(token.get("fetch")),
            signature=self._signature(),
            one_for=self.requests.choice(top.get("one_for"), "one_for", ("service", "stage")),
            carried=self.requests.choice(top.get("stages"), "stages", ("apart", "carried")) == "carried",
            whole=fields.flag(top.get("whole"), "whole"),
            spelling=read_spelling(fields, names.get("written"), "written", "platform"),
            shape=fields.pattern(names.get("shape"), "the pattern of names"),
            longest_name=self.requests.number(names.get("longest"), "longest"),
            folds_case=self.requests.choice(names.get("case"), "case", ("matters", "ignored")) == "ignored",
            largest=self.requests.number(values.get("longest"), "longest"),
            longest_value=self.requests.number(values.get("characters"), "characters"),
            value_shape=fields.pattern(values.get("shape"), "the pattern of values"),
            control_characters=self.requests.choice(values.get("control"), "control", ("kept", "refused")) == "kept",
            empty=self.requests.choice(values.get("empty"), "empty", ("kept", "removes", "refused")),
            line_breaks=fields.text(values.get("line_breaks"), "line_breaks", "true") != "false",
            most=self.requests.number(top.get("most"), "most"),
            at_once=self.requests.number(top.get("at_once"), "at_once") or 1,
            total=self.requests.number(top.get("total"), "total"),
            per_second=self.requests.number(top.get("per_second"), "per_second"),
            gone=self.requests.statuses(statuses.get("gone"), "gone", (404, 410)),
            outdated=self.requests.statuses(statuses.get("outdated"), "outdated", (409, 412, 428)),
            busy=self.requests.statuses(statuses.get("busy"), "busy", (423,)),
            busy_wait=self._waiting(top["busy"], "'busy'", ALWAYS) if "busy" in top else None,
            by_secrecy=by_secrecy,
            reserved=self._list("reserved"),
            supplied=self._list("supplied"),
            in_effect=self.requests.choice(top.get("in_effect"), "in_effect", ("next-deploy", "at-once", "next-run")),
            account=self._account(),
            listing=self._listing(),
            writing=self._writing(),
            state=self._state(),
            restart=self._restart("restart"),
            run=self._restart("run"),
            examples=read_examples(fields, top["examples"], self.settings) if "examples" in top else None,
            kept=tuple(name for name in self.requests.placeholders if name not in self.settings),
        )

    def _part(self, key: str, allowed: Sequence[str]) -> dict[str, Node]:
        return self.fields.fields(self.top[key], f"'{key}'", allowed) if key in self.top else {}

    def _by_secrecy(self) -> dict[str, tuple[str, str]]:
        result = {}
        for name, key, value in (
            self.fields.members(self.top["by_secrecy"], "'by_secrecy'") if "by_secrecy" in self.top else ()
        ):
            own = self.fields.fields(value, f"'{name}' of by_secrecy", ("secret", "plain"))
            if len(own) != 2:
                hint = "write {secret: WORD, plain: WORD}"
                self.fields.fault(value, f"'{name}' of by_secrecy has not both words", hint, "platform")
            if not re.fullmatch(r"[a-z_]+", name) or name in ONE:
                self.fields.fault(key, f"'{name}' cannot be a placeholder", "choose another name", "platform")
            result[name] = (self.fields.text(own.get("secret"), "secret"), self.fields.text(own.get("plain"), "plain"))
        return result

    def _template(self, node: Node | None, what: str) -> str:
        template = self.fields.text(node, what)
        if node is not None:
            self.requests.check_placeholders([template], what, node, ALWAYS)
        return template

    def _token_request(self, node: Node | None) -> TokenRequest | None:
        if node is None:
            return None
        own = self.fields.fields(node, "'fetch'", ("path", "client", "scope", "at"))
        for key in ("path", "client"):
            if key not in own:
                self.fields.fault(node, f"'fetch' has no {key}", f"add {key}: (RFC 6749, 4.4)", "platform")
        path = self._template(own.get("path"), "path of 'fetch'")
        if path and not path.startswith("/"):
            self.fields.fault(own["path"], f"'{path}' is not a path", "it begins with '/'", "platform")
        return TokenRequest(
            path,
            self._template(own.get("client"), "client of 'fetch'"),
            self._template(own.get("scope"), "scope of 'fetch'"),
            self.requests.pointer(own.get("at"), "at", "/access_token"),
        )

    def _signature(self) -> Signature | None:
        if "sign" not in self.top:
            return None
        own = self._part("sign", ("header", "text", "time_header", "algorithm", "encoding"))
        for key in ("header", "text"):
            if key not in own:
                self.fields.fault(self.top["sign"], f"'sign' has no {key}", f"add {key}:", "platform")
        signed = self.fields.text(own.get("text"), "text")
        if "text" in own:
            self.requests.check_placeholders([signed], "'sign'", own["text"], ("method", "path", "time", "body"))
        return Signature(
            header=self.fields.text(own.get("header"), "header"),
            text=signed,
            time_header=self.fields.text(own.get("time_header"), "time_header"),
            algorithm=self.requests.choice(own.get("algorithm"), "algorithm", ("sha256", "sha512")),
            encoding=self.requests.choice(own.get("encoding"), "encoding", ("hex", "base64")),
        )

    def _list(self, key: str) -> tuple[str, ...]:
        return tuple(text for text, _ in self.fields.texts(self.top.get(key), f"'{key}'"))

    # -- requests

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
        sending, own = self.requests.with_request(node, "'account'", ("is",), ALWAYS)
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
        keys = ("name", "value", "stages", "mark")
        tests = ("secret", "hidden", "shown", "supplied")
        sending, own = self.requests.with_request(node, "'list'", ("map", "items", "next", *keys, *tests), PAGING)
        if ("map" in own) == ("items" in own):
            self.fields.fault(
                node,
                "'list' requires either map or items",
                "map: an object of names; items: a list with a name in each",
                "platform",
            )
        form = "map" if "map" in own else "items"
        pointers = {key: self.requests.pointer(own[key], key) for key in keys if key in own}
        onward = self.fields.fields(own["next"], "'next'", ("at", "link", "page", "offset")) if "next" in own else {}
        return ListRequest(
            request=sending,
            items=self.requests.pointer(own.get(form), form),
            form=form,
            next_at=self.requests.pointer(onward.get("at"), "at"),
            next_link=self.fields.flag(onward.get("link"), "link"),
            next_page=self.fields.flag(onward.get("page"), "page"),
            next_offset=self.fields.flag(onward.get("offset"), "offset"),
            secret=self.requests.conditions(own.get("secret"), "secret"),
            hidden=(
                *self.requests.conditions(own.get("hidden"), "hidden"),
                *self.requests.conditions(own.get("shown"), "shown", is_negated=True),
            ),
            supplied=self.requests.conditions(own.get("supplied"), "supplied"),
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
            node, "'write'", ("changes", "whole", "batch", "create", "change", "remove", "narrow", "remove_by", "wait")
        )
        result = {
            key: self.requests.sending(own[key], f"'{key}'", node, MANY if key in ("changes", "whole") else self.one)
            for key in ("changes", "whole", "create", "change", "remove", "narrow")
            if key in own
        }
        batch = self._batch(own["batch"]) if "batch" in own else None
        ways = [key for key in ("changes", "whole", "batch", "create") if key in own]
        if len(ways) != 1:
            self.fields.fault(
                node,
                f"'write' has {' and '.join(ways) or 'none of changes, whole, batch and create'}",
                "keep one of changes, whole, batch and create",
                "platform",
            )
        if "create" in result and "remove" not in result:
            self.fields.fault(node, "'write' cannot remove", "add remove: DELETE /…", "platform")
        return WriteRequests(
            remove_by=self.requests.choice(own.get("remove_by"), "remove_by", ("nothing", "empty")),
            batch=batch,
            wait=self._waiting(own["wait"], "'wait' of 'write'", ALWAYS) if "wait" in own else None,
            **result,
        )

    def _batch(self, node: Node) -> BatchRequest | None:
        sending, own = self.requests.with_request(node, "'batch'", ("set", "remove", "at_most", "outcome"), BATCH)
        for key in ("set", "remove"):
            if key not in own:
                self.fields.fault(node, f"'batch' has no {key}", f"add {key}: the item for one variable", "platform")
                return None
            self.requests.check_placeholders([typed(own[key])], f"'{key}' of batch", own[key], self.one)
        outcome = (
            self.fields.fields(own["outcome"], "'outcome'", ("items", "name", "failed", "message"))
            if "outcome" in own
            else {}
        )
        return BatchRequest(
            request=sending,
            set_item=typed(own["set"]),
            remove_item=typed(own["remove"]),
            at_most=self.requests.number(own.get("at_most"), "at_most"),
            results=self.requests.pointer(outcome.get("items"), "items"),
            name=self.requests.pointer(outcome.get("name"), "name", "/name"),
            failed=self.requests.conditions(outcome.get("failed"), "failed"),
            message=self.requests.pointer(outcome.get("message"), "message"),
        )

    def _state(self) -> StateRequest | None:
        node = self.top.get("state")
        if not isinstance(node, MappingNode):
            return None
        sending, own = self.requests.with_request(node, "'state'", ("pending", "saved", "running"), ALWAYS)
        result = {key: self.requests.pointer(own.get(key), key) for key in ("pending", "saved", "running")}
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
        sending, own = self.requests.with_request(node, f"'{key}'", ("wait",), known)
        waiting = self._waiting(own["wait"], "'wait'", known) if "wait" in own else None
        return RestartRequest(sending, waiting)

    def _waiting(self, node: Node, what: str, known: Sequence[str]) -> WaitCondition:
        waiting, more = self.requests.with_request(node, what, ("until", "fails", "approval", "log"), known)
        tests = {name: self.requests.tests(more.get(name), name) for name in ("until", "fails", "approval")}
        if not tests["until"]:
            self.fields.fault(node, f"{what} has no until", "add until: {/state: [done]}", "platform")
        return WaitCondition(
            request=waiting,
            until=tests["until"],
            fails=tests["fails"],
            approval=tests["approval"],
            log=self.requests.pointer(more.get("log"), "log"),
        )
