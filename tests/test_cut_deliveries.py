"""Deliveries to a stand-in in memory, cut off before and after each of their requests."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from urllib.parse import parse_qsl, urlsplit

import pytest

from coinjar import OpenJar
from coinjar.actions.delivery.deliver import Delivery
from coinjar.actions.delivery.live_stage import LiveStage
from coinjar.actions.delivery.outcome import DeliveryOptions
from coinjar.actions.editing.values import Assignment, put
from coinjar.core.display import Masker
from coinjar.core.secret import Secret, reveal
from coinjar.destinations.live.connections import HttpAnswer, SentRequest
from coinjar.standins.base import ErrorResponse, Standin
from coinjar.standins.saltmarsh import Saltmarsh
from tests.conftest import IDENTITY
from tests.test_actions import DECLARATIONS, HOSTING, jar_of, texts


@pytest.fixture(autouse=True)
def _identity(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("COINJAR_IDENTITY", reveal(IDENTITY))


class Killed(BaseException):
    """The process ends here."""


class InMemory:
    """Hands requests to a stand-in without a connection; `cut` is the number of the request at which the run ends."""

    def __init__(self, standin: Standin, cut: int = 0, *, after: bool = False) -> None:
        self.standin = standin
        self.cut = cut
        self.after = after
        self.requests: list[str] = []

    async def __call__(self, request: SentRequest) -> HttpAnswer:
        self.requests.append(request.method)
        if len(self.requests) == self.cut and not self.after:
            raise Killed
        body = json.loads(request.content) if request.content else None
        headers = {"Authorization": request.headers.get("Authorization", "")}
        url = urlsplit(request.url)
        try:
            answer = self.standin.answer(request.method, url.path, dict(parse_qsl(url.query)), body, headers)
        except ErrorResponse as fault:
            return HttpAnswer(fault.code, {}, json.dumps(fault.body).encode())
        if len(self.requests) == self.cut:
            raise Killed
        return HttpAnswer(200, {}, json.dumps(answer).encode())


@contextmanager
def hosting(monkeypatch: pytest.MonkeyPatch) -> Iterator[tuple[OpenJar, Saltmarsh, Callable[[InMemory], list[str]]]]:
    with jar_of(DECLARATIONS + HOSTING, dev="all: {LEVEL: debug}\n") as opened:
        standin = Saltmarsh(opened.folder.parent / "salt")
        standin.address = "http://127.0.0.1:1"
        standin.make("pier-web-dev")
        monkeypatch.setenv("SALT_TOKEN", standin.state["tokens"]["anna"])
        put(
            opened,
            [Assignment("TOKEN", Secret("made-up"), in_argv=False)],
            ["dev"],
            services=[],
            declare=False,
            mine=False,
        )

        def deliver(transport: InMemory) -> list[str]:
            stage = LiveStage(opened, "dev", [], Masker(), writes=True, transport=transport)
            outcomes = asyncio.run(Delivery(stage, DeliveryOptions(restart=True)).run())
            assert not [outcome.fault for outcome in outcomes if outcome.fault]
            return [outcome.state for outcome in outcomes]

        yield opened, standin, deliver


def test_a_delivery_converges_wherever_it_was_cut(monkeypatch: pytest.MonkeyPatch) -> None:
    """For every request: the run ends before or after it; the next one completes it, and the one after
    writes nothing.
    """
    with hosting(monkeypatch) as (opened, standin, deliver):
        del opened
        whole = InMemory(standin)
        assert deliver(whole) == ["delivered"]
        cuts = [(number, after) for number in range(1, len(whole.requests) + 1) for after in (False, True)]
    assert len(cuts) > 8
    for number, after in cuts:
        with hosting(monkeypatch) as (opened, standin, deliver):
            with pytest.raises(Killed):
                deliver(InMemory(standin, number, after=after))
            deliver(InMemory(standin))
            app = standin.state["apps"]["pier-web-dev"]
            desired = texts(opened, "dev", "web")
            assert {name: app["settings"][name] for name in desired} == desired, (number, after)
            again = InMemory(standin)
            assert deliver(again) == ["up to date"], (number, after)
            assert set(again.requests) == {"GET"}, (number, after)
