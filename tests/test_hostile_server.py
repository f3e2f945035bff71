"""Somebody else's server: whatever it answers, the end is one clear error, and no secret goes elsewhere or is shown."""

from __future__ import annotations

import gzip
import json
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest

from tests.conftest import Coinjar
from tests.hostile_repository import listening

SECRET = "made-up/\"secret\"<with>'signs'&more+%"

JAR = """\
services: {{web: {{}}}}
stages: {{dev: {{}}}}
variables: {{A: {{default: x}}, TOKEN: {{secret: true}}}}
destinations:
  salt: {{type: platform, platform: saltmarsh, address: "{address}", app: line, token: {{from_env: T}}}}
  fish: {{type: platform, platform: lanternfish, address: "{address}", project: line, token: {{from_env: T}}}}
  registry: {{type: etcd, address: "{address}", prefix: "/x/{{stage}}/"}}
  k8s: {{type: manifests, from: k8s, to: rendered}}
  live: {{type: cluster, manifests: k8s, kubeconfig: kubeconfig}}
proofs: {{up: {{service: web, http: "{address}/x", at: /a/b, expect: x}}}}
"""
DEPLOYMENT = (
    "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: web}\n"
    "spec: {template: {spec: {containers: [{name: web, image: x}]}}}\n"
)

Answer = Callable[["Handler"], None]


class Handler(BaseHTTPRequestHandler):
    """Answers everything as the test says."""

    answer: Answer

    def __getattr__(self, name: str) -> Any:
        if name.startswith("do_"):  # the library looks for one per method
            return self.handle_any
        raise AttributeError(name)

    def handle_any(self) -> None:
        length = int(self.headers.get("content-length") or 0)
        self.body = self.rfile.read(length)
        type(self).answer(self)

    def log_message(self, *_: Any) -> None:
        """Say nothing."""

    def say(self, status: int, body: bytes = b"", **headers: str) -> None:
        self.send_response(status)
        for name, text in headers.items():
            self.send_header(name.replace("_", "-"), text)
        self.send_header("content-length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)


@contextmanager
def serving(answer: Answer) -> Iterator[str]:
    handler = type("Answering", (Handler,), {"answer": staticmethod(answer)})
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()


def a_jar(jar: Callable[..., Coinjar], address: str) -> Coinjar:
    cj = jar(JAR.format(address=address))
    access = {
        "current-context": "c", "contexts": [{"name": "c", "context": {"cluster": "c", "user": "u"}}],
        "clusters": [{"name": "c", "cluster": {"server": address}}],
        "users": [{"name": "u", "user": {"token": "made-up-cluster-token"}}],
    }  # fmt: skip
    cj.write({"k8s/web.yaml": DEPLOYMENT, "kubeconfig": json.dumps(access)})
    cj.env |= {"T": "made-up-access-token", "COINJAR_TRACEBACK": ""}
    cj("put", "TOKEN", "--stage", "dev", stdin=SECRET)
    return cj


KNOWN = {"id": "x", "name": "line", "tenant": {"name": "t"}, "team": "t", "project": "line", "metadata": {"uid": "u"}}
"""What the account is told by: with it, the conversation goes on."""
BODIES: list[object] = [
    None, [], {}, "x", 3, True, [None], [[]], [{}], {"items": 3}, {"items": [3]}, {"items": [{}]},
    {"items": [{"metadata": 3}]}, {"metadata": []}, {"kvs": 3}, {"kvs": [{}]},
    {"kvs": [{"key": "###", "value": 3, "mod_revision": "x"}]}, {"settings": 3}, {"settings": {"A": {"x": []}}},
    {"variables": "x"}, {"next": {"x": 1}}, {"id": None, "name": 3, "settings": []},
    {"a": {"b": {"c": []}}}, {"items": [{"name": "A", "text": [], "on": 3, "shown": "x", "id": {}}]},
    {"error": {"message": [1]}},
]  # fmt: skip


@pytest.mark.parametrize("status", [200, 204, 404, 422])
def test_any_answer_ends_clearly(jar: Callable[..., Coinjar], status: int) -> None:
    sent: list[bytes] = [b""]
    with serving(
        lambda handler: handler.say(status, b"" if status == 204 else sent[0], content_type="application/json")
    ) as address:
        cj = a_jar(jar, address)
        for content in [
            b"",
            b"<html>",
            b"\xff\xfe",
            b"[" * 2000,
            *(
                json.dumps(item).encode()
                for item in [*BODIES, *(KNOWN | body for body in BODIES if isinstance(body, dict))]
            ),
        ]:
            sent[0] = content
            for line in (
                ("drift dev salt", "drift dev fish", "drift dev registry", "drift dev live", "confirm dev")
                if status < 500
                else ("drift dev live",)
            ):
                done = cj(*line.split(), code=None)
                assert done.code in (0, 1, 3, 5), (line, content, done)
                assert "made-up" not in done.out + done.err, (line, content)
            if status == 200:
                done = cj("deliver", "dev", "salt", code=None)
                assert done.code in (0, 1, 2, 3, 5), (content, done)
                assert "made-up" not in done.out + done.err


def test_what_was_sent_is_not_shown_in_any_spelling(jar: Callable[..., Coinjar]) -> None:
    """A refusal that repeats the body as it came, decoded, escaped for HTML, cut off, in a header."""

    def answer(handler: Handler) -> None:
        if handler.command == "GET":
            handler.say(
                200, json.dumps({**KNOWN, "settings": {}, "links": []}).encode(), content_type="application/json"
            )
            return
        decoded = handler.body.decode()
        whole = [
            decoded,
            json.loads(decoded),
            decoded.replace("<", "\\u003c").replace('\\"', "\\u0022"),
            decoded[: decoded.find("made-up") + 20],
        ]
        message = json.dumps(whole[count[0] % len(whole)])
        count[0] += 1
        handler.say(422, f"refused: {message}".encode(), location=f"/x?v={decoded[-60:]}".replace("\n", ""))

    count = [0]
    with serving(answer) as address:
        cj = a_jar(jar, address)
        for _ in range(4):
            done = cj("deliver", "dev", "salt", code=None)
            assert done.code == 5
            assert "422" in done.err
            assert "made-up" not in done.out + done.err


def test_the_token_stays_at_its_address(jar: Callable[..., Coinjar]) -> None:
    """A redirect, a next page and a link elsewhere are not followed."""
    with listening() as elsewhere:
        other = f"http://127.0.0.1:{elsewhere.port}/v1/apps/line"
        answers: list[Answer] = [
            lambda handler: handler.say(302, location=other),
            lambda handler: handler.say(307, location=other),
            lambda handler: handler.say(200, b'{"items": [], "settings": {}}', link=f'<{other}>; rel="next"'),
            lambda handler: handler.say(200, json.dumps({"items": [], "next": other}).encode()),
        ]
        for answer in answers:
            with serving(answer) as address:
                cj = a_jar(jar, address)
                for name in ("salt", "fish", "registry", "live"):
                    cj("drift", "dev", name, code=None)
                cj("confirm", "dev", code=None)
        assert not elsewhere.heard


def test_nothing_bursts(jar: Callable[..., Coinjar]) -> None:
    """A small answer that becomes a large one, and a list that never ends."""
    bomb = gzip.compress(b" " * (200 << 20))
    with serving(lambda handler: handler.say(200, bomb, content_encoding="gzip")) as address:
        cj = a_jar(jar, address)
        assert "more than 32 MiB" in cj("drift", "dev", "salt", code=5).err

    page = [0]

    def endless(handler: Handler) -> None:
        page[0] += 1
        items = [{"id": "1", "name": "B", "text": "x", "on": [], "shown": True}]
        handler.say(200, json.dumps({**KNOWN, "items": items, "next": "more", "count": 9}).encode())

    with serving(endless) as address:
        cj = a_jar(jar, address)
        assert "pages" in cj("drift", "dev", "fish", code=5).err
        assert page[0] < 2000
