"""Just enough of the Kubernetes API for a real kubectl to apply to and to read back, on loopback, in memory."""

from __future__ import annotations

import base64
import copy
import json
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

GROUPS = {
    "v1": {"configmaps": "ConfigMap", "secrets": "Secret", "pods": "Pod", "namespaces": "Namespace"},
    "apps/v1": {"deployments": "Deployment", "statefulsets": "StatefulSet", "daemonsets": "DaemonSet"},
    "batch/v1": {"jobs": "Job", "cronjobs": "CronJob"},
}
MERGED_BY = {"env": "name", "containers": "name", "initContainers": "name", "ports": "containerPort"}
VERBS = ["create", "delete", "get", "list", "patch", "update"]


def merged(old: Any, patch: Any, field: str = "") -> Any:
    """A strategic merge patch: lists with a merge key by it, other lists whole."""
    if isinstance(patch, dict):
        new = dict(old) if isinstance(old, dict) else {}
        for key, value in patch.items():
            if value is None:
                new.pop(key, None)
            elif not key.startswith("$"):
                new[key] = merged(new.get(key), value, key)
        return new
    if isinstance(patch, list) and field in MERGED_BY:
        by = MERGED_BY[field]
        found = {one[by]: one for one in old or []}
        for one in patch:
            if one.get("$patch") == "delete":
                found.pop(one[by], None)
            else:
                found[one[by]] = merged(found.get(one[by]), one)
        return list(found.values())
    return patch


class Api(ThreadingHTTPServer):
    """Objects by (plural, name)."""

    objects: dict[tuple[str, str], dict[str, Any]]
    requests: list[str]


class Handler(BaseHTTPRequestHandler):
    server: Api
    protocol_version = "HTTP/1.1"
    wbufsize = -1

    def answer(self, body: Any, code: int = 200) -> None:
        data = json.dumps(body).encode()
        self.send_response(code)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def fail(self, code: int, reason: str) -> None:
        self.answer({"kind": "Status", "apiVersion": "v1", "status": "Failure", "reason": reason, "message": reason, "code": code}, code)

    def fixed(self, path: str) -> Any:
        if path == "/api":
            return {"kind": "APIVersions", "versions": ["v1"]}
        if path == "/apis":
            groups = [group.split("/")[0] for group in GROUPS if "/" in group]
            return {
                "kind": "APIGroupList",
                "apiVersion": "v1",
                "groups": [
                    {
                        "name": one,
                        "versions": [{"groupVersion": f"{one}/v1", "version": "v1"}],
                        "preferredVersion": {"groupVersion": f"{one}/v1", "version": "v1"},
                    }
                    for one in groups
                ],
            }
        for group, kinds in GROUPS.items():
            if path == ("/api/v1" if group == "v1" else f"/apis/{group}"):
                return {
                    "kind": "APIResourceList",
                    "apiVersion": "v1",
                    "groupVersion": group,
                    "resources": [
                        {"name": plural, "singularName": kind.lower(), "namespaced": True, "kind": kind, "verbs": VERBS} for plural, kind in kinds.items()
                    ],
                }
        return {"major": "1", "minor": "32", "gitVersion": "v1.32.0"} if path == "/version" else None

    def handle_any(self) -> None:
        body: Any
        url = urlsplit(self.path)
        size = int(self.headers.get("Content-Length") or 0)
        body = json.loads(self.rfile.read(size)) if size else None
        found = self.fixed(url.path.rstrip("/"))
        if found is not None:
            return self.answer(found)
        parts = url.path.strip("/").split("/")
        group = "v1" if parts[0] == "api" else "/".join(parts[1:3])
        parts = parts[2:] if group == "v1" else parts[3:]
        parts = parts[2:] if parts[:1] == ["namespaces"] and len(parts) > 2 else parts
        plural, name = (parts[0] if parts else ""), (parts[1] if len(parts) > 1 else "")
        kind = GROUPS.get(group, {}).get(plural)
        if kind is None:
            return self.fail(404, "NotFound")
        if self.command == "POST":
            name = body["metadata"]["name"]
        old = self.server.objects.get((plural, name))
        if old is None and self.command != "POST":
            return self.fail(404, "NotFound")
        if self.command == "GET":
            return self.answer(old)
        new = copy.deepcopy(body) if self.command in ("POST", "PUT") else merged(copy.deepcopy(old), body)
        wrong = self.refusal(kind, new)
        if wrong:
            return self.fail(400, wrong)
        new.update(kind=kind, apiVersion=group)
        new["metadata"].setdefault("uid", f"{plural}-{name}")
        new["metadata"]["namespace"] = "default"
        if "dryRun" not in parse_qs(url.query):
            self.server.objects[plural, name] = new
            self.server.requests.append(f"{self.command} {plural}/{name}")
        return self.answer(new, 201 if old is None else 200)

    def refusal(self, kind: str, new: dict[str, Any]) -> str:
        """What a real server would not take: values that are no strings, a Secret's that are no base64."""
        for key, value in (new.get("data") or {}).items() if kind in ("ConfigMap", "Secret") else ():
            if not isinstance(value, str):
                return f"{key} is not a string"
            if kind == "Secret":
                base64.b64decode(value, validate=True)
        return ""

    do_GET = do_POST = do_PUT = do_PATCH = handle_any  # noqa: N815 - as the base class wants them

    def log_message(self, form: str, *values: Any) -> None:
        del form, values


@contextmanager
def api(folder: Path) -> Iterator[tuple[Api, Path]]:
    """A server, and a kubeconfig for it."""
    with Api(("127.0.0.1", 0), Handler) as server:
        server.objects, server.requests = {}, []
        threading.Thread(target=server.serve_forever, daemon=True).start()
        config = folder / "kubeconfig"
        address = f"http://127.0.0.1:{server.server_address[1]}"
        config.write_text(
            json.dumps(
                {
                    "apiVersion": "v1",
                    "kind": "Config",
                    "current-context": "test",
                    "users": [],
                    "clusters": [{"name": "test", "cluster": {"server": address}}],
                    "contexts": [{"name": "test", "context": {"cluster": "test", "user": ""}}],
                }
            )
        )
        yield server, config
        server.shutdown()
