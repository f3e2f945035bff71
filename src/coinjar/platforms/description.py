"""What a platform's description contains."""

from __future__ import annotations

from collections.abc import Mapping

from coinjar.core.errors import Location
from coinjar.core.name_spelling import NameSpelling
from coinjar.core.record import Record
from coinjar.platforms.requests import (
    Examples,
    ListRequest,
    RequestTemplate,
    RestartRequest,
    Signature,
    StateRequest,
    TokenRequest,
    WaitCondition,
    WriteRequests,
)


class PlatformDescription(Record, kw_only=True):
    """A platform. Sizes are bytes of UTF-8 (`longest_value`: characters); None: no known limit.

    `gone`, `outdated` and `busy` are the HTTP statuses that mean: what was to be removed is not there; the target
    changed since it was read; try again later (`busy_wait`: when, by an ID in the answer). `by_secrecy` maps
    placeholders to their text for a secret, and for other values.
    """

    name: str
    location: Location
    about: str = ""
    settings: Mapping[str, str] = {}
    token_header: str = ""
    token_text: str = ""
    user: str = ""
    token_request: TokenRequest | None = None
    signature: Signature | None = None
    one_for: str = "service"
    carried: bool = False
    whole: bool = False
    spelling: NameSpelling = NameSpelling()
    shape: str = ""
    longest_name: int | None = None
    folds_case: bool = False
    largest: int | None = None
    longest_value: int | None = None
    value_shape: str = ""
    control_characters: bool = True
    empty: str = "kept"
    line_breaks: bool = True
    most: int | None = None
    total: int | None = None
    at_once: int = 1
    per_second: int | None = None
    gone: tuple[int, ...] = (404, 410)
    outdated: tuple[int, ...] = (409, 412, 428)
    busy: tuple[int, ...] = (423,)
    busy_wait: WaitCondition | None = None
    by_secrecy: Mapping[str, tuple[str, str]] = {}
    reserved: tuple[str, ...] = ()
    supplied: tuple[str, ...] = ()
    in_effect: str = "next-deploy"
    account: tuple[RequestTemplate, str] | None = None
    listing: ListRequest | None = None
    writing: WriteRequests = WriteRequests()
    state: StateRequest | None = None
    restart: RestartRequest | None = None
    run: RestartRequest | None = None
    examples: Examples | None = None
    kept: tuple[str, ...] = ()
    """The placeholders that answers fill (`keep`)."""
