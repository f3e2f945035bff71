"""Hayloft: a small server of the Kubernetes API, for this program and for kubectl."""

from __future__ import annotations

import base64
import binascii
import copy
import json
import secrets
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

import yaml

from coinjar.standins.apply_patch import FieldConflict, applied, merged
from coinjar.standins.base import ApiCall, ErrorResponse, Standin, route
from coinjar.standins.masking import MASK
from coinjar.system.files import replace_file

GROUPS = {
    "v1": {
        "configmaps": "ConfigMap",
        "secrets": "Secret",
        "pods": "Pod",
        "podtemplates": "PodTemplate",
        "replicationcontrollers": "ReplicationController",
        "namespaces": "Namespace",
    },
    "apps/v1": {
        "deployments": "Deployment",
        "statefulsets": "StatefulSet",
        "daemonsets": "DaemonSet",
        "replicasets": "ReplicaSet",
    },
    "batch/v1": {"jobs": "Job", "cronjobs": "CronJob"},
}
VERBS = ["create", "delete", "get", "list", "patch", "update"]
_ROLLED = ("deployments", "statefulsets", "daemonsets")
_LOOKS = 2
"""Reads of a workload after which its rollout is finished."""


class Hayloft(Standin):
    """A small server of the Kubernetes API: objects, server-side apply, rollouts that take a while, pods."""

    name = "hayloft"
    prefix = "/api"
    unguarded = True  # kubectl sends no token over plain http

    def first(self) -> dict[str, Any]:
        return {"uid": secrets.token_hex(8), "objects": {}, "number": 0}

    def make(self, name: str) -> None:
        """Do nothing: a namespace exists as soon as it is used."""

    def more(self) -> dict[str, str]:
        """Return the path of a kubeconfig."""
        path = self.path.with_name("hayloft.kubeconfig")
        config = {
            "apiVersion": "v1",
            "kind": "Config",
            "current-context": "hayloft",
            "users": [],
            "clusters": [{"name": "hayloft", "cluster": {"server": self.address}}],
            "contexts": [{"name": "hayloft", "context": {"cluster": "hayloft", "user": "", "namespace": "default"}}],
        }
        replace_file(path, json.dumps(config).encode(), mode=0o600)
        return {"kubeconfig": str(path)}

    def answer(self, method: str, path: str, query: Mapping[str, str], body: Any, headers: Mapping[str, str]) -> Any:
        try:
            return super().answer(method, path, query, body, headers)
        except ErrorResponse as fault:
            status = {
                "kind": "Status",
                "apiVersion": "v1",
                "status": "Failure",
                "reason": fault.words,
                "message": fault.words,
                "code": fault.code,
            }
            fault.body = status
            raise

    # -- discovery

    @route("GET", "/version", free=True)
    def version(self, call: ApiCall) -> Any:
        del call
        return {"major": "1", "minor": "32", "gitVersion": "v1.32.0"}

    @route("GET", "/api")
    def core(self, call: ApiCall) -> Any:
        del call
        return {"kind": "APIVersions", "versions": ["v1"]}

    @route("GET", "/apis")
    def groups(self, call: ApiCall) -> Any:
        del call
        result = []
        for group in (group.split("/")[0] for group in GROUPS if "/" in group):
            version = {"groupVersion": f"{group}/v1", "version": "v1"}
            result.append({"name": group, "versions": [version], "preferredVersion": version})
        return {"kind": "APIGroupList", "apiVersion": "v1", "groups": result}

    def _resources(self, group: str) -> Any:
        kinds = GROUPS[group].items()
        result = [
            {
                "name": plural,
                "singularName": kind.lower(),
                "namespaced": kind != "Namespace",
                "kind": kind,
                "verbs": VERBS,
            }
            for plural, kind in kinds
        ]
        return {"kind": "APIResourceList", "apiVersion": "v1", "groupVersion": group, "resources": result}

    # -- objects

    @route("GET", "/api{*}")
    def get(self, call: ApiCall) -> Any:
        group, namespace, plural, name = self._parts(call.parts[0])
        if not plural:
            return self._resources(group)
        kind = self._kind(group, plural)
        if plural == "namespaces" and name == "kube-system":
            return {"kind": "Namespace", "apiVersion": "v1", "metadata": {"name": name, "uid": self.state["uid"]}}
        if name:
            result = self._there(namespace, plural, name)
            self._look(result, plural)
            return {"kind": kind, "apiVersion": group, **result}
        items = [item for key, item in self.state["objects"].items() if key.startswith(f"{namespace}/{plural}/")]
        items += self._replica_pods(namespace) if plural == "pods" else []
        return {"kind": f"{kind}List", "apiVersion": group, "metadata": {}, "items": items}

    @route("POST", "/api{*}")
    def create(self, call: ApiCall) -> Any:
        group, namespace, plural, _ = self._parts(call.parts[0])
        kind = self._kind(group, plural)
        name = call.body["metadata"]["name"]
        if f"{namespace}/{plural}/{name}" in self.state["objects"]:
            raise ErrorResponse(409, f"{plural} {name} already exists")
        return self._keep(group, kind, namespace, plural, copy.deepcopy(call.body), None, call)

    @route("PUT", "/api{*}")
    def replace(self, call: ApiCall) -> Any:
        group, namespace, plural, name = self._parts(call.parts[0])
        return self._keep(
            group,
            self._kind(group, plural),
            namespace,
            plural,
            copy.deepcopy(call.body),
            self._there(namespace, plural, name),
            call,
        )

    @route("PATCH", "/api{*}")
    def patch(self, call: ApiCall) -> Any:
        group, namespace, plural, name = self._parts(call.parts[0])
        kind = self._kind(group, plural)
        old = self.state["objects"].get(f"{namespace}/{plural}/{name}")
        if "apply-patch" in call.content_type:
            wanted = yaml.safe_load(call.body) if isinstance(call.body, str) else call.body
            try:
                new = applied(
                    copy.deepcopy(old) or {},
                    wanted,
                    call.query.get("fieldManager", ""),
                    force=call.query.get("force") == "true",
                )
            except FieldConflict as fault:
                raise ErrorResponse(409, f"Apply failed with a conflict: {fault}") from None
        else:
            old = self._there(namespace, plural, name)
            new = merged(copy.deepcopy(old), call.body if isinstance(call.body, dict) else yaml.safe_load(call.body))
        return self._keep(group, kind, namespace, plural, new, old, call)

    @route("DELETE", "/api{*}")
    def delete(self, call: ApiCall) -> Any:
        _, namespace, plural, name = self._parts(call.parts[0])
        self._there(namespace, plural, name)
        del self.state["objects"][f"{namespace}/{plural}/{name}"]
        return {"kind": "Status", "apiVersion": "v1", "status": "Success"}

    def _parts(self, rest: str) -> tuple[str, str, str, str]:
        """Return group, namespace, plural and name of a path behind /api."""
        parts = rest.strip("/").split("/")
        group, parts = ("v1", parts[1:]) if not rest.startswith("s/") else ("/".join(parts[1:3]), parts[3:])
        namespace = "default"
        if parts[:1] == ["namespaces"] and len(parts) > 2:
            namespace, parts = parts[1], parts[2:]
        if group not in GROUPS:
            raise ErrorResponse(404, "NotFound")
        return group, namespace, parts[0] if parts else "", parts[1] if len(parts) > 1 else ""

    def _kind(self, group: str, plural: str) -> str:
        if plural not in GROUPS[group]:
            raise ErrorResponse(404, "NotFound")
        return GROUPS[group][plural]

    def _there(self, namespace: str, plural: str, name: str) -> dict[str, Any]:
        result: dict[str, Any] | None = self.state["objects"].get(f"{namespace}/{plural}/{name}")
        if result is None:
            raise ErrorResponse(404, "NotFound")
        return result

    def _keep(
        self,
        group: str,
        kind: str,
        namespace: str,
        plural: str,
        new: dict[str, Any],
        old: dict[str, Any] | None,
        call: ApiCall,
    ) -> Any:
        self._refuse(kind, new)
        new.update(kind=kind, apiVersion=group)
        meta = new["metadata"]
        self.state["number"] += 1
        kept = (old or {}).get("metadata", {})
        meta["namespace"] = namespace
        meta["uid"] = kept.get("uid") or f"{plural}-{self.state['number']}"
        meta["creationTimestamp"] = kept.get("creationTimestamp") or datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
        meta["resourceVersion"] = str(self.state["number"])
        changed = old is None or old.get("spec") != new.get("spec")
        meta["generation"] = kept.get("generation", 0) + int(changed)
        if plural in _ROLLED and changed:
            before = (old or {}).get("status", {})
            new["status"] = {
                "observedGeneration": kept.get("generation", 0),
                "running": before.get("running"),
                "looks": 0,
            }
        if "dryRun" not in call.query:
            self.state["objects"][f"{namespace}/{plural}/{meta['name']}"] = new
        return new

    def _refuse(self, kind: str, new: dict[str, Any]) -> None:
        """Refuse what a real server refuses: values that are not strings, a Secret's values that are not base64."""
        for key, value in (new.get("data") or {}).items() if kind in ("ConfigMap", "Secret") else ():
            if not isinstance(value, str):
                raise ErrorResponse(400, f"{key} is not a string")
            if kind == "Secret":
                try:
                    base64.b64decode(value, validate=True)
                except binascii.Error:
                    raise ErrorResponse(400, f"{key} is not base64") from None
        if kind == "Secret" and new.get("stringData"):
            given = {key: base64.b64encode(value.encode()).decode() for key, value in new.pop("stringData").items()}
            new["data"] = (new.get("data") or {}) | given

    # -- rollouts and pods

    def _look(self, result: dict[str, Any], plural: str) -> None:
        """Advance a rollout with each read, until new pods run."""
        status = result.get("status")
        if plural not in _ROLLED or status is None:
            return
        status["looks"] = status.get("looks", 0) + 1
        if status["looks"] > _LOOKS and status.get("observedGeneration") != result["metadata"]["generation"]:
            wanted = result["spec"].get("replicas", 1)
            counts = dict.fromkeys(("replicas", "updatedReplicas", "availableReplicas", "readyReplicas"), wanted)
            counts |= dict.fromkeys(("desiredNumberScheduled", "updatedNumberScheduled", "numberAvailable"), 1)
            result["status"] = {
                **counts,
                "observedGeneration": result["metadata"]["generation"],
                "running": result["spec"]["template"]["spec"],
                "looks": _LOOKS,
            }
            self.save()

    def _replica_pods(self, namespace: str) -> Iterator[dict[str, Any]]:
        """Return the running pods: of the spec that was rolled out last."""
        for key, item in self.state["objects"].items():
            where, plural, name = key.split("/")
            self._look(item, plural)
            running = (item.get("status") or {}).get("running")
            if where == namespace and plural in _ROLLED and running:
                yield {
                    "kind": "Pod",
                    "apiVersion": "v1",
                    "metadata": {"name": f"{name}-0", "namespace": namespace},
                    "spec": running,
                    "status": {"phase": "Running"},
                }

    def sections(self) -> Iterator[tuple[str, str, Sequence[tuple[str, str, str]]]]:
        for key, item in self.state["objects"].items():
            _, plural, name = key.split("/")
            if plural == "configmaps":
                yield (
                    f"ConfigMap {name}",
                    "",
                    [(element, value, "") for element, value in (item.get("data") or {}).items()],
                )
            elif plural == "secrets":
                yield f"Secret {name}", "", [(element, MASK, "") for element in item.get("data") or {}]
            elif plural in _ROLLED:
                done = item["status"].get("observedGeneration") == item["metadata"]["generation"]
                yield f"{item['kind']} {name}", "rolled out" if done else "rolling out", []
