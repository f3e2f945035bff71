"""The requests of a platform's description."""

from __future__ import annotations

from collections.abc import Mapping

from coinjar.core.errors import Location
from coinjar.core.record import Record
from coinjar.documents.json_data import Data

METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE")


SAFE = ("GET", "HEAD", "PUT", "DELETE")
"""Methods that may be repeated (RFC 9110, 9.2.2); for others the description may allow it."""


class RequestTemplate(Record, kw_only=True):
    """One request of a description. `repeat`: it may be sent again without checking."""

    method: str
    path: str
    body: Data
    repeat: bool
    location: Location


class ListRequest(Record, kw_only=True):
    """How variables are listed: at `items`, as a map or a list whose elements have these fields (JSON Pointers).

    `stages` may point to one stage or a list.
    """

    request: RequestTemplate
    items: str
    form: str
    name: str = "/name"
    value: str = "/value"
    secret: str = ""
    hidden: str = ""
    shown: str = ""
    stages: str = ""
    mark: str = ""
    supplied: str = ""
    next_at: str = ""
    next_link: bool = False
    next_page: bool = False


class WriteRequests(Record, kw_only=True):
    """How variables are written: all changes in one request, the whole set in one, or one request per variable."""

    changes: RequestTemplate | None = None
    whole: RequestTemplate | None = None
    create: RequestTemplate | None = None
    change: RequestTemplate | None = None
    remove: RequestTemplate | None = None
    narrow: RequestTemplate | None = None
    remove_by: str = "nothing"


class StateRequest(Record):
    """Whether the running program has what is saved: pending names (`pending`), or two marks that are equal when it
    does.
    """

    request: RequestTemplate
    pending: str = ""
    saved: str = ""
    running: str = ""


class WaitCondition(Record, kw_only=True):
    """What is requested until one of `until` is true; one of `fails` means failure, one of `approval` that a person
    must approve it. Pointer to texts.
    """

    request: RequestTemplate
    until: Mapping[str, tuple[str, ...]]
    fails: Mapping[str, tuple[str, ...]]
    approval: Mapping[str, tuple[str, ...]] = {}
    log: str = ""


class RestartRequest(Record):
    """The request that restarts, or that starts a pipeline, and how its end is recognized."""

    request: RequestTemplate
    wait: WaitCondition | None
