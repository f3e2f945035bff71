"""Base of the stand-ins: a server on loopback, its state in a file, a token, faults, and a page for a browser."""

from __future__ import annotations

import contextlib
import json
import os
import re
import secrets
import threading
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from email.utils import formatdate
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar, NamedTuple
from urllib.parse import parse_qs, unquote, urlsplit

FAULTS = ("slow", "drop", "500", "half", "429")
EVERY = 3
"""The default interval of a fault: every third request."""
_SLOW = 0.2
_CHANGING = ("POST", "PUT", "PATCH", "DELETE")


class ErrorResponse(Exception):
    """An error response."""

    def __init__(self, code: int, words: str, headers: Mapping[str, str] | None = None) -> None:
        super().__init__(words)
        self.code = code
        self.words = words
        self.headers = headers or {}
        self.body: Any = {"error": words}


class ApiCall(NamedTuple):
    """A request: path parameters, query, body, and the caller."""

    parts: tuple[str, ...]
    query: Mapping[str, str]
    body: Any
    who: str
    content_type: str = ""


class HtmlPage(str):
    """An HTML response instead of JSON."""

    __slots__ = ()


class ResponseWithHeaders(NamedTuple):
    """A response with headers of its own."""

    data: Any
    headers: Mapping[str, str]


Route = tuple[str, re.Pattern[str], Callable[[Any, ApiCall], Any], bool]


def route(
    method: str, path: str, *, free: bool = False
) -> Callable[[Callable[[Any, ApiCall], Any]], Callable[[Any, ApiCall], Any]]:
    """Mark the handler of a path; `{}` stands for one step of it, `{*}` for the rest. `free`: without a token."""

    def mark(function: Callable[[Any, ApiCall], Any]) -> Callable[[Any, ApiCall], Any]:
        pattern = re.escape(path).replace(r"\{\*\}", "(.*)").replace(r"\{\}", "([^/]+)")
        function.__dict__.setdefault("routes", []).append((method, re.compile(pattern), function, free))
        return function

    return mark


class InjectedFault:
    """A fault injected into every n-th request (`drop` and `half`: every n-th that changes something)."""

    def __init__(self, message: str) -> None:
        self.kind, _, number = message.partition(":")
        self.every = int(number or EVERY)
        self._count = 0

    def meets(self, method: str) -> bool:
        """Return whether it affects this request."""
        if self.kind in ("drop", "half") and method not in _CHANGING:
            return False
        self._count += 1
        return self._count % self.every == 0


class Standin(ABC):
    """One simulated platform. Subclasses have routes and define the initial state."""

    name = ""
    prefix = ""
    """Prefix of its API; other paths are the page, or free."""
    unguarded: ClassVar[bool] = False
    """Whether it requires no token."""

    def __init__(self, folder: Path, fault: str = "") -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.path = folder / f"{self.name}.json"
        self.fault = InjectedFault(fault) if fault else None
        self.lock = threading.RLock()
        self.address = ""
        self.half = False
        self.state: dict[str, Any] = json.loads(self.path.read_text()) if self.path.exists() else self.first()
        self.state.setdefault("tokens", {"anna": secrets.token_hex(12), "berta": secrets.token_hex(12)})
        kind = type(self)
        result = [item for member in dir(kind) for item in getattr(getattr(kind, member), "routes", ())]
        self.routes: list[Route] = sorted(result, key=lambda item: "(.*)" in item[1].pattern)  # a catch-all last
        self.save()

    def first(self) -> dict[str, Any]:
        """Return the initial state."""
        return {}

    @abstractmethod
    def make(self, name: str) -> None:
        """Create an app or project of this name; the server is already listening."""

    @abstractmethod
    def sections(self) -> Iterator[tuple[str, str, Sequence[tuple[str, str, str]]]]:
        """Return for the page: a title, a remark, and rows of name, value and remark."""

    def more(self) -> dict[str, str]:
        """Return further members of its line of JSON."""
        return {}

    def save(self) -> None:
        """Write the state, whole; a crash of the machine may lose the last one."""
        unfinished = self.path.with_suffix(".unfinished")
        with open(unfinished, "w", opener=_private) as file:
            json.dump(self.state, file, ensure_ascii=False)
        unfinished.replace(self.path)

    def who(self, header: str) -> str:
        """Return the owner of this token. Raises ErrorResponse."""
        for name, token in self.state["tokens"].items():
            if secrets.compare_digest(header.encode(), f"Bearer {token}".encode()):
                return str(name)
        raise ErrorResponse(401, "no such token")

    def answer(self, method: str, path: str, query: Mapping[str, str], body: Any, headers: Mapping[str, str]) -> Any:
        """Return the response to a request, with its change saved. Raises ErrorResponse."""
        known = False
        for wanted, pattern, function, free in self.routes:
            if match := pattern.fullmatch(path):
                known = True
                if wanted == method:
                    with self.lock:
                        who = "" if free or self.unguarded else self.who(headers.get("Authorization", ""))
                        parts = tuple(unquote(group or "") for group in match.groups())
                        data = function(self, ApiCall(parts, query, body, who, headers.get("Content-Type", "")))
                        if method in _CHANGING:
                            self.save()
                        return data
        raise ErrorResponse(405 if known else 404, "no such thing here")

    @route("GET", "/", free=True)
    def page(self, call: ApiCall) -> HtmlPage:
        """Return the page for a browser; secrets are masked."""
        del call
        from jinja2 import Environment, PackageLoader

        page = Environment(loader=PackageLoader("coinjar.standins", "."), autoescape=True).get_template(
            "page.html.jinja"
        )
        return HtmlPage(
            page.render(
                name=self.name.capitalize(),
                about=(type(self).__doc__ or "").splitlines()[0],
                sections=list(self.sections()),
            )
        )


def _private(path: str, flags: int) -> int:
    return os.open(path, flags, 0o600)


def as_object(body: Any, *names: str) -> dict[str, Any]:
    """Return a body that must be an object with these members."""
    if not isinstance(body, dict) or any(name not in body for name in names):
        raise ErrorResponse(422, f"the body must have {', '.join(names)}" if names else "the body must be an object")
    return body


class _Handler(BaseHTTPRequestHandler):
    server: StandinServer
    protocol_version = "HTTP/1.1"
    wbufsize = -1

    def _any(self) -> None:
        standin = self.server.standin
        url = urlsplit(self.path)
        self.server.seen.append(f"{self.command} {url.path}")
        raw = self.rfile.read(int(self.headers.get("Content-Length") or 0))
        fault = standin.fault if url.path.startswith(standin.prefix) and url.path != "/" else None
        met = fault.kind if fault and fault.meets(self.command) else ""
        if met == "slow":
            time.sleep(_SLOW)
        elif met == "429":
            return self._send(429, {"error": "slow down"}, {"Retry-After": formatdate(time.time() + 0.2, usegmt=True)})
        elif met == "500":
            return self._send(500, {"error": "internal error"})
        standin.half = met == "half"
        try:
            body = self._body(raw)
            query = {name: names[-1] for name, names in parse_qs(url.query, keep_blank_values=True).items()}
            result = standin.answer(self.command, url.path, query, body, dict(self.headers.items()))
        except ErrorResponse as fault_there:
            return self._send(fault_there.code, fault_there.body, fault_there.headers)
        finally:
            standin.half = False
        if met == "drop":
            self.close_connection = True
            return None
        if met == "half":
            return self._send(500, {"error": "internal error during the change"})
        headers = result.headers if isinstance(result, ResponseWithHeaders) else {}
        return self._send(
            201 if self.command == "POST" else 200,
            result.data if isinstance(result, ResponseWithHeaders) else result,
            headers,
        )

    def _body(self, raw: bytes) -> Any:
        if (
            not raw
            or "yaml" in self.headers.get("Content-Type", "")
            or self.headers.get("Content-Type", "").startswith("text/")
        ):
            return raw.decode(errors="replace") if raw else None
        if self.headers.get("Content-Type") == "application/x-www-form-urlencoded":
            return {name: names[-1] for name, names in parse_qs(raw.decode(), keep_blank_values=True).items()}
        try:
            return json.loads(raw)
        except ValueError:
            raise ErrorResponse(400, "the body is not JSON") from None

    def _send(self, code: int, body: Any, headers: Mapping[str, str] | None = None) -> None:
        is_page = isinstance(body, HtmlPage)
        data = str(body).encode() if is_page else json.dumps(body, ensure_ascii=False).encode()
        self.send_response(code)
        self.send_header("Content-Type", "text/html; charset=utf-8" if is_page else "application/json")
        self.send_header("Content-Length", str(len(data)))
        for name, text in (headers or {}).items():
            self.send_header(name, text)
        self.end_headers()
        with contextlib.suppress(BrokenPipeError, ConnectionResetError):
            self.wfile.write(data)

    do_GET = do_POST = do_PUT = do_PATCH = do_DELETE = _any  # noqa: N815 - as the base class wants them

    def log_message(self, form: str, *values: Any) -> None:
        del form, values


class StandinServer(ThreadingHTTPServer):
    """A listening stand-in; `seen` are the requests, in order."""

    daemon_threads = True
    request_queue_size = 256

    def __init__(self, standin: Standin, port: int) -> None:
        self.standin = standin
        self.seen: list[str] = []
        super().__init__(("127.0.0.1", port), _Handler)
        standin.address = f"http://127.0.0.1:{self.server_address[1]}"

    def handle_error(self, request: Any, client_address: Any) -> None:
        """Ignore a client that went away."""
        import sys

        if not isinstance(sys.exception(), ConnectionError):
            super().handle_error(request, client_address)


@contextlib.contextmanager
def served(standin: Standin, port: int = 0) -> Iterator[StandinServer]:
    """Run a stand-in inside a `with` block."""
    with StandinServer(standin, port) as server:
        thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True)
        thread.start()
        try:
            yield server
        finally:
            server.shutdown()
            thread.join()
