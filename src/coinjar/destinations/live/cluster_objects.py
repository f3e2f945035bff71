"""Kubernetes objects as a cluster returns them: references, rollout status, order of application."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

from coinjar.core.names import ALL
from coinjar.destinations.generated_objects import ORDER, SERVICE
from coinjar.destinations.manifests import ManifestsDestination
from coinjar.destinations.workloads import read_manifests, service_of
from coinjar.documents.json_data import MISSING, Data, resolve_pointer
from coinjar.documents.yamltext import load_plain

KINDS = {
    "ConfigMap": ("api/v1", "configmaps"),
    "Secret": ("api/v1", "secrets"),
    "Pod": ("api/v1", "pods"),
    "PodTemplate": ("api/v1", "podtemplates"),
    "ReplicationController": ("api/v1", "replicationcontrollers"),
    "Deployment": ("apis/apps/v1", "deployments"),
    "StatefulSet": ("apis/apps/v1", "statefulsets"),
    "DaemonSet": ("apis/apps/v1", "daemonsets"),
    "ReplicaSet": ("apis/apps/v1", "replicasets"),
    "Job": ("apis/batch/v1", "jobs"),
    "CronJob": ("apis/batch/v1", "cronjobs"),
}


ROLLED = ("Deployment", "StatefulSet", "DaemonSet")


_REFERENCES = ("configMapRef", "secretRef", "configMapKeyRef", "secretKeyRef", "configMap", "secret")


def _documents(data: bytes, file: str) -> Iterator[dict[str, Any]]:
    for manifest in read_manifests(data, file):
        loaded = load_plain(manifest.text.encode(), file)
        if isinstance(loaded, dict) and loaded.get("kind") in KINDS:
            yield loaded


def is_for(document: Data, service: str, manifests: ManifestsDestination) -> bool:
    """Return whether a rendered document belongs to a service: its objects, shared ones, and its workloads."""
    if document["kind"] in ("ConfigMap", "Secret"):
        return (
            resolve_pointer(document, "/metadata/annotations").get(SERVICE) in (ALL, service)
            if resolve_pointer(document, "/metadata/annotations") is not MISSING
            else False
        )
    manifest = read_manifests(json.dumps(document).encode(), "")[0]
    services = manifests.render_context.jar.services
    return any(
        service_of(manifest, container, services, manifests.named) == service for container in manifest.containers()
    )


def references(document: Data) -> set[tuple[str, str]]:
    """Return the ConfigMaps and Secrets that a workload refers to."""
    names: set[tuple[str, str]] = set()
    if isinstance(document, dict):
        for key, value in document.items():
            if key in _REFERENCES and isinstance(value, dict):
                name = value.get("name") or value.get("secretName")
                if isinstance(name, str):
                    names.add(("ConfigMap" if key.startswith("configMap") else "Secret", name))
            names |= references(value)
    elif isinstance(document, list):
        for item in document:
            names |= references(item)
    return names


def is_live(document: Data) -> bool:
    """Return whether a workload may still start pods: not an old ReplicaSet, or a pod that has ended."""
    if document["kind"] in ("ReplicaSet", "ReplicationController"):
        return resolve_pointer(document, "/spec/replicas") not in (0, MISSING)
    return document["kind"] != "Pod" or resolve_pointer(document, "/status/phase") not in ("Succeeded", "Failed")


def rolled_out(kind: str, document: Data) -> bool:
    """Return whether all pods have the newest spec and are available (the status conditions that kubectl reads)."""
    meta, status, spec = document["metadata"], document.get("status") or {}, document.get("spec") or {}
    if status.get("observedGeneration", 0) < meta.get("generation", 0):
        return False
    if kind == "DaemonSet":
        wanted = status.get("desiredNumberScheduled", 0)
        return bool(status.get("updatedNumberScheduled", 0) >= wanted and status.get("numberAvailable", 0) >= wanted)
    wanted = spec.get("replicas", 1)
    updated, total = status.get("updatedReplicas", 0), status.get("replicas", 0)
    available = status.get("availableReplicas", status.get("readyReplicas", 0))
    return bool(updated >= wanted and total <= updated and available >= wanted)


def order(document: Data) -> int:
    """Return the position in the series of generated objects; 0 without the annotation."""
    text = (document["metadata"].get("annotations") or {}).get(ORDER, "0")
    return int(text) if str(text).isdigit() else 0


def slim(document: Data) -> Data:
    """Return it without the fields that the server maintains."""
    meta = {key: value for key, value in document.get("metadata", {}).items() if key in ("name", "namespace")}
    return {key: value for key, value in document.items() if key != "status"} | {"metadata": meta}
