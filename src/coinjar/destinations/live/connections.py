"""One HTTP request and its whole answer: urllib3, in a thread for each request.

urllib3 and threads, since their import takes half of the time of an asynchronous client's (docs/decisions.md).
"""

from __future__ import annotations

import asyncio
import json
import os
import re
import ssl
import threading
from collections.abc import Awaitable, Callable, Mapping
from contextlib import suppress
from functools import cache
from typing import TYPE_CHECKING, NamedTuple
from urllib.parse import unquote, urljoin, urlsplit

if TYPE_CHECKING:
    import urllib3

    from coinjar.documents.json_data import Data

_MOST_AT_ONCE = 20
"""Maximum requests in flight to an address."""
_PATIENCE = 30.0
"""Timeout in seconds for connecting, and for each piece of an answer."""
_LONGEST_ANSWER = 120.0
"""Maximum seconds for a whole answer."""
LARGEST_ANSWER = 32 << 20
"""Maximum size of an answer, decompressed, in bytes."""
_PIECE = 1 << 16
_LOOPBACK = ("127.0.0.1", "::1", "localhost")
_LINK = re.compile(r"<([^<>]*)>([^<>]*)")
"""A link and its parameters (RFC 8288, 3)."""
_NEXT = re.compile(r";\s*rel\s*=\s*(?:\"(?:[^\"]*\s)?next(?:\s[^\"]*)?\"|next(?![^\s;]))", re.IGNORECASE)


def is_loopback(address: str) -> bool:
    """Return whether an address is of this machine: requests there go through no proxy, and may be plain HTTP."""
    try:
        return urlsplit(address).hostname in _LOOPBACK
    except ValueError:
        return False


class SentRequest(NamedTuple):
    """A request as it is sent. `url` is absolute, `content` is the body."""

    method: str
    url: str
    headers: Mapping[str, str] = {}
    content: bytes | None = None


class HttpAnswer(NamedTuple):
    """An answer. The names of `headers` are in lower case; `content` is decompressed."""

    status: int
    headers: Mapping[str, str] = {}
    content: bytes = b""

    @property
    def text(self) -> str:
        """The content as text, in the charset that the answer names, else UTF-8."""
        charset = re.search(r"charset=\"?([\w.:-]+)", self.headers.get("content-type", ""))
        try:
            return self.content.decode(charset[1] if charset else "utf-8", "replace")
        except LookupError:
            return self.content.decode("utf-8", "replace")

    def json(self) -> Data:
        """Return the content as JSON. Raises ValueError or RecursionError."""
        data: Data = json.loads(self.content)
        return data

    def next_page(self, url: str) -> str | None:
        """Return the address of the page after `url`, which was answered (RFC 8288)."""
        for link in _LINK.finditer(self.headers.get("link", "")):
            if _NEXT.search(link[2]):
                return str(urljoin(url, link[1]))
        return None


Transport = Callable[[SentRequest], Awaitable[HttpAnswer]]
"""What sends a request and returns its answer. Raises ExchangeError."""


class ExchangeError(Exception):
    """No answer came; the message says why in a few words, without an address or a secret."""


class NotReached(ExchangeError):
    """Nothing was sent."""


class NotSendable(ExchangeError):
    """The request cannot be sent at all: HTTP does not allow one of its characters."""


class TooLarge(ExchangeError):
    """The answer is larger than allowed."""


@cache
def _server_certificates() -> ssl.SSLContext:
    """Return the TLS context for servers' certificates: loaded once, since it takes 40 ms."""
    import certifi

    file, folder = os.environ.get("SSL_CERT_FILE"), os.environ.get("SSL_CERT_DIR")
    if file or folder:
        return ssl.create_default_context(cafile=file or None, capath=folder or None)
    return ssl.create_default_context(cafile=certifi.where())


class Connections:
    """A transport over connections to one address, which stay open. `verify`: False accepts any certificate.

    `patience`: seconds for connecting, and for each piece of an answer.
    """

    def __init__(self, address: str, verify: ssl.SSLContext | bool = True, patience: float = _PATIENCE) -> None:
        self._address = address
        self._verify = verify
        self._patience = patience
        self._pool: urllib3.PoolManager | None = None
        self._turns = asyncio.Semaphore(_MOST_AT_ONCE)

    async def __call__(self, request: SentRequest) -> HttpAnswer:
        """Return the answer to a request; redirects are not followed."""
        if self._pool is None:
            self._pool = _pool(self._address, self._verify, self._patience)
        pool = self._pool
        try:
            async with self._turns, asyncio.timeout(_LONGEST_ANSWER):
                return await _in_thread(lambda: _exchange(pool, request))
        except TimeoutError:
            raise ExchangeError(f"no whole answer in {_LONGEST_ANSWER:.0f} s") from None

    def close(self) -> None:
        """Close the connections."""
        if self._pool is not None:
            self._pool.clear()
            self._pool = None


async def _in_thread(work: Callable[[], HttpAnswer]) -> HttpAnswer:
    """Return what `work` returns in a thread that nobody waits for once this is cancelled: an interrupted program
    ends at once.
    """
    loop = asyncio.get_running_loop()
    future: asyncio.Future[HttpAnswer] = loop.create_future()

    def settle(answer: HttpAnswer | None, fault: BaseException | None) -> None:
        if not future.done():
            if answer is not None:
                future.set_result(answer)
            else:
                future.set_exception(fault or ExchangeError())

    def run() -> None:
        answer, fault = None, None
        try:
            answer = work()
        except BaseException as raised:  # noqa: BLE001 - it is raised again in the loop
            fault = raised
        with suppress(RuntimeError):  # the loop has ended: nobody waits any more
            loop.call_soon_threadsafe(settle, answer, fault)

    threading.Thread(target=run, daemon=True).start()
    return await future


def _pool(address: str, verify: ssl.SSLContext | bool, patience: float) -> urllib3.PoolManager:
    """Return the pool for an address: through the proxy that the environment names, if any."""
    import urllib3

    context = None
    if address.startswith("https:"):
        context = verify if isinstance(verify, ssl.SSLContext) else _server_certificates() if verify else _unverified()
    proxy = None if is_loopback(address) else _proxy(address)
    timeout = urllib3.Timeout(connect=patience, read=patience)
    if proxy is None:
        return urllib3.PoolManager(maxsize=_MOST_AT_ONCE, ssl_context=context, timeout=timeout, retries=False)
    try:
        identity = urllib3.util.parse_url(proxy).auth
        return urllib3.ProxyManager(
            proxy,
            maxsize=_MOST_AT_ONCE,
            ssl_context=context,
            timeout=timeout,
            retries=False,
            proxy_headers=urllib3.make_headers(proxy_basic_auth=unquote(identity)) if identity else None,
        )
    except urllib3.exceptions.HTTPError:
        raise NotSendable("the proxy that the environment names is not an http:// address") from None


def _unverified() -> ssl.SSLContext:
    """Return a context that accepts any certificate, as the user asked for."""
    import urllib3

    urllib3.disable_warnings(urllib3.exceptions.InsecureRequestWarning)
    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


def _proxy(address: str) -> str | None:
    from urllib.request import getproxies, proxy_bypass

    parts = urlsplit(address)
    if not parts.hostname or proxy_bypass(parts.hostname):
        return None
    proxies = getproxies()
    found = proxies.get(parts.scheme) or proxies.get("all")
    return found if found is None or "://" in found else f"http://{found}"


def _exchange(pool: urllib3.PoolManager, request: SentRequest) -> HttpAnswer:
    """Send a request and return its answer. Raises ExchangeError."""
    from urllib3.exceptions import HTTPError, LocationValueError

    headers = {"Accept": "*/*", "Accept-Encoding": "gzip, deflate", "User-Agent": "coinjar"} | dict(request.headers)
    try:
        answer = pool.urlopen(
            request.method,
            request.url,
            body=request.content,
            headers=headers,
            redirect=False,
            preload_content=False,
        )
        try:
            content = _content(answer)
        except BaseException:
            answer.close()
            raise
        return HttpAnswer(answer.status, {name.lower(): text for name, text in answer.headers.items()}, content)
    except LocationValueError:
        raise NotSendable("it is not an address") from None
    except HTTPError as fault:
        raise _in_words(fault) from None
    except ValueError:  # its text contains the header
        raise NotSendable("a header or the address has a character that HTTP does not allow") from None


def _content(answer: urllib3.BaseHTTPResponse) -> bytes:
    content = bytearray()
    for piece in answer.stream(_PIECE, decode_content=True):
        content += piece
        if len(content) > LARGEST_ANSWER:
            raise TooLarge(f"more than {LARGEST_ANSWER >> 20} MiB")
    return bytes(content)


def _in_words(fault: Exception) -> ExchangeError:
    """Return what a fault was, without its own text, which may repeat what was sent."""
    from urllib3 import exceptions

    if isinstance(fault, exceptions.NewConnectionError) and not isinstance(fault, exceptions.NameResolutionError):
        cause = fault.__cause__
        return NotReached((isinstance(cause, OSError) and cause.strerror) or "no connection")
    for kind, words in (
        (exceptions.NameResolutionError, NotReached("the host name is unknown")),
        (exceptions.ConnectTimeoutError, NotReached("no connection in time")),
        (exceptions.ProxyError, NotReached("the proxy does not connect")),
        (exceptions.ReadTimeoutError, ExchangeError("it took too long")),
        (exceptions.DecodeError, ExchangeError("it cannot be decompressed")),
    ):
        if isinstance(fault, kind):
            return words
    if isinstance(fault, exceptions.SSLError):
        reason = fault.args[0] if fault.args else None
        if isinstance(reason, ssl.SSLCertVerificationError):
            return NotReached(f"its certificate is not valid here: {reason.verify_message}")
        return ExchangeError(f"TLS: {(getattr(reason, 'reason', None) or 'no connection').replace('_', ' ').lower()}")
    return ExchangeError("the connection ended")
