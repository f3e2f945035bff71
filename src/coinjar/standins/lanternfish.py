"""Lanternfish: hosting whose variables each name their stages."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from typing import Any

from coinjar.standins.base import ApiCall, ErrorResponse, Standin, as_object, route
from coinjar.standins.masking import MASK, for_eyes, running_answer

_PAGE = 20
_OURS = ("PUBLIC_ADDRESS", "LISTEN_PORT")


class Lanternfish(Standin):
    """Hosting: each variable names its stages, some values are write-only; in use at once; names ignore case; paged and
    rate-limited.

    It gives each stage that has variables an address and a port.
    """

    name = "lanternfish"
    prefix = "/api/"
    _recent: Sequence[float] = ()
    """Times of the requests of the last second."""

    def first(self) -> dict[str, Any]:
        return {"team": "sandling-ferries", "projects": {}, "a_second": 50}

    def make(self, name: str) -> None:
        with self.lock:
            self.state["projects"].setdefault(name, {"number": 0, "variables": {}, "restarts": 0})
            self.save()

    def _limit(self) -> None:
        """Refuse a request over the rate."""
        now = time.monotonic()
        recent = [item for item in self._recent if now - item < 1]
        if len(recent) >= self.state["a_second"]:
            raise ErrorResponse(429, "too many requests", {"Retry-After": "1"})
        self._recent = [*recent, now]

    def _project(self, name: str) -> dict[str, Any]:
        self._limit()
        if name not in self.state["projects"]:
            raise ErrorResponse(404, f"there is no project '{name}'")
        result: dict[str, Any] = self.state["projects"][name]
        return result

    def _item(self, number: str, item: dict[str, Any]) -> dict[str, Any]:
        return {"id": number} | item | ({} if item["shown"] else {"text": None})

    def _given(self, name: str, project: dict[str, Any]) -> list[dict[str, Any]]:
        """Return what it sets itself, once a stage has variables: the address, and the port to listen on."""
        stages = sorted({stage for variable in project["variables"].values() for stage in variable["on"]})
        own = [("PUBLIC_ADDRESS", f"{self.address}/run/{name}/{stage}/", stage) for stage in stages]
        own += [("LISTEN_PORT", str(9300 + number), stage) for number, stage in enumerate(stages)]
        return [
            {
                "id": f"g{number}",
                "name": own_name,
                "text": text,
                "on": [stage],
                "shown": True,
                "count": 1,
                "given": True,
            }
            for number, (own_name, text, stage) in enumerate(own)
        ]

    @route("GET", "/api/projects/{}")
    def look(self, call: ApiCall) -> Any:
        project = self._project(call.parts[0])
        return {"team": self.state["team"], "project": call.parts[0], "restarts": project["restarts"]}

    @route("GET", "/api/projects/{}/variables")
    def variables(self, call: ApiCall) -> Any:
        project = self._project(call.parts[0])
        numbers = list(project["variables"])
        after = call.query.get("after")
        start = numbers.index(after) + 1 if after in numbers else 0
        page = numbers[start : start + _PAGE]
        items = [self._item(number, project["variables"][number]) for number in page]
        is_last = len(numbers) <= start + _PAGE
        return {
            "items": items + (self._given(call.parts[0], project) if is_last else []),
            "next": None if is_last else page[-1],
        }

    def _refuse(
        self, project: dict[str, Any], name: str, text: str | None, stages: list[str], besides: str = ""
    ) -> None:
        if name in _OURS:
            raise ErrorResponse(422, f"{name} is reserved")
        if text == "":
            raise ErrorResponse(422, f"{name} is empty")
        if text is not None and "\n" in text:
            raise ErrorResponse(422, f"{name} has a line break")
        for number, item in project["variables"].items():
            if number != besides and item["name"].casefold() == name.casefold() and set(item["on"]) & set(stages):
                raise ErrorResponse(409, f"{name} already exists on {', '.join(stages)}")

    @route("POST", "/api/projects/{}/variables")
    def create(self, call: ApiCall) -> Any:
        project = self._project(call.parts[0])
        body = as_object(call.body, "name", "text", "on")
        self._refuse(project, body["name"], body["text"], body["on"])
        project["number"] += 1
        number = f"v{project['number']}"
        item = {
            "name": body["name"],
            "text": body["text"],
            "on": body["on"],
            "shown": body.get("shown") is not False,
            "count": 1,
        }
        project["variables"][number] = item
        project["restarts"] += 1
        return self._item(number, item)

    def _variable(self, call: ApiCall) -> tuple[dict[str, Any], dict[str, Any]]:
        project = self._project(call.parts[0])
        if call.parts[1] not in project["variables"]:
            raise ErrorResponse(404, "there is no such variable")
        return project, project["variables"][call.parts[1]]

    @route("PATCH", "/api/projects/{}/variables/{}")
    def change(self, call: ApiCall) -> Any:
        project, item = self._variable(call)
        body = as_object(call.body)
        self._refuse(project, item["name"], body.get("text"), body.get("on", item["on"]), call.parts[1])
        item.update({name: body[name] for name in ("text", "on") if name in body})
        item["count"] += 1
        project["restarts"] += 1
        return self._item(call.parts[1], item)

    @route("DELETE", "/api/projects/{}/variables/{}")
    def remove(self, call: ApiCall) -> Any:
        project, _ = self._variable(call)
        del project["variables"][call.parts[1]]
        project["restarts"] += 1
        return None

    @route("GET", "/run/{}/{}/", free=True)
    def running(self, call: ApiCall) -> Any:
        """Return the response of a stage's running app."""
        project = self.state["projects"].get(call.parts[0], {"variables": {}})
        own = [*project["variables"].values(), *self._given(call.parts[0], project)]
        return running_answer(
            call.parts[0], {item["name"]: item["text"] for item in own if call.parts[1] in item["on"]}
        )

    def sections(self) -> Iterator[tuple[str, str, Sequence[tuple[str, str, str]]]]:
        for name, project in self.state["projects"].items():
            rows = [
                (
                    variable["name"],
                    for_eyes(variable["name"], variable["text"]) if variable["shown"] else MASK,
                    ", ".join(variable["on"]),
                )
                for variable in sorted(project["variables"].values(), key=lambda item: item["name"])
            ]
            yield name, f"restarted {project['restarts']} times", rows
