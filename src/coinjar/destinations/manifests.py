"""`type: manifests`: a folder of Kubernetes manifests to one per stage, variables in objects named after their
content.
"""

from __future__ import annotations

import codecs
import hashlib
import hmac
import re
from collections.abc import Iterable
from functools import partial
from json import dumps
from pathlib import Path
from typing import NamedTuple

from coinjar.core.errors import Location
from coinjar.core.model import Destination
from coinjar.core.names import ALL
from coinjar.destinations.base import FileDestination, Output, RenderContext, StageView, filled, gets, nothing_hidden
from coinjar.destinations.workloads import (
    MADE_ANEW,
    TEMPLATED,
    ManifestDocument,
    ManifestSet,
    WorkloadContainer,
    containers_below,
    environments,
    escaped,
    every_entry_of,
    forward,
    kept_literal,
    objects_in_use,
    read_folder,
    read_manifests,
    readable,
    service_of,
)
from coinjar.dialects import carriers, get
from coinjar.dialects.base import Entry, ReadResult, decode, refuse
from coinjar.dialects.kube import VARIABLE, ConfigMapDialect
from coinjar.documents.edit import END, Edit, apply_to_text
from coinjar.documents.environments import EnvironmentEntry, held
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.writer import Plain, ScalarWriter
from coinjar.jarfile.load import read_bytes
from coinjar.jarfile.naming_key import has_naming_key, key_path
from coinjar.system.files import display_path

ORDER, SERVICE = "coinjar/order", "coinjar/service"
"""Annotations of the generated objects: their order, and their owner."""
_THERE = "\0there"
"""Stands for a secret that is in the cluster: no value contains such a character."""
_OURS = re.compile(r"\.(configmap|secret)\.yaml")


class GeneratedObject(NamedTuple):
    """An object: its service (`all`: shared by all), kind, name, namespace, and its file's text."""

    service: str
    dialect: ConfigMapDialect
    name: str
    namespace: str
    entries: list[Entry]

    @property
    def file(self) -> str:
        where = f"{self.namespace}." if self.namespace else ""
        return f"{where}{self.name}.{self.dialect.kind.lower()}.yaml"


class _ContainerEntries(NamedTuple):
    """A container of a service: its entries, and what the jar provides, by name."""

    manifest: ManifestDocument
    container: WorkloadContainer
    cluster: ManifestSet
    entries: list[EnvironmentEntry]
    service: str
    managed: dict[str, Entry]

    def moving(self) -> set[str]:
        """The names that an object provides now and did not before."""
        return {name for name, entry in self.managed.items() if entry.text is not None} - self.cluster.given(
            self.manifest, self.container
        )


class ManifestsDestination(FileDestination):
    """`from`, `to`; `workloads` assigns containers to services where names do not; `string_data: true`, `keep: N`.

    `from_secret: NAME` creates no Secret: containers refer, variable by variable, to keys of one that exists in the
    cluster.
    """

    keys = ("from", "to", "workloads", "string_data", "keep", "from_secret")
    needed = ("from", "to")

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.source = self.pattern("from", ("stage",))
        self.target = self.pattern("to", ("stage",))
        self.names_stage = "{stage}" in self.target
        self.string_data = self.flag("string_data")
        self.keep = self.count("keep", 3)
        self.from_secret = self.pattern("from_secret") if "from_secret" in self.options else ""
        if destination.secrets is not None:
            fields.fault(
                self.options["from"],
                f"'secrets' of {destination.name} would write a text into an object, where Kubernetes does not "
                "expand it",
                "`from_secret: NAME` refers to a Secret in the cluster",
                "destination",
            )
        self.named: dict[str, str] = {}
        for name, key, node in (
            fields.members(self.options["workloads"], "'workloads'") if "workloads" in self.options else ()
        ):
            self.named[name] = fields.text(node, name)
            if self.named[name] not in render_context.jar.services:
                fields.fault(
                    key,
                    f"there is no service '{self.named[name]}'",
                    f"the services are {', '.join(render_context.jar.services)}",
                    "unknown-service",
                )

    def outputs(self, view: StageView) -> list[Output]:
        if self.from_secret:  # no secret's text is needed
            view = StageView(view.resolver, view.destination._replace(secrets=_THERE), lenient=view.lenient)
        folder = self.render_context.root / self.source.replace("{stage}", view.stage)
        target = self.resolve_path(self.target, view.stage)
        files = read_folder(folder)
        cluster = ManifestSet(files)
        named = has_naming_key(self.render_context.folder, self.render_context.layers(view.stage))
        objects = self._objects(view, cluster)
        if not named and any(object_.dialect.kind == "Secret" for object_ in objects):
            words = "there was no key yet to name Secrets with, so their names are new"
            self.notice(
                "",
                Location(display_path(key_path(self.render_context.folder))),
                words,
                "if others render too, share it in COINJAR_NAMING_KEY",
            )
        self._not_looked_into(folder, cluster)
        outputs = [self._object_output(target, object_) for object_ in objects]
        for path, manifests in files.items():
            data = self._rewritten(path, manifests, cluster, objects, view)
            to = target / path.relative_to(folder)
            self.render_context.pending[to] = data
            hidden = self.hide_items(partial(every_entry_of, file=display_path(to)), ())
            outputs.append(
                Output(to, data, self._holds_secrets(data, display_path(to)), self._workloads(manifests), hidden)
            )
        outputs += self._copied(folder, target)
        self._unused(cluster, objects)
        self._left_over(target, {output.path for output in outputs})
        return outputs

    def _not_looked_into(self, folder: Path, cluster: ManifestSet) -> None:
        for manifest in cluster.manifests():
            if manifest.kind.endswith("List") and manifest.at("items") is not None:
                self.notice(
                    "CJ022",
                    manifest.location(manifest.at("items")),
                    "lists of objects are not supported",
                    "write each as a document of its own",
                )
        for path in sorted(folder.rglob("*.json")) if folder.is_dir() else ():
            self.notice(
                "CJ022",
                Location(display_path(path)),
                "JSON manifests are copied unchanged",
                "write it in YAML",
            )
        for manifest in cluster.manifests():
            if manifest.kind and manifest.kind not in TEMPLATED and (node := containers_below(manifest.root)):
                words = f"the containers of {manifest.kind} {manifest.name} were not changed"
                self.notice(
                    "CJ022",
                    manifest.location(node),
                    words,
                    "this kind is not known here: set their variables by hand",
                )

    def _copied(self, folder: Path, target: Path) -> Iterable[Output]:
        """Return the manifests in JSON: they are copied with the others."""
        for path in sorted(folder.rglob("*.json")) if folder.is_dir() else ():
            to, data = target / path.relative_to(folder), read_bytes(path)
            yield Output(
                to,
                data,
                self._holds_secrets(data, display_path(to)),
                "copied",
                self.hide_items(partial(every_entry_of, file=display_path(to)), ()),
            )

    def _workloads(self, manifests: list[ManifestDocument]) -> str:
        return ", ".join(f"{manifest.kind} {manifest.name}" for manifest in manifests if manifest.kind) or "nothing"

    def _holds_secrets(self, data: bytes, file: str) -> bool:
        """Return whether a manifest contains a readable secret, which is its author's responsibility."""
        return any(
            item.secret or (item.text and self.render_context.is_secret(item.name, item.text))
            for item in readable(read_manifests(data, file)).items
        )

    # -- objects

    def _objects(self, view: StageView, cluster: ManifestSet) -> list[GeneratedObject]:
        """Return one ConfigMap and one Secret for what all services share, and one for what each has besides; no empty
        ones.
        """
        used: dict[str, list[str]] = {}
        for manifest in cluster.manifests():
            for container in manifest.containers():
                service = self._service(view, manifest, container)
                if service is not None and service not in used.setdefault(manifest.namespace, []):
                    used[manifest.namespace].append(service)
        objects: list[GeneratedObject] = []
        for namespace, services in used.items():
            texts = {
                service: {
                    entry.name: entry
                    for entry in view.entries(service)
                    if entry.text is not None and not self._is_there(entry)
                }
                for service in services
            }
            first = next(iter(texts.values()))
            common = {
                name: entry
                for name, entry in first.items()
                if len(services) > 1 and all(_same(text.get(name), entry) for text in texts.values())
            }
            groups = {ALL: list(common.values())} | {
                service: [entry for name, entry in item.items() if name not in common]
                for service, item in texts.items()
            }
            objects += [
                object_
                for service, group in groups.items()
                for object_ in self._of_group(view.stage, service, namespace, group)
            ]
        return objects

    def _of_group(self, stage: str, service: str, namespace: str, entries: list[Entry]) -> Iterable[GeneratedObject]:
        for name, secret in (("kube-configmap", False), ("kube-secret", True)):
            group = [entry for entry in entries if entry.secret is secret]
            dialect = get(name)
            assert isinstance(dialect, ConfigMapDialect)
            for entry in [other_entry for other_entry in group if not VARIABLE.fullmatch(other_entry.name)]:
                group.remove(entry)
                words = f"{entry.name} was skipped: Kubernetes makes no variable from such a key of a {dialect.kind}"
                self.notice(
                    "CJ022",
                    entry.variable.location if entry.variable else self.destination.location,
                    words,
                    "rename it: `coinjar rename`",
                    variable=entry.name,
                )
            refuse(dialect, group, carriers)
            if group:
                yield GeneratedObject(
                    service, dialect, self._name(stage, service, dialect.kind, group), namespace, group
                )

    def _name(self, stage: str, service: str, kind: str, entries: list[Entry]) -> str:
        """Return a name that changes with the content.

        A Secret's digest is keyed, and differs by stage and service, so that the name reveals nothing: not even that
        two are equal.
        """
        content = dumps(
            [
                kind,
                stage,
                service,
                [[entry.name, entry.text] for entry in sorted(entries, key=lambda other_entry: other_entry.name)],
            ],
            ensure_ascii=True,
        ).encode()
        keyed = kind == "Secret"
        digest = (
            hmac.new(self.render_context.naming_key(stage), content, "sha256").hexdigest()
            if keyed
            else hashlib.sha256(content).hexdigest()
        )
        return f"{self.render_context.jar.app}-{digest[:10]}-{service}".replace("_", "-")

    def _object_output(self, target: Path, object_: GeneratedObject) -> Output:
        path = target / object_.file
        order = _order(read_bytes(path)) if path.exists() else None
        if order is None:
            order = 1 + max(
                (
                    earlier.order
                    for earlier in self._there(target)
                    if earlier.series == (object_.dialect.kind, object_.namespace, object_.service)
                ),
                default=0,
            )
        annotations = {ORDER: str(order), SERVICE: object_.service}
        text = object_.dialect.object_text(
            object_.name, object_.entries, annotations, namespace=object_.namespace, as_text=self.string_data
        )
        self.render_context.pending[path] = text.encode()
        secret = object_.dialect.kind == "Secret"
        names = [entry.name for entry in object_.entries]
        hidden = (
            self.hide_items(partial(object_.dialect.read, file=display_path(path)), names) if secret else nothing_hidden
        )
        return Output(path, text.encode(), secret, f"{object_.dialect.kind}, {self.about(object_.entries)}", hidden)

    # -- workloads

    def _service(self, view: StageView, manifest: ManifestDocument, container: WorkloadContainer) -> str | None:
        service = service_of(manifest, container, self.render_context.jar.services, self.named)
        if container.is_init and service not in (
            container.name,
            self.named.get(f"{manifest.name}/{container.name}"),
            self.named.get(container.name),
        ):
            # One without the service's variables, such as a container that waits for a port, needs nothing of it.
            declared = self.render_context.jar.variables
            service = service if any(entry.name in declared for entry in held(container.node.child("env"))) else None
        return service if service in view.services() else None

    def _rewritten(
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
                self.notice(
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
        service = self._service(view, manifest, container)
        entries = held(container.node.child("env"))
        if service is None:
            ours = [entry.name for entry in entries if entry.name in self.render_context.jar.variables]
            if ours:
                words = (
                    f"the container {container.name} of {manifest.name} belongs to no service, so its "
                    f"{', '.join(ours[:4])} were left unchanged"
                )
                self.notice(
                    "CJ022",
                    manifest.location(container.node),
                    words,
                    f"name it under workloads of {self.destination.name}",
                )
            return []
        managed = {entry.name: entry for entry in view.entries(service) if VARIABLE.fullmatch(entry.name)}
        here = _ContainerEntries(manifest, container, cluster, entries, service, managed)
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
        key = {"name": filled(self.from_secret, {"{service}": service, "{stage}": view.stage})}
        secrets = [entry.name for entry in managed.values() if self._is_there(entry)]
        given: list[Plain] = [{"name": name, "valueFrom": {"secretKeyRef": {**key, "key": name}}} for name in secrets]
        if given and sum(edit.value is None for edit in changes) == len(
            entries
        ):  # all are removed: the list is written again
            changes = [Edit((*container.path, "env"), given)]
        else:
            changes += _added(container, "env", given)
        return changes + _added(container, "envFrom", wanted)

    def _entry(self, here: _ContainerEntries, entry: EnvironmentEntry, view: StageView) -> Edit | None:
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
        if self._is_there(managed):
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
            self.notice("CJ022", manifest.location(entry.at), words, fix, variable=entry.name)
        return None

    def _is_there(self, entry: Entry) -> bool:
        """Return whether the cluster's own Secret is referred to for it."""
        return bool(self.from_secret) and (entry.text or "").startswith(_THERE)

    def _stays(self, manifest: ManifestDocument, entry: EnvironmentEntry, service: str, view: StageView) -> None:
        """Notice why a declared entry is left unchanged."""
        variable = self.render_context.jar.variables.get(entry.name)
        if variable is None or not gets(self.destination, entry.name):
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
        elif self.destination.plain_only and entry.name in self.render_context.jar.secret_names:
            why, fix = (
                "plain_only excludes secrets",
                "remove it from the manifest; `from_secret: NAME` refers to a Secret in the cluster",
            )
        self.notice(
            "CJ022",
            manifest.location(entry.at),
            f"{entry.name} of {manifest.name} was left unchanged: {why}",
            fix,
            variable=entry.name,
        )

    def _unused(self, cluster: ManifestSet, objects: list[GeneratedObject]) -> None:
        """Notice the folder's own objects that nothing refers to once the managed ones are in use."""
        managed = {entry.name for object_ in objects for entry in object_.entries}
        for manifest in cluster.manifests():
            key = (manifest.kind, manifest.namespace, manifest.name)
            if (
                manifest.kind in ("ConfigMap", "Secret")
                and cluster.objects.get(key)
                and set(cluster.objects[key]) <= managed
            ):
                words = f"the managed objects now contain all of {manifest.kind} {manifest.name}"
                self.notice(
                    "CJ022",
                    manifest.location(manifest.at("metadata", "name")),
                    words,
                    f"remove it from {self.source}, if nothing else refers to it",
                )

    def _left_over(self, target: Path, created: set[Path]) -> None:
        for path in sorted(target.rglob("*")) if target.is_dir() else ():
            if path.is_file() and path not in created and not _OURS.search(path.name):
                self.notice(
                    "CJ022",
                    Location(display_path(path)),
                    f"no manifest in {self.source} produces this file any more",
                    "remove it, if nobody else creates it",
                )

    # -- earlier objects

    def _there(self, target: Path) -> list[EarlierObject]:
        """Return the objects that this destination has created in its output folder."""
        earlier = []
        for path in sorted(target.iterdir()) if target.is_dir() else ():
            if _OURS.search(path.name) and (order := _order(read_bytes(path))) is not None:
                manifest = read_manifests(read_bytes(path), display_path(path))[0]
                owner = manifest.at("metadata", "annotations", SERVICE)
                earlier.append(
                    EarlierObject(
                        path, order, (manifest.kind, manifest.namespace, owner.text if owner else ""), manifest.name
                    )
                )
        return earlier

    def stale(self, stage: str, keep: int | None = None) -> list[Path]:
        """Return the files of objects that no workload refers to, except the newest few of each series, kept for a
        rollback.
        """
        target = self.resolve_path(self.target, stage)
        there = self._there(target)
        used = objects_in_use(read_folder(target)) if there else set[str]()
        old: dict[tuple[str, str, str], list[EarlierObject]] = {}
        for earlier in sorted(there, key=lambda earlier: -earlier.order):
            if earlier.name not in used:
                old.setdefault(earlier.series, []).append(earlier)
        count = self.keep if keep is None else keep
        return [earlier.path for series in old.values() for earlier in series[count:]]

    def read(self, stage: str) -> ReadResult:
        target = self.resolve_path(self.target, stage)
        return environments(read_folder(target), self.render_context.jar.services, self.named)


def _added(container: WorkloadContainer, section: str, elements: list[Plain]) -> list[Edit]:
    """Return the edits that add elements to a list of a container that may not exist yet."""
    node = container.node.child(section)
    if node is None or not node.plain.elements:
        return [Edit((*container.path, section), elements)] if elements else []
    return [Edit((*container.path, section, END), element) for element in elements]


def _same(entry: Entry | None, other: Entry) -> bool:
    return entry is not None and (entry.text, entry.secret) == (other.text, other.secret)


class EarlierObject(NamedTuple):
    """An object created earlier."""

    path: Path
    order: int
    series: tuple[str, str, str]
    name: str


def _order(data: bytes) -> int | None:
    match = re.search(rb'coinjar/order: "(\d{1,9})"', data)
    return int(match[1]) if match else None
