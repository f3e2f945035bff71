"""Saltmarsh: hosting with flat settings per app."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from coinjar.standins.base import ApiCall, ErrorResponse, Standin, as_object, route
from coinjar.standins.masking import for_eyes, running_answer

_LONGEST = 32768


class Saltmarsh(Standin):
    """Hosting: flat settings an app.

    What is set is read at the next deploy; an empty text removes; the port and linked services are given.
    """

    name = "saltmarsh"
    prefix = "/v1/"

    def first(self) -> dict[str, Any]:
        return {"tenant": "sandling-ferries", "apps": {}, "deploys": {}}

    def make(self, name: str) -> None:
        with self.lock:
            given = {
                "LISTEN_PORT": str(9100 + len(self.state["apps"])),
                "PUBLIC_ADDRESS": f"{self.address}/run/{name}/",
            }
            app = self.state["apps"].setdefault(name, {"settings": {}, "given": given, "running": dict(given)})
            app["given"]["PUBLIC_ADDRESS"] = given[
                "PUBLIC_ADDRESS"
            ]  # a different one where the stand-in now listens elsewhere
            self.save()

    def _app(self, name: str) -> dict[str, Any]:
        if name not in self.state["apps"]:
            raise ErrorResponse(404, f"there is no app '{name}'")
        result: dict[str, Any] = self.state["apps"][name]
        return result

    def _waiting(self, app: dict[str, Any]) -> list[str]:
        now = app["settings"] | app["given"]
        return sorted(name for name in now.keys() | app["running"].keys() if now.get(name) != app["running"].get(name))

    @route("GET", "/v1/apps/{}")
    def look(self, call: ApiCall) -> Any:
        app = self._app(call.parts[0])
        return {"name": call.parts[0], "tenant": {"name": self.state["tenant"]}, "waiting": self._waiting(app)}

    @route("POST", "/v1/apps")
    def create(self, call: ApiCall) -> Any:
        name = as_object(call.body, "name")["name"]
        self.make(name)
        return {"name": name}

    @route("GET", "/v1/apps/{}/settings")
    def settings(self, call: ApiCall) -> Any:
        app = self._app(call.parts[0])
        return {"settings": app["settings"] | app["given"]}

    @route("PATCH", "/v1/apps/{}/settings")
    def change(self, call: ApiCall) -> Any:
        app = self._app(call.parts[0])
        wanted = as_object(as_object(call.body, "settings")["settings"])
        for name, text in wanted.items():
            if name in app["given"] or name.startswith("SALT_"):
                raise ErrorResponse(422, f"{name} is reserved")
            if not isinstance(text, str) or len(text.encode()) > _LONGEST:
                raise ErrorResponse(422, f"{name} must be a text of at most {_LONGEST} bytes")
        taken = list(wanted.items())[: len(wanted) // 2] if self.half else list(wanted.items())
        for name, text in taken:
            if text:
                app["settings"][name] = text
            else:
                app["settings"].pop(name, None)
        return {"settings": app["settings"] | app["given"]}

    @route("POST", "/v1/apps/{}/links")
    def link(self, call: ApiCall) -> Any:
        """Link a service: its address is given from then on."""
        app = self._app(call.parts[0])
        kind = str(as_object(call.body, "kind")["kind"])
        app["given"][f"{kind.upper()}_ADDRESS"] = (
            f"{kind}://{call.parts[0]}:made-up-{len(call.parts[0])}@{kind}.saltmarsh.example:7001/"
        )
        return {"given": app["given"]}

    @route("POST", "/v1/apps/{}/deploys")
    def deploy(self, call: ApiCall) -> Any:
        self._app(call.parts[0])
        number = str(len(self.state["deploys"]) + 1)
        self.state["deploys"][number] = {"app": call.parts[0], "state": "building", "looks": 0}
        return {"id": number, "state": "building"}

    @route("GET", "/v1/apps/{}/deploys/{}")
    def deployed(self, call: ApiCall) -> Any:
        deploy = self.state["deploys"].get(call.parts[1])
        if deploy is None or deploy["app"] != call.parts[0]:
            raise ErrorResponse(404, "there is no such deploy")
        deploy["looks"] += 1
        if deploy["state"] == "building" and deploy["looks"] > 1:
            app = self._app(call.parts[0])
            app["running"] = app["settings"] | app["given"]
            deploy["state"] = "running"
            self.save()
        return {"id": call.parts[1], "state": deploy["state"]}

    @route("GET", "/run/{}/", free=True)
    def running(self, call: ApiCall) -> Any:
        """Return the response of the running app."""
        return running_answer(call.parts[0], self._app(call.parts[0])["running"])

    def sections(self) -> Iterator[tuple[str, str, Sequence[tuple[str, str, str]]]]:
        for name, app in self.state["apps"].items():
            waiting = self._waiting(app)
            now = app["settings"] | app["given"]
            rows = [
                (
                    item,
                    for_eyes(item, now[item]),
                    "given" if item in app["given"] else "pending deploy" if item in waiting else "",
                )
                for item in sorted(now)
            ]
            yield name, f"{len(waiting)} pending the next deploy" if waiting else "all in use", rows
