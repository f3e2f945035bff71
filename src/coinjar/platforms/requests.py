"""The requests of a platform's description."""

from __future__ import annotations

from collections.abc import Mapping

from coinjar.core.errors import Location
from coinjar.core.record import Record
from coinjar.documents.json_data import Data
from coinjar.platforms.conditions import Condition

METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE")


SAFE = ("GET", "HEAD", "PUT", "DELETE")
"""Methods that may be repeated (RFC 9110, 9.2.2); for others the description may allow it."""


class KeptValue(Record):
    """A value of an answer that later requests carry: a header, or what is at a JSON Pointer."""

    header: str = ""
    pointer: str = ""


class RequestTemplate(Record, kw_only=True):
    """One request of a description. `repeat`: it may be sent again without checking. `form`: the body is sent as a
    form (application/x-www-form-urlencoded), not as JSON. `keep`: what of its answer is kept, by placeholder.
    """

    method: str
    path: str
    body: Data
    repeat: bool
    location: Location
    headers: Mapping[str, str] = {}
    form: bool = False
    keep: Mapping[str, KeptValue] = {}


class ListRequest(Record, kw_only=True):
    """How variables are listed: at `items`, as a map or a list whose elements have these fields (JSON Pointers), or
    fulfil these conditions.

    `stages` may point to one stage or a list. The next page has `next_at` (a pointer), a `Link` header, a number, or an
    offset.
    """

    request: RequestTemplate
    items: str
    form: str
    name: str = "/name"
    value: str = "/value"
    secret: tuple[Condition, ...] = ()
    hidden: tuple[Condition, ...] = ()
    supplied: tuple[Condition, ...] = ()
    stages: str = ""
    mark: str = ""
    next_at: str = ""
    next_link: bool = False
    next_page: bool = False
    next_offset: bool = False


class BatchRequest(Record, kw_only=True):
    """Several changes in one request, as a list of items. `results` is a pointer to the outcomes, each with the name at
    `name`; an outcome that fulfils `failed` was refused, for the reason at `message`.
    """

    request: RequestTemplate
    set_item: Data
    remove_item: Data
    at_most: int | None = None
    results: str = ""
    name: str = "/name"
    failed: tuple[Condition, ...] = ()
    message: str = ""


class WaitCondition(Record, kw_only=True):
    """What is requested until one of `until` is true; one of `fails` means failure, one of `approval` that a person
    must approve it. Pointer to texts.
    """

    request: RequestTemplate
    until: Mapping[str, tuple[str, ...]]
    fails: Mapping[str, tuple[str, ...]]
    approval: Mapping[str, tuple[str, ...]] = {}
    log: str = ""


class WriteRequests(Record, kw_only=True):
    """How variables are written: all changes in one request, in lists of changes, the whole set in one, or one request
    per variable.
    """

    changes: RequestTemplate | None = None
    whole: RequestTemplate | None = None
    batch: BatchRequest | None = None
    create: RequestTemplate | None = None
    change: RequestTemplate | None = None
    remove: RequestTemplate | None = None
    narrow: RequestTemplate | None = None
    remove_by: str = "nothing"
    wait: WaitCondition | None = None
    """How the end of a write is recognized that the answer only accepts."""


class TokenRequest(Record):
    """The request that gets a token for a client's credentials (RFC 6749, 4.4). `client` and `scope` are templates."""

    path: str
    client: str
    scope: str = ""
    at: str = "/access_token"


class Signature(Record, kw_only=True):
    """How each request is signed: an HMAC of a text, with the token as the key."""

    header: str
    text: str
    time_header: str = ""
    algorithm: str = "sha256"
    encoding: str = "hex"


class StateRequest(Record):
    """Whether the running program has what is saved: pending names (`pending`), or two marks that are equal when it
    does.
    """

    request: RequestTemplate
    pending: str = ""
    saved: str = ""
    running: str = ""


class RestartRequest(Record):
    """The request that restarts, or that starts a pipeline, and how its end is recognized."""

    request: RequestTemplate
    wait: WaitCondition | None


class ExampleAnswer(Record, kw_only=True):
    """A request of a description's examples (method, path with query, body), and the answer to it."""

    method: str
    path: str
    body: Data = None
    has_body: bool = False
    status: int = 200
    headers: Mapping[str, str] = {}
    answer: Data = None
    location: Location


class Examples(Record, kw_only=True):
    """A conversation with the service, to try a description without it: what `list` must read, and which changes to
    write (None: remove).
    """

    settings: Mapping[str, str] = {}
    stage: str = "dev"
    reads: Mapping[str, str | None] = {}
    writes: Mapping[str, str | None] = {}
    answers: tuple[ExampleAnswer, ...] = ()
