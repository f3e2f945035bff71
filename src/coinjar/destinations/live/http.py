"""The HTTP client: sends requests, repeats those that allow it, and describes failures.

Secrets and tokens never appear in messages.
"""

from __future__ import annotations

import asyncio
import json
import math
import random
import ssl
import time
from collections.abc import Callable, Iterable, Mapping
from email.utils import parsedate_to_datetime
from typing import NamedTuple, Self
from urllib.parse import urlsplit

from coinjar.core.errors import ExternalError, InputError, Location
from coinjar.core.masking import SHORTEST
from coinjar.core.redaction import Redactor
from coinjar.core.secret import reveal
from coinjar.destinations.live.base import ResponseLost
from coinjar.destinations.live.connections import (
    Connections,
    ExchangeError,
    HttpAnswer,
    NotReached,
    NotSendable,
    SentRequest,
    TooLarge,
    Transport,
    is_loopback,
)
from coinjar.destinations.live.patience import RequestPatience
from coinjar.documents.json_data import Data

_TRIES = 6
_TRIES_TO_REACH = 3
"""Retries where nobody listens: waiting for a mistyped address is worse than a second run."""
_NOTED_WAIT = 3.0
"""Seconds from which a wait is shown."""
_SHOWN = 300
"""Characters of a server's message that are shown."""
_LONGEST_MESSAGE = 1 << 16
"""Characters of it that are looked through for secrets first."""
_BUSY = (429, 503)


class Request(NamedTuple):
    """A request to send. `repeat`: it may be sent again without checking; `content` is a body that is not JSON."""

    method: str
    path: str
    body: Data = None
    repeat: bool = True
    headers: Mapping[str, str] = {}
    content: bytes | None = None
    absent: tuple[int, ...] = ()
    """Statuses that are a valid response (None): there is nothing."""
    shown: str = ""
    """The path for messages, where it contains a secret."""
    busy: tuple[int, ...] = ()
    """Statuses that mean: try again later. 429 and 503 always do."""

    @property
    def shown_path(self) -> str:
        """The path for display."""
        return self.shown or self.path


class Response(NamedTuple):
    """A response: JSON data (None if there was none), the address of the next page (RFC 8288), and its headers."""

    data: Data
    next: str | None = None
    headers: Mapping[str, str] = {}


class _Retry(NamedTuple):
    """Why a request may be tried again, after how many seconds, and how often at most."""

    fault: ExternalError
    pause: float | None = None
    most: int = _TRIES


class HttpStatusError(ExternalError):
    """A response with an error status."""

    def __init__(self, label: str, words: str, hint: str, location: Location, answer: HttpAnswer) -> None:
        super().__init__(words, hint=hint, location=location, code=f"http-{answer.status}", of=label)
        self.status = answer.status
        self.answer = answer

    def data(self) -> Data:
        """Return the body; None if it is not JSON."""
        try:
            return self.answer.json()
        except (ValueError, RecursionError):
            return None


class HttpClient:
    """Sends requests to one address. `hidden` are the texts that no message may show.

    `patience`: how long a request may wait. `sign` returns more headers for a method, a path and a body, for each try.
    `transport` sends the requests instead of a network connection, for example in a test.
    """

    def __init__(
        self,
        address: str,
        headers: Mapping[str, str],
        label: str,
        origin: Location,
        *,
        hidden: Iterable[str] = (),
        verify: ssl.SSLContext | bool = True,
        sign: Callable[[str, str, bytes], Mapping[str, str]] | None = None,
        patience: RequestPatience | None = None,
        transport: Transport | None = None,
    ) -> None:
        self._sign = sign
        self._patience = patience or RequestPatience()
        self.address = address.rstrip("/")
        self.label = label
        self.origin = origin
        self.hidden = [reveal(name) for name in hidden if name]
        self._headers = {name: reveal(text) for name, text in headers.items()}
        self._connections = Connections(self.address, verify)
        self._transport = transport or self._connections
        parts = urlsplit(self.address)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise InputError(
                f"'{address}' is not an address", hint="write https://HOST", location=origin, code="address", of=label
            )
        if parts.scheme == "http" and not is_loopback(self.address):
            message = f"the token and all secrets would be sent unencrypted to {parts.hostname}"
            raise InputError(
                message,
                hint="use https://; plain http is only for this machine",
                location=origin,
                code="address",
                of=label,
            )

    async def close(self) -> None:
        """Close the connections."""
        self._connections.close()

    async def __aenter__(self) -> Self:
        """Connections are opened with the first request."""
        return self

    async def __aexit__(self, *_raised: object) -> None:
        await self.close()

    async def send(self, ask: Request) -> Response:
        """Return the response to a request.

        Raises ResponseLost if it may have been carried out and must not be repeated, else ExternalError.
        """
        started = time.monotonic()
        number = 0
        while not isinstance(retry := await self._try(ask), Response):
            # It only spreads the tries.
            pause = retry.pause if retry.pause is not None else 0.2 * 2**number * random.uniform(0.5, 1.5)  # noqa: S311
            number += 1
            if number >= retry.most or time.monotonic() + pause - started > self._patience.longest:
                if retry.pause is not None:
                    seconds = math.ceil(retry.pause)
                    retry.fault.hint = f"it asks to wait {seconds} s: run it again later, or with --wait {seconds + 5}"
                raise retry.fault
            if pause > _NOTED_WAIT:
                why = "as the service asks" if retry.pause is not None else "then trying again"
                self._patience.note(f"{self.label}: waiting {math.ceil(pause)} s, {why}")
            await asyncio.sleep(pause)
        return retry

    async def _try(self, ask: Request) -> Response | _Retry:
        """Try once: return a response, or why another try is worth it. Raises what another try would not fix."""
        url = ask.path if ask.path.startswith(("http://", "https://")) else self.address + ask.path
        try:
            answer = await self._once(ask, url)
        except ExchangeError as fault:
            return self._without_answer(ask, fault)
        code = answer.status
        if code < 300 or code in ask.absent:
            return self._read(ask, url, answer)
        refused = self._refused(ask, answer)
        if code in (*_BUSY, *ask.busy) and "retry-after" in answer.headers:
            return _Retry(refused, _seconds(answer.headers["retry-after"]))
        if code in ask.busy:
            return _Retry(refused)
        if code != 429 and code < 500:
            raise refused
        if code != 429 and not ask.repeat:
            raise self._lost(f"{self._named(ask)} was answered with {code}")
        return _Retry(refused)

    def _without_answer(self, ask: Request, fault: ExchangeError) -> _Retry:
        """Return why another try is worth it after none was answered. Raises what another try would not fix."""
        if isinstance(fault, NotReached):
            message = f"cannot reach {self.address}: {fault}"
            return _Retry(self._failed(message, "check that it is running, and the address"), most=_TRIES_TO_REACH)
        if isinstance(fault, NotSendable):
            raise self._failed(f"{self._named(ask)} cannot be sent: {fault}", "correct the token or the path") from None
        if isinstance(fault, TooLarge):
            message = f"{self._named(ask)} was answered with {fault}"
            raise self._failed(message, "check the address, and the service") from None
        message = f"{self._named(ask)} got no answer: {fault}"
        if not ask.repeat:
            raise self._lost(message) from None
        return _Retry(self._failed(message, "run it again; what was written stays"))

    async def _once(self, ask: Request, url: str) -> HttpAnswer:
        headers = self._headers | dict(ask.headers)
        content = ask.content
        if content is None and ask.body is not None:
            content = json.dumps(ask.body, ensure_ascii=False, separators=(",", ":"), allow_nan=False).encode()
            headers["Content-Type"] = "application/json"
        if self._sign is not None:
            headers |= self._sign(ask.method, ask.path, content or b"")
        return await self._transport(SentRequest(ask.method, url, headers, content))

    def _read(self, ask: Request, url: str, answer: HttpAnswer) -> Response:
        onward = answer.next_page(url)
        if onward and urlsplit(onward)[:2] != urlsplit(self.address)[:2]:
            raise self._failed(f"{self._named(ask)} names a next page on another server", "the token is not sent there")
        if not answer.content or answer.status in ask.absent:
            return Response(None, onward, answer.headers)
        try:
            return Response(answer.json(), onward, answer.headers)
        except (ValueError, RecursionError):
            raise self._failed(
                f"{self._named(ask)} was answered with a body that is not JSON", "check the address"
            ) from None

    def _named(self, ask: Request) -> str:
        """Return a request for a message, without a secret that its path contains."""
        return f"{ask.method} {Redactor(dict.fromkeys(self.hidden, '')).text(ask.shown_path)[:_SHOWN]}"

    def redacted(self, text: str) -> str:
        """Return the start of what a server answered, on one line, without the secrets that were sent to it."""
        short = [name for name in self.hidden if 0 < len(name) < SHORTEST]
        if any(name in text for name in short):
            return ""  # too short to be replaced without destroying the message
        shown = Redactor(dict.fromkeys(self.hidden, "")).excerpt(text[:_LONGEST_MESSAGE])
        return " ".join(shown.split())[:_SHOWN]

    def _refused(self, ask: Request, answer: HttpAnswer) -> HttpStatusError:
        message = self.redacted(answer.text)
        moved = answer.headers.get("location", "")
        hints = {
            401: "check the token",
            403: "check the permissions of the token",
            404: "check the name, and that it exists",
            429: "wait, then run it again",
        }
        hint = hints.get(
            answer.status,
            "see its message" if answer.status < 500 else "run it again; what was written stays",
        )
        if moved:  # not followed: the token is for this address
            message, hint = f"it has moved to {self.redacted(moved)}", "if that is right, write the new address"
        words = f"{self._named(ask)} was answered with {answer.status}" + (f": {message}" if message else "")
        return HttpStatusError(self.label, words, hint, self.origin, answer)

    def _failed(self, message: str, hint: str, code: str = "http") -> ExternalError:
        return ExternalError(message, hint=hint, location=self.origin, code=code, of=self.label)

    def _lost(self, message: str) -> ResponseLost:
        return ResponseLost(self.label, message, self.origin)


def _seconds(text: str) -> float:
    """Return the wait of Retry-After (RFC 9110, 10.2.3): seconds or a date."""
    if text.strip().isdigit():
        return float(text)
    try:
        return max(0.0, parsedate_to_datetime(text).timestamp() - time.time())
    except ValueError:
        return 1.0
