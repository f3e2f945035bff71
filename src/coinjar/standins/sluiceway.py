"""Sluiceway: pipelines with variables and secrets on two levels."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from coinjar.standins.base import ApiCall, ErrorResponse, Standin, as_object, route
from coinjar.standins.masking import MASK, for_eyes
from coinjar.standins.pipelines import PipelineError, PipelineJob, read_pipeline

_PAGE = 25


class Sluiceway(Standin):
    """Pipelines: variables and secrets of the whole project and of its stages, the narrower takes effect; secrets are
    write-only.
    """

    name = "sluiceway"
    prefix = "/projects"

    def first(self) -> dict[str, Any]:
        return {"account": "sandling-ferries", "projects": {}}

    def make(self, name: str) -> None:
        with self.lock:
            self.state["projects"].setdefault(
                name, {"number": 0, "values": {}, "guarded": ["prod"], "pipelines": {}, "runs": {}}
            )
            self.save()

    def _project(self, name: str) -> dict[str, Any]:
        if name not in self.state["projects"]:
            raise ErrorResponse(404, f"there is no project '{name}'")
        result: dict[str, Any] = self.state["projects"][name]
        return result

    def _shown(self, number: str, item: dict[str, Any]) -> dict[str, Any]:
        return {"id": int(number), **item, "value": None if item["secret"] else item["value"]}

    @route("GET", "/projects/{}")
    def look(self, call: ApiCall) -> Any:
        project = self._project(call.parts[0])
        return {"account": self.state["account"], "name": call.parts[0], "guarded": project["guarded"]}

    @route("GET", "/projects/{}/values")
    def values(self, call: ApiCall) -> Any:
        there = self._project(call.parts[0])["values"]
        start = (int(call.query.get("page") or 1) - 1) * _PAGE
        return [self._shown(number, there[number]) for number in list(there)[start : start + _PAGE]]

    @route("POST", "/projects/{}/values")
    def create(self, call: ApiCall) -> Any:
        project = self._project(call.parts[0])
        body = as_object(call.body, "name", "value", "secret", "stage")
        if any(
            (value["name"], value["stage"]) == (body["name"], body["stage"]) for value in project["values"].values()
        ):
            raise ErrorResponse(409, f"{body['name']} already exists")
        project["number"] += 1
        item = {name: body[name] for name in ("name", "value", "secret", "stage")} | {"version": 1}
        project["values"][str(project["number"])] = item
        return self._shown(str(project["number"]), item)

    def _value(self, call: ApiCall) -> tuple[dict[str, Any], dict[str, Any]]:
        project = self._project(call.parts[0])
        if call.parts[1] not in project["values"]:
            raise ErrorResponse(404, "there is no such value")
        return project, project["values"][call.parts[1]]

    @route("PUT", "/projects/{}/values/{}")
    def change(self, call: ApiCall) -> Any:
        _, item = self._value(call)
        body = as_object(call.body, "value", "secret")
        item.update(value=body["value"], secret=body["secret"], version=item["version"] + 1)
        return self._shown(call.parts[1], item)

    @route("DELETE", "/projects/{}/values/{}")
    def remove(self, call: ApiCall) -> Any:
        project, _ = self._value(call)
        del project["values"][call.parts[1]]
        return None

    # -- pipelines

    @route("PUT", "/projects/{}/pipelines/{}")
    def keep_pipeline(self, call: ApiCall) -> Any:
        """Store a pipeline file."""
        try:
            read_pipeline(str(call.body))
        except PipelineError as fault:
            raise ErrorResponse(422, str(fault)) from None
        self._project(call.parts[0])["pipelines"][call.parts[1]] = str(call.body)
        return {"name": call.parts[1]}

    @route("POST", "/projects/{}/runs")
    def start(self, call: ApiCall) -> Any:
        project = self._project(call.parts[0])
        name = as_object(call.body, "pipeline")["pipeline"]
        if name not in project["pipelines"]:
            raise ErrorResponse(404, f"there is no pipeline '{name}'")
        number = str(len(project["runs"]) + 1)
        project["runs"][number] = {
            "pipeline": name,
            "by": call.who,
            "yes": [],
            "state": "running",
            "done": 0,
            "log": [],
        }
        self._go_on(project, project["runs"][number])
        return {"id": number, **project["runs"][number]}

    def _run(self, call: ApiCall) -> tuple[dict[str, Any], dict[str, Any]]:
        project = self._project(call.parts[0])
        if call.parts[1] not in project["runs"]:
            raise ErrorResponse(404, "there is no such run")
        return project, project["runs"][call.parts[1]]

    @route("GET", "/projects/{}/runs/{}")
    def look_at_run(self, call: ApiCall) -> Any:
        return {"id": call.parts[1], **self._run(call)[1]}

    @route("POST", "/projects/{}/runs/{}/yes")
    def say_yes(self, call: ApiCall) -> Any:
        """Let a second person approve the job of a guarded stage."""
        project, run = self._run(call)
        if run["state"] != "waiting":
            raise ErrorResponse(409, "it does not wait for approval")
        if call.who == run["by"]:
            raise ErrorResponse(403, f"{call.who} started it: somebody else must approve it")
        run["yes"].append(run["waits_for"])
        self._go_on(project, run)
        return {"id": call.parts[1], **run}

    def _go_on(self, project: dict[str, Any], run: dict[str, Any]) -> None:
        """Run the remaining jobs, until one waits or fails."""
        PipelineJob(project["pipelines"][run["pipeline"]], project["values"].values(), project["guarded"]).go_on(run)

    def sections(self) -> Iterator[tuple[str, str, Sequence[tuple[str, str, str]]]]:
        for name, project in self.state["projects"].items():
            ordered = sorted(project["values"].values(), key=lambda value: (value["name"], value["stage"] or ""))
            rows = [
                (
                    item["name"],
                    MASK if item["secret"] else for_eyes(item["name"], item["value"]),
                    item["stage"] or "whole project",
                )
                for item in ordered
            ]
            runs = [f"run {number}: {item['state']}" for number, item in project["runs"].items()]
            yield name, ", ".join(runs) or "no runs yet", rows
