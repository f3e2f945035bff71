"""Rewrite workloads: entries that objects replace are removed, and the objects are referred to."""

from __future__ import annotations

import codecs
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.core.names import ALL
from coinjar.core.placeholders import fill
from coinjar.destinations.container_entries import THERE, ContainerEntries, added
from coinjar.destinations.generated_objects import GeneratedObject
from coinjar.destinations.stage_view import StageView, gets
from coinjar.destinations.workloads import (
    MADE_ANEW,
    ManifestDocument,
    ManifestSet,
    WorkloadContainer,
    escaped,
    forward,
    kept_literal,
)
from coinjar.dialects.base import Entry, decode
from coinjar.dialects.kube import VARIABLE
from coinjar.documents.edit import Edit, apply_to_text
from coinjar.documents.environments import EnvironmentEntry, held
from coinjar.documents.writer import Plain, ScalarWriter
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.destinations.manifests import ManifestsDestination


class ManifestRewriter:
    """Rewrites the manifests of a stage."""

    def __init__(self, destination: ManifestsDestination) -> None:
        self.destination = destination

    def rewritten(
        self,
        path: Path,
        manifests: list[ManifestDocument],
        cluster: ManifestSet,
        objects: list[GeneratedObject],
        view: StageView,
    ) -> bytes:
        data = read_bytes(path)
        text, _ = decode(data, display_path(path))
        writer = ScalarWriter("\r\n" if "\r\n" in text else "\n", careful=True)
        parts = []
        for manifest in manifests:
            changes = [
                edit
                for container in manifest.containers()
                for edit in self._container(manifest, container, cluster, objects, view)
            ]
            parts.append(apply_to_text(manifest.text, manifest.file, changes, writer) if changes else manifest.text)
            if changes and manifest.kind in MADE_ANEW:
                words = (
                    f"{manifest.kind} {manifest.name} must be deleted and created again for new values: a cluster "
                    "does not change it in place"
                )
                self.destination.notice(
                    "",
                    manifest.location(manifest.at("metadata", "name")),
                    words,
                    f"kubectl delete {manifest.kind.lower()} {manifest.name}, then apply",
                )
        return (codecs.BOM_UTF8 if data.startswith(codecs.BOM_UTF8) else b"") + "".join(parts).encode()

    def _container(
        self,
        manifest: ManifestDocument,
        container: WorkloadContainer,
        cluster: ManifestSet,
        objects: list[GeneratedObject],
        view: StageView,
    ) -> list[Edit]:
        """Remove the entries that the objects replace, and refer to the objects."""
        service = self.destination.service(view, manifest, container)
        entries = held(container.node.child("env"))
        if service is None:
            ours = [entry.name for entry in entries if entry.name in self.destination.render_context.jar.variables]
            if ours:
                words = (
                    f"the container {container.name} of {manifest.name} belongs to no service, so its "
                    f"{', '.join(ours[:4])} were left unchanged"
                )
                self.destination.notice(
                    "CJ022",
                    manifest.location(container.node),
                    words,
                    f"name it under workloads of {self.destination.destination.name}",
                )
            return []
        managed = {entry.name: entry for entry in view.entries(service) if VARIABLE.fullmatch(entry.name)}
        here = ContainerEntries(manifest, container, cluster, entries, service, managed)
        changes = [edit for entry in entries if (edit := self._entry(here, entry, view)) is not None]
        objects = [
            object_
            for object_ in objects
            if object_.service in (ALL, service) and object_.namespace == manifest.namespace
        ]
        wanted: list[Plain] = [
            {"configMapRef" if object_.dialect.kind == "ConfigMap" else "secretRef": {"name": object_.name}}
            for object_ in objects
        ]
        key = {"name": fill(self.destination.from_secret, service=service, stage=view.stage)}
        secrets = [entry.name for entry in managed.values() if self.is_there(entry)]
        given: list[Plain] = [{"name": name, "valueFrom": {"secretKeyRef": {**key, "key": name}}} for name in secrets]
        if given and sum(edit.value is None for edit in changes) == len(
            entries
        ):  # all are removed: the list is written again
            changes = [Edit((*container.path, "env"), given)]
        else:
            changes += added(container, "env", given)
        return changes + added(container, "envFrom", wanted)

    def _entry(self, here: ContainerEntries, entry: EnvironmentEntry, view: StageView) -> Edit | None:
        """Return what happens to a container's entry: it stays, gets another text, or is removed, because an object
        provides it.
        """
        manifest, cluster = here.manifest, here.cluster
        step = (*here.container.path, "env", entry.step)
        managed = here.managed.get(entry.name)
        if managed is None:
            self._stays(manifest, entry, here.service, view)
            # After this entry such a name is a text; before it, as in the objects, it would be expanded.
            moved = forward(here.entries, entry) & here.moving()
            return Edit((*step, "value"), escaped(entry.text or "", moved)) if moved else None
        if self.is_there(managed):
            return Edit(step, None)
        waits = cluster.waits_for(here.entries, entry)
        if waits and managed.text is not None and not managed.secret:
            # Only here does Kubernetes expand a reference to a field: it does not expand the values of objects.
            return Edit((*step, "value"), kept_literal(managed.text, waits))
        if (
            entry.text is not None
            or cluster.referred(manifest, entry) is not None
            or not cluster.comes_from_elsewhere(entry)
        ):
            return Edit(step, None)
        if not any(
            other_entry.name == entry.name for other_entry in here.entries[here.entries.index(entry) + 1 :]
        ):  # otherwise a later one decides
            words = (
                f"{entry.name} of {manifest.name} is set from another source here, which overrides the managed value"
            )
            fix = "remove it, or exclude the variable from this destination (without: …)"
            self.destination.notice("CJ022", manifest.location(entry.at), words, fix, variable=entry.name)
        return None

    def is_there(self, entry: Entry) -> bool:
        """Return whether the cluster's own Secret is referred to for it."""
        return bool(self.destination.from_secret) and (entry.text or "").startswith(THERE)

    def _stays(self, manifest: ManifestDocument, entry: EnvironmentEntry, service: str, view: StageView) -> None:
        """Notice why a declared entry is left unchanged."""
        variable = self.destination.render_context.jar.variables.get(entry.name)
        if variable is None or not gets(self.destination.destination, entry.name):
            return
        why, fix = (
            f"the jar has no value for {service} on {view.stage}",
            "set a value, or remove it from the manifest",
        )
        if not VARIABLE.fullmatch(entry.name):
            why, fix = (
                "Kubernetes makes no variable from such a key of an object",
                "rename it: `coinjar rename`",
            )
        elif self.destination.destination.plain_only and entry.name in self.destination.render_context.jar.secret_names:
            why, fix = (
                "plain_only excludes secrets",
                "remove it from the manifest; `from_secret: NAME` refers to a Secret in the cluster",
            )
        self.destination.notice(
            "CJ022",
            manifest.location(entry.at),
            f"{entry.name} of {manifest.name} was left unchanged: {why}",
            fix,
            variable=entry.name,
        )
