"""Millrace: the small service whose API page docs/platforms.md prints. It knows nothing of its description."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from coinjar.standins.base import ApiCall, ErrorResponse, ResponseWithHeaders, Standin, route


class Millrace(Standin):
    """Spaces, one environment each."""

    name = "millrace"
    prefix = "/spaces/"
    page_size = 2

    def first(self) -> dict[str, Any]:
        return {"spaces": {}}

    def make(self, name: str) -> None:
        self.state["spaces"][name] = {"env": {}, "saved": 0, "live": 0}

    def answer(self, method: str, path: str, query: Mapping[str, str], body: Any, headers: Mapping[str, str]) -> Any:
        return super().answer(
            method, path, query, body, {"Authorization": f"Bearer {headers.get('X-Millrace-Key', '')}"}
        )

    def _space(self, name: str) -> Any:
        if name not in self.state["spaces"]:
            raise ErrorResponse(404, "no such space")
        return self.state["spaces"][name]

    @route("GET", "/spaces/{}")
    def look(self, call: ApiCall) -> Any:
        space = self._space(call.parts[0])
        return {"tenant": "ferries", "space": call.parts[0], "saved": space["saved"], "live": space["live"]}

    @route("GET", "/spaces/{}/env")
    def env(self, call: ApiCall) -> Any:
        items = [{"k": name, "v": text} for name, text in self._space(call.parts[0])["env"].items()]
        start = int(call.query.get("start") or 0)
        more = (
            {"Link": f'</spaces/{call.parts[0]}/env?start={start + self.page_size}>; rel="next"'}
            if len(items) > start + self.page_size
            else {}
        )
        return ResponseWithHeaders(items[start : start + self.page_size], more)

    @route("PUT", "/spaces/{}/env")
    def replace(self, call: ApiCall) -> Any:
        space = self._space(call.parts[0])
        wanted = list(call.body["env"].items())
        space["env"] = dict(wanted[: len(wanted) // 2] if self.half else wanted)
        space["saved"] += 1
        return None

    @route("POST", "/spaces/{}/reload")
    def reload(self, call: ApiCall) -> Any:
        space = self._space(call.parts[0])
        space["live"] = space["saved"]
        return {}

    def sections(self) -> Iterator[tuple[str, str, Sequence[tuple[str, str, str]]]]:
        yield from ()
