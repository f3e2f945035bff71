"""`type: manifests`: a folder of Kubernetes manifests to one per stage, variables in objects named after their
content.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from functools import partial
from pathlib import Path

from coinjar.core.diagnostics import PortUse
from coinjar.core.errors import Location
from coinjar.core.model import Destination
from coinjar.destinations.base import FileDestination, Output
from coinjar.destinations.container_entries import THERE
from coinjar.destinations.generated_objects import SERVICE, EarlierObject, GeneratedObject, object_order
from coinjar.destinations.manifest_objects import ObjectWriter
from coinjar.destinations.manifest_rewriting import ManifestRewriter
from coinjar.destinations.options import COUNT, FLAG, TEXTS_BY_NAME, Option
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.destinations.workloads import (
    TEMPLATED,
    ManifestDocument,
    ManifestSet,
    WorkloadContainer,
    containers_below,
    environments,
    every_entry_of,
    objects_in_use,
    read_folder,
    read_manifests,
    readable,
    service_of,
)
from coinjar.dialects.base import ReadResult
from coinjar.documents.environments import held
from coinjar.documents.field_reader import FieldReader
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes
from coinjar.jarfile.naming_key import has_naming_key
from coinjar.system.files import display_path

_OURS = re.compile(r"\.(configmap|secret)\.yaml")


class ManifestsDestination(FileDestination):
    """`from`, `to`; `workloads` assigns containers to services where names do not; `string_data: true`, `keep: N`.

    `from_secret: NAME` creates no Secret: containers refer, variable by variable, to keys of one that exists in the
    cluster.
    """

    input_option = "from"
    declared: Mapping[str, Option] = {
        "from": Option(
            "The folder of manifests, relative to the folder that contains jar/; {stage} is replaced.", needed=True
        ),
        "to": Option("The folder to write; {stage} is replaced.", needed=True),
        "workloads": Option(
            "Which service runs in which container: `workload/container`, `container` or `workload` to service.",
            TEXTS_BY_NAME,
        ),
        "string_data": Option("Whether to write Secrets as plain text, in stringData.", FLAG),
        "keep": Option("How many earlier objects to keep; default: 3.", COUNT),
        "from_secret": Option(
            "The name of an existing Secret to refer to, instead of writing one; {stage} and {service} are replaced."
        ),
    }

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.source = self.path_pattern("from", ("stage",))
        self.target = self.path_pattern("to", ("stage",))
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
            view = StageView(view.resolver, view.destination._replace(secrets=THERE), lenient=view.lenient)
        folder = self.resolve_path(self.source, view.stage)
        target = self.resolve_path(self.target, view.stage)
        files = read_folder(folder)
        cluster = ManifestSet(files)
        named = has_naming_key(self.render_context.folder, self.render_context.layers(view.stage))
        objects = ObjectWriter(self).objects(view, cluster)
        if not named and any(object_.dialect.kind == "Secret" for object_ in objects):
            words = "there was no key yet to name Secrets with, so their names are new"
            self.notice(
                "",
                Location(display_path(JarLayout(self.render_context.folder).naming_key)),
                words,
                "if others render too, share it in COINJAR_NAMING_KEY",
            )
        self._not_looked_into(folder, cluster)
        outputs = [ObjectWriter(self).object_output(target, object_) for object_ in objects]
        for path, manifests in files.items():
            data = ManifestRewriter(self).rewritten(path, manifests, cluster, objects, view)
            to = target / path.relative_to(folder)
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

    # -- workloads

    def service(self, view: StageView, manifest: ManifestDocument, container: WorkloadContainer) -> str | None:
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

    def there(self, target: Path) -> list[EarlierObject]:
        """Return the objects that this destination has created in its output folder."""
        earlier = []
        for path in sorted(target.iterdir()) if target.is_dir() else ():
            if _OURS.search(path.name) and (order := object_order(read_bytes(path))) is not None:
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
        there = self.there(target)
        used = objects_in_use(read_folder(target)) if there else set[str]()
        old: dict[tuple[str, str, str], list[EarlierObject]] = {}
        for earlier in sorted(there, key=lambda earlier: -earlier.order):
            if earlier.name not in used:
                old.setdefault(earlier.series, []).append(earlier)
        count = self.keep if keep is None else keep
        return [earlier.path for series in old.values() for earlier in series[count:]]

    def port_uses(self, view: StageView) -> Iterator[PortUse]:
        from coinjar.destinations.linked_places import workload_ports

        for manifests in read_folder(self.resolve_path(self.source, view.stage)).values():
            for manifest in manifests:
                yield from workload_ports(self, manifest, view)

    def read(self, stage: str) -> ReadResult:
        target = self.resolve_path(self.target, stage)
        return environments(read_folder(target), self.render_context.jar.services, self.named)
