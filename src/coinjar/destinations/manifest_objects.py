"""ConfigMaps and Secrets named after their content."""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Iterable
from functools import partial
from json import dumps
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.core.names import ALL
from coinjar.destinations.base import Output
from coinjar.destinations.generated_objects import ORDER, SERVICE, GeneratedObject, object_order, same_entries
from coinjar.destinations.hidden_lines import nothing_hidden
from coinjar.destinations.manifest_rewriting import ManifestRewriter
from coinjar.destinations.stage_view import StageView
from coinjar.destinations.workloads import (
    ManifestSet,
)
from coinjar.dialects import carriers, get
from coinjar.dialects.base import Entry, refuse
from coinjar.dialects.kube import VARIABLE, ConfigMapDialect
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.destinations.manifests import ManifestsDestination


class ObjectWriter:
    """Makes the objects of a stage."""

    def __init__(self, destination: ManifestsDestination) -> None:
        self.destination = destination

    def objects(self, view: StageView, cluster: ManifestSet) -> list[GeneratedObject]:
        """Return one ConfigMap and one Secret for what all services share, and one for what each has besides; no empty
        ones.
        """
        used: dict[str, list[str]] = {}
        for manifest in cluster.manifests():
            for container in manifest.containers():
                service = self.destination.service(view, manifest, container)
                if service is not None and service not in used.setdefault(manifest.namespace, []):
                    used[manifest.namespace].append(service)
        objects: list[GeneratedObject] = []
        for namespace, services in used.items():
            texts = {
                service: {
                    entry.name: entry
                    for entry in view.entries(service)
                    if entry.text is not None and not ManifestRewriter(self.destination).is_there(entry)
                }
                for service in services
            }
            first = next(iter(texts.values()))
            common = {
                name: entry
                for name, entry in first.items()
                if len(services) > 1 and all(same_entries(text.get(name), entry) for text in texts.values())
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
                self.destination.notice(
                    "CJ022",
                    entry.variable.location if entry.variable else self.destination.destination.location,
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
            hmac.new(self.destination.render_context.naming_key(stage), content, "sha256").hexdigest()
            if keyed
            else hashlib.sha256(content).hexdigest()
        )
        return f"{self.destination.render_context.jar.app}-{digest[:10]}-{service}".replace("_", "-")

    def object_output(self, target: Path, object_: GeneratedObject) -> Output:
        path = target / object_.file
        order = object_order(read_bytes(path)) if path.exists() else None
        if order is None:
            order = 1 + max(
                (
                    earlier.order
                    for earlier in self.destination.there(target)
                    if earlier.series == (object_.dialect.kind, object_.namespace, object_.service)
                ),
                default=0,
            )
        annotations = {ORDER: str(order), SERVICE: object_.service}
        text = object_.dialect.object_text(
            object_.name,
            object_.entries,
            annotations,
            namespace=object_.namespace,
            as_text=self.destination.string_data,
        )
        secret = object_.dialect.kind == "Secret"
        names = [entry.name for entry in object_.entries]
        hidden = (
            self.destination.hide_items(partial(object_.dialect.read, file=display_path(path)), names)
            if secret
            else nothing_hidden
        )
        return Output(
            path, text.encode(), secret, f"{object_.dialect.kind}, {self.destination.about(object_.entries)}", hidden
        )
