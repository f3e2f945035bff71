"""Deliveries of many variables to a platform, against a plain asynchronous client that knows its API: it lists, writes
what differs, and lists again to see that it arrived.
"""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from tests.described import description
from tests.millrace import Millrace
from tests.reedbank import Reedbank

from bench.live import jar_for, new_values, prepared, timed
from coinjar.standins.base import Standin, StandinServer, served
from coinjar.standins.lanternfish import Lanternfish

VARIABLES = 500
CLIENT = """\
import asyncio, os, sys, httpx
kind, address, token, count = sys.argv[1:5]
values = {f"VARIABLE_{n}": f"{n} {os.urandom(8).hex()}" for n in range(int(count))}
async def pages(client, path, page):
    items = []
    while path:
        answer = (await client.get(path)).raise_for_status()
        more, path = page(answer, len(items))
        items += more
    return items
async def whole(client):
    space = "/spaces/line/env"
    page = lambda answer, _: (answer.json(), answer.links.get("next", {}).get("url"))
    await pages(client, space, page)
    (await client.put(space, json={"env": values})).raise_for_status()
    assert {item["k"]: item["v"] for item in await pages(client, space, page)} == values
async def batch(client):
    basic = httpx.BasicAuth("ferries", token)
    form = {"grant_type": "client_credentials", "scope": "params"}
    access = (await client.post("/oauth/token", data=form, auth=basic)).json()["access_token"]
    client.headers["Authorization"] = f"Bearer {access}"
    tag = ""
    def page(answer, seen):
        nonlocal tag
        tag = answer.headers["ETag"]
        found = answer.json()["params"]
        return found, f"/banks/line/params?offset={seen + len(found)}" if found else None
    first = "/banks/line/params?offset=0"
    await pages(client, first, page)
    items = list(values.items())
    for start in range(0, len(items), 50):
        ops = [
            {"op": "put", "key": "env." + name.lower().replace("_", "."), "kind": "open", "content": text}
            for name, text in items[start:start + 50]
        ]
        answer = await client.patch("/banks/line/params", json={"ops": ops}, headers={"If-Match": tag})
        tag = answer.raise_for_status().headers["ETag"]
    assert len(await pages(client, first, page)) == len(values)
async def single(client):
    path = "/api/projects/line/variables"
    page = lambda answer, _: (
        answer.json()["items"],
        f"{path}?after={answer.json()['next']}" if answer.json()["next"] is not None else None,
    )
    numbers = {item["name"]: item["id"] for item in await pages(client, path, page)}
    bound = asyncio.Semaphore(4)
    async def write(name, text):
        async with bound:
            if name in numbers:
                answer = await client.patch(f"{path}/{numbers[name]}", json={"text": text})
            else:
                answer = await client.post(path, json={"name": name, "text": text, "on": ["dev"]})
            answer.raise_for_status()
    await asyncio.gather(*(write(*item) for item in values.items()))
    there = {item["name"]: item["text"] for item in await pages(client, path, page)}
    assert {name: there[name] for name in values} == values
async def main():
    headers = {"whole": {"X-Millrace-Key": token}, "single": {"Authorization": f"Bearer {token}"}}.get(kind, {})
    async with httpx.AsyncClient(base_url=address, headers=headers, timeout=60) as client:
        await {"whole": whole, "batch": batch, "single": single}[kind](client)
asyncio.run(main())
"""


class _Place(NamedTuple):
    """A platform to measure on: its service, its description ("" for a shipped one), and its settings."""

    service: type[Standin]
    description: str
    settings: str


class _LargeMillrace(Millrace):
    page_size = 10


class _LargeReedbank(Reedbank):
    page_size = 50
    at_most = 50


def _place(kind: str) -> _Place:
    if kind == "whole":
        return _Place(_LargeMillrace, description("millrace"), "space: line")
    if kind == "batch":
        text = description("reedbank").replace("per_second: 20\n", "").replace("at_most: 2", "at_most: 50")
        return _Place(_LargeReedbank, text, "bank: line, client: ferries")
    return _Place(Lanternfish, "", "project: line")


@contextlib.contextmanager
def _there(kind: str, folder: Path) -> Iterator[tuple[StandinServer, str, str]]:
    """A platform, and a jar with a destination of it; its server, address and token."""
    place = _place(kind)
    standin = place.service(folder / kind)
    standin.state["a_second"] = 10**6  # how fast a service lets itself be asked is not what is measured
    with served(standin) as server:
        standin.make("line")
        declared = (
            f"  there: {{type: platform, platform: {standin.name}, address: '{standin.address}', {place.settings}, "
            "token: {from_env: THERE}}\n"
        )
        jar_for(folder, declared, VARIABLES)
        if place.description:
            (folder / "jar/platforms").mkdir()
            (folder / "jar/platforms" / f"{standin.name}.yaml").write_text(place.description)
        yield server, standin.address, standin.state["tokens"]["anna"]


def platform_ratios(coinjar: str, kind: str, folder: Path, runs: int) -> tuple[list[float], list[float]]:
    """Return the ratios of the number of requests, and of whole-process times, of pairs of runs."""
    with _there(kind, folder) as (server, address, token):
        env = {"PATH": os.environ["PATH"], "HOME": str(folder), "THERE": token}
        prepared(coinjar, folder, env)
        requests, times = [], []
        for _ in range(runs + 1):
            new_values(folder, VARIABLES)
            del server.seen[:]
            ours = timed([coinjar, "deliver", "dev"], folder, env)
            asked = len(server.seen)
            del server.seen[:]
            plain = timed([sys.executable, "-c", CLIENT, kind, address, token, str(VARIABLES)], folder, env)
            requests.append(asked / len(server.seen))
            times.append(ours / plain)
    return requests[1:], times[1:]
