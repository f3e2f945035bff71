"""Reedbank and Marl: small services whose API pages docs/platforms.md prints; they do not know their descriptions."""

from __future__ import annotations

import hmac
from base64 import b64decode
from collections.abc import Iterator, Mapping, Sequence
from typing import Any
from urllib.parse import urlencode

from coinjar.standins.base import ApiCall, ErrorResponse, ResponseWithHeaders, Standin, route


class Reedbank(Standin):
    """Banks of parameters: changed in lists, if nobody else has changed them; with a token of a client."""

    name = "reedbank"
    prefix = "/banks/"
    page_size = 3
    at_most = 2

    def first(self) -> dict[str, Any]:
        return {"banks": {}}

    def make(self, name: str) -> None:
        self.state["banks"][name] = {"params": {}, "etag": 1}

    def answer(self, method: str, path: str, query: Mapping[str, str], body: Any, headers: Mapping[str, str]) -> Any:
        self.expected = headers.get("If-Match")
        if path == "/oauth/token":
            client, _, secret = b64decode(headers["Authorization"].removeprefix("Basic ")).decode().partition(":")
            if (client, body) != ("ferries", {"grant_type": "client_credentials", "scope": "params"}):
                raise ErrorResponse(400, "invalid_client")
            self.who(f"Bearer {secret}")
            return {"access_token": "made-up-access-" + secret[::-1], "token_type": "bearer"}
        token = headers.get("Authorization", "").removeprefix("Bearer made-up-access-")[::-1]
        return super().answer(method, path, query, body, {"Authorization": f"Bearer {token}"})

    def _bank(self, name: str) -> Any:
        if name not in self.state["banks"]:
            raise ErrorResponse(404, "no such bank")
        return self.state["banks"][name]

    @route("GET", "/banks/{}")
    def look(self, call: ApiCall) -> Any:
        self._bank(call.parts[0])
        return {"owner": "ferries", "bank": call.parts[0]}

    @route("GET", "/banks/{}/params")
    def params(self, call: ApiCall) -> Any:
        bank = self._bank(call.parts[0])
        items = [
            {"key": key, "kind": item["kind"], "rev": item["rev"]}
            | ({"content": item["content"]} if item["kind"] == "open" else {})
            for key, item in bank["params"].items()
        ]
        start = int(call.query["offset"])
        return ResponseWithHeaders({"params": items[start : start + self.page_size]}, {"ETag": f'"{bank["etag"]}"'})

    @route("PATCH", "/banks/{}/params")
    def change(self, call: ApiCall) -> Any:
        bank = self._bank(call.parts[0])
        if self.expected != f'"{bank["etag"]}"':
            raise ErrorResponse(412, "the bank has changed")
        if len(call.body["ops"]) > self.at_most:
            raise ErrorResponse(422, f"at most {self.at_most} changes")
        bank["etag"] += 1
        results = []
        for op in call.body["ops"][: 1 if self.half else None]:
            problem = "too long" if len(op.get("content", "")) > 40 else ""
            results.append({"key": op["key"], "ok": not problem, "why": problem})
            if problem:
                continue
            if op["op"] == "drop":
                bank["params"].pop(op["key"], None)
            else:
                rev = bank["params"].get(op["key"], {"rev": 0})["rev"] + 1
                bank["params"][op["key"]] = {"kind": op["kind"], "content": op["content"], "rev": rev}
        return ResponseWithHeaders({"results": results}, {"ETag": f'"{bank["etag"]}"'})

    def sections(self) -> Iterator[tuple[str, str, Sequence[tuple[str, str, str]]]]:
        yield from ()


class Marl(Standin):
    """Shelves of cells: one request per cell, as a form, and signed."""

    name = "marl"
    prefix = "/shelves/"
    page_size = 3
    unguarded = True

    def first(self) -> dict[str, Any]:
        return {"shelves": {}}

    def make(self, name: str) -> None:
        self.state["shelves"][name] = {"cells": {}, "locked": 0, "jobs": {}}

    def answer(self, method: str, path: str, query: Mapping[str, str], body: Any, headers: Mapping[str, str]) -> Any:
        if path.startswith(self.prefix):
            sent = urlencode(body) if isinstance(body, dict) else ""
            whole = path + (f"?{urlencode(query)}" if query else "")
            message = f"{method} {whole}\n{headers.get('X-Marl-Time', '')}\n{sent}"
            signatures = [
                hmac.digest(token.encode(), message.encode(), "sha256").hex() for token in self.state["tokens"].values()
            ]
            if headers.get("X-Marl-Signature") not in signatures:
                raise ErrorResponse(401, "the signature is wrong")
        return super().answer(method, path, query, body, headers)

    def _cells(self, name: str) -> dict[str, Any]:
        shelf = self.state["shelves"].get(name)
        if shelf is None:
            raise ErrorResponse(404, "no such shelf")
        if shelf["locked"]:
            busy = ErrorResponse(423, "the shelf is being copied")
            busy.body = {"job": "copy"}
            raise busy
        cells: dict[str, Any] = shelf["cells"]
        return cells

    @route("GET", "/shelves/{}/about")
    def about(self, call: ApiCall) -> Any:
        return {"owner": "ferries", "shelf": call.parts[0]}

    @route("GET", "/shelves/{}")
    def cells(self, call: ApiCall) -> Any:
        names = sorted(self._cells(call.parts[0]))
        start = int(call.query.get("from") or 0)
        after = start + self.page_size if len(names) > start + self.page_size else None
        cells = self._cells(call.parts[0])
        return {
            "cells": [{"n": name, "t": cells[name]} for name in names[start : start + self.page_size]],
            "from": after,
        }

    @route("POST", "/shelves/{}")
    def create(self, call: ApiCall) -> Any:
        cells = self._cells(call.parts[0])
        if call.body["n"] in cells:
            raise ErrorResponse(409, "there is such a cell")
        cells[call.body["n"]] = call.body["t"]
        return {}

    @route("PUT", "/shelves/{}/{}")
    def change(self, call: ApiCall) -> Any:
        """Accept a change, which is made at the second look at its job."""
        self._cells(call.parts[0])
        jobs = self.state["shelves"][call.parts[0]]["jobs"]
        number = f"j{len(jobs) + 1}"
        jobs[number] = {"name": call.parts[1], "text": call.body["t"], "looks": 2}
        return {"job": number}

    @route("GET", "/shelves/{}/jobs/{}")
    def job(self, call: ApiCall) -> Any:
        shelf = self.state["shelves"][call.parts[0]]
        if call.parts[1] == "copy":
            shelf["locked"] = max(0, shelf["locked"] - 1)
            return {"state": "running" if shelf["locked"] else "done"}
        job = shelf["jobs"][call.parts[1]]
        job["looks"] -= 1
        if job["looks"] > 0:
            return {"state": "running"}
        if job["looks"] == 0:
            shelf["cells"][job["name"]] = job["text"]
        return {"state": "done"}

    @route("DELETE", "/shelves/{}/{}")
    def remove(self, call: ApiCall) -> Any:
        if self._cells(call.parts[0]).pop(call.parts[1], None) is None:
            raise ErrorResponse(404, "no such cell")
        return None

    def sections(self) -> Iterator[tuple[str, str, Sequence[tuple[str, str, str]]]]:
        yield from ()
