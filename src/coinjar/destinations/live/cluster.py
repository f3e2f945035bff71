"""`type: cluster`: the output of a manifests destination, applied to a Kubernetes API with our own field manager
(server-side apply).
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from http import HTTPStatus
from pathlib import Path
from typing import Any

from coinjar.core.consent import Act
from coinjar.core.delivery import DeliveryChange, DesiredValue, LiveValue
from coinjar.core.errors import CoinJarError
from coinjar.core.model import Destination
from coinjar.core.names import ALL, suggestion
from coinjar.destinations.generated_objects import SERVICE
from coinjar.destinations.live.base import LiveDestination, RestartState, Target, unreadable
from coinjar.destinations.live.cluster_objects import (
    KINDS,
    ROLLED,
    _documents,
    is_for,
    is_live,
    order,
    references,
    rolled_out,
    slim,
)
from coinjar.destinations.live.declared_acts import contact, file_words, kubeconfig_programs
from coinjar.destinations.live.http import HttpClient, HttpStatusError, Request
from coinjar.destinations.live.kubeconfig import default_path, read_access
from coinjar.destinations.live.polling import poll
from coinjar.destinations.manifests import ManifestsDestination
from coinjar.destinations.options import COUNT, FLAG, Option
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.destinations.workloads import TEMPLATED, environments, read_manifests
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.json_data import Data, resolve_pointer
from coinjar.system.files import expanded

MANAGER = "coinjar"
"""The field manager of our fields."""
_APPLY = "application/apply-patch+yaml"


class ClusterDestination(LiveDestination):
    """`manifests` (a destination of that type); `kubeconfig`, `context`, `namespace`, `take_over`, `keep`."""

    declared: Mapping[str, Option] = {
        "manifests": Option("The destination of type manifests whose objects and workloads to apply.", needed=True),
        "kubeconfig": Option("The kubeconfig file; default: KUBECONFIG, or ~/.kube/config."),
        "context": Option("The context in the kubeconfig; default: its current context."),
        "namespace": Option("The namespace; default: the namespace of the context."),
        "take_over": Option("Whether to take over fields that another manager owns.", FLAG),
        "keep": Option("How many earlier objects to keep; default: 3.", COUNT),
    }
    at_once = 4

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.take_over = self.flag("take_over")
        named = self.text("manifests")
        other = render_context.jar.destinations.get(named)
        if named and (other is None or other.type != "manifests"):
            known = [
                destination.name
                for destination in render_context.jar.destinations.values()
                if destination.type == "manifests"
            ]
            fields.fault(
                self.options["manifests"],
                f"'{named}' is not a destination of type manifests",
                suggestion(named, known, "name a destination of type manifests"),
                "destination",
            )
        self.manifests = other
        self.keep = self.count("keep", 3)

    def acts(self) -> list[Act]:
        context = self.text("context")
        which = f"context {context}" if context else "the current context"
        namespace = f"namespace {self.text('namespace')}" if self.text("namespace") else ""
        if "kubeconfig" not in self.options:
            return [contact(self, f"the cluster of {which} in your kubeconfig", namespace)]
        words, acts = file_words(self, "kubeconfig")
        return [
            contact(self, f"the cluster of {which} in {words}", namespace),
            *acts,
            *kubeconfig_programs(self, "kubeconfig"),
        ]

    def client(self, hidden: Sequence[str]) -> tuple[HttpClient, str]:
        """Return the API's client, and the namespace. Raises InputError."""
        named = self.text("kubeconfig")
        path = self.render_context.root / expanded(named) if named else default_path()
        access = read_access(path, self.text("context"))
        verify = access.verify
        client = HttpClient(
            access.address,
            access.headers,
            self.destination.name,
            self.destination.location,
            hidden=[*hidden, access.secret],
            verify=verify,
            transport=self.render_context.transport,
        )
        return client, self.text("namespace") or access.namespace

    def targets(self, view: StageView) -> list[Target]:
        from coinjar.destinations import make

        assert self.manifests, "a declaration without it is refused"
        manifests = make(self.manifests, self.render_context)
        assert isinstance(manifests, ManifestsDestination)
        inner = StageView(view.resolver, self.manifests)
        files = {output.path: output.data for output in manifests.outputs(inner)}
        rendered = [document for path, data in files.items() for document in _documents(data, str(path))]
        services = [service for service in inner.services() if service in view.services()]
        if manifests.from_secret:  # what the cluster already has is neither written nor compared
            inner = StageView(view.resolver, self.manifests._replace(plain_only=True))
        hidden = [
            desired.text for service in services for desired in self._wanted(inner, service).values() if desired.secret
        ]
        targets: list[Target] = []
        for service in services:
            client, namespace = self.client(hidden)
            mine = [item for item in rendered if is_for(item, service, manifests)]
            if any(item["kind"] in TEMPLATED for item in mine):
                targets.append(
                    ClusterTarget(self, manifests, client, namespace, service, mine, self._wanted(inner, service))
                )
        return targets

    def unsupported_variables(self, view: StageView) -> list[CoinJarError]:
        """Yield nothing: a cluster supports what manifests support, and those are checked as a destination of their
        own.
        """
        del view
        return []

    def _wanted(self, inner: StageView, service: str) -> dict[str, DesiredValue]:
        return {
            entry.name: DesiredValue(entry.name, entry.text, entry.secret)
            for entry in inner.entries(service)
            if entry.text is not None
        }


class ClusterTarget(Target):
    """A service's workloads in a namespace."""

    services_share = True

    def __init__(
        self,
        cluster: ClusterDestination,
        manifests: ManifestsDestination,
        client: HttpClient,
        namespace: str,
        service: str,
        documents: list[dict[str, Any]],
        desired_values: Mapping[str, DesiredValue],
    ) -> None:
        self.made = cluster
        self.manifests = manifests
        self.client = client
        self.namespace = namespace
        self.service = service
        self.documents = sorted(
            documents, key=lambda document: document["kind"] in TEMPLATED
        )  # objects first: pods need them
        super().__init__(
            service,
            f"{cluster.destination.name} ({service} in {namespace})",
            [service],
            desired_values,
            cluster.destination.location,
        )

    # -- requests

    def _path(self, kind: str, namespace: str, name: str = "") -> str:
        base, plural = KINDS[kind]
        return f"/{base}/namespaces/{namespace}/{plural}" + (f"/{name}" if name else "")

    def _where(self, document: Data) -> tuple[str, str, str]:
        meta = document["metadata"]
        return document["kind"], meta.get("namespace") or self.namespace, meta["name"]

    async def _get(self, kind: str, namespace: str, name: str) -> Data | None:
        return (await self.client.send(Request("GET", self._path(kind, namespace, name), absent=(404,)))).data

    async def _list(self, kind: str) -> list[Data]:
        data = (await self.client.send(Request("GET", self._path(kind, self.namespace), absent=(404,)))).data
        return [{**item, "kind": kind} for item in (data or {}).get("items") or []]

    async def identity(self) -> str:
        """Return the UID of the namespace kube-system, which identifies a cluster: it is created once and never
        again.
        """
        try:
            result = (await self.client.send(Request("GET", "/api/v1/namespaces/kube-system"))).data
        except CoinJarError as fault:
            if fault.code not in ("http-403", "http-404"):
                raise
            return f"{self.client.address} {self.namespace}"  # not everybody may read it
        return f"cluster {result['metadata']['uid']} {self.namespace}"

    @property
    def workloads(self) -> list[dict[str, Any]]:
        return [document for document in self.documents if document["kind"] in TEMPLATED]

    async def _live(self) -> list[Data]:
        """Return the service's workloads in the cluster, and the objects that they refer to."""
        result: list[Data] = []
        for document in self.workloads:
            kind, namespace, name = self._where(document)
            there = await self._get(kind, namespace, name)
            if there is None:
                continue
            result.append({**there, "kind": kind})
            for other, wanted in sorted(references(there)):
                if (held := await self._get(other, namespace, wanted)) is not None:
                    result.append({**held, "kind": other})
        return result

    async def read(self) -> dict[str, LiveValue]:
        files = {
            Path(str(number)): read_manifests(json.dumps(slim(item)).encode(), "the cluster")
            for number, item in enumerate(await self._live())
        }
        reading = environments(files, self.made.render_context.jar.services, self.manifests.named)
        items = [item for item in reading.items if item.service == self.service]
        return {
            item.name: LiveValue(
                item.name,
                item.text or "",
                bool(item.secret) or self.made.render_context.is_secret(item.name, item.text or ""),
            )
            for item in items
        }

    # -- writing

    def steps(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> list[str]:
        del changes, live
        force = "true" if self.made.take_over else "false"
        return [
            (
                "PATCH "
                f"{self.client.address}{self._path(*self._where(document))}?fieldManager={MANAGER}&force={force}   "
                f"({document['kind']})"
            )
            for document in self.documents
        ]

    async def write(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> None:
        del changes, live  # objects are named after their content, so all of them are applied
        await self._apply_all()
        await self.prune()

    async def _apply_all(self) -> None:
        for document in self.documents:
            self.before_write()
            await self._apply(document)

    async def _apply(self, document: Data) -> None:
        kind, namespace, name = self._where(document)
        force = "true" if self.made.take_over else "false"
        path = f"{self._path(kind, namespace, name)}?fieldManager={MANAGER}&force={force}"
        try:
            await self.client.send(
                Request(
                    "PATCH", path, repeat=True, headers={"Content-Type": _APPLY}, content=json.dumps(document).encode()
                )
            )
        except HttpStatusError as fault:
            if fault.status == HTTPStatus.CONFLICT:
                hint = "agree with whoever manages it, or take it over: take_over: true"
                raise unreadable(
                    self, f"{kind} {name} has fields with another manager: {fault.words}", hint, code="conflict"
                ) from None
            raise

    async def prune(self) -> list[str]:
        """Delete our objects for this service, or shared ones, that nothing refers to, except the newest few.

        Return their names.
        """
        used: set[str] = set()
        for kind in TEMPLATED:
            try:
                used |= {name for item in await self._list(kind) if is_live(item) for _, name in references(item)}
            except HttpStatusError as fault:
                if fault.status != HTTPStatus.FORBIDDEN:
                    raise
                self.notes.add(
                    f"no old objects were removed: listing {kind}, which may refer to them, is not permitted"
                )
                return []
        used |= {
            document["metadata"]["name"] for document in self.documents
        }  # another service's target may be about to refer to shared objects
        gone: list[str] = []
        for kind in ("ConfigMap", "Secret"):
            there = [item for item in await self._list(kind) if item["metadata"]["name"] not in used]
            for owner in (self.service, ALL):
                ours = [item for item in there if self._is_ours(item, owner)]
                ours.sort(
                    key=lambda item: (str(item["metadata"].get("creationTimestamp", "")), order(item)), reverse=True
                )
                for our in ours[self.made.keep :]:
                    name = our["metadata"]["name"]
                    await self.client.send(Request("DELETE", self._path(kind, self.namespace, name), absent=(404,)))
                    gone.append(f"{kind} {name}")
        if gone:
            self.notes.add(f"removed unused objects: {', '.join(gone)}")
        return gone

    def _is_ours(self, document: Data, owner: str) -> bool:
        """Return whether this application created it for this service (or for all), with no other manager."""
        meta = document["metadata"]
        jar = self.made.render_context.jar
        apps = "|".join(map(re.escape, (jar.app, *jar.formerly)))
        shape = f"(?:{apps})-[0-9a-f]{{10}}-{re.escape(owner)}".replace("_", "-")
        managers = {item.get("manager") for item in meta.get("managedFields") or []}
        return (
            bool(re.fullmatch(shape, meta["name"]))
            and (meta.get("annotations") or {}).get(SERVICE) == owner
            and managers <= {MANAGER}
        )

    # -- restarting

    async def effect(self) -> RestartState | None:
        waits = []
        for document in self.workloads:
            kind, namespace, name = self._where(document)
            there = await self._get(kind, namespace, name)
            if there is None or (kind in ROLLED and not rolled_out(kind, there)):
                waits.append(f"{kind} {name}")
        return RestartState(
            not waits,
            None if waits else frozenset(),
            f"the rollout of {', '.join(waits)} is not finished" if waits else "",
        )

    def restart_words(self) -> str:
        return f"waits for the rollout of {self.service}"

    async def restart(self) -> None:
        """Wait for the rollout, which began by itself as names changed with their content; create missing workloads,
        which had no changes.
        """
        if any([await self._get(*self._where(workload)) is None for workload in self.workloads]):
            await self._apply_all()
        patience = self.made.restart_timeout
        effect = await poll(self.effect, lambda effect: effect is None or effect.in_effect, patience, longest=3.0)
        if effect is not None and not effect.in_effect:
            message = f"{effect.words} after {patience:.0f} s"
            hint = f"check that the pods start; for more time set restart_timeout of {self.made.destination.name}"
            raise unreadable(self, message, hint, code="rollout")

    async def settle(self) -> None:
        await self.prune()

    async def pods(self) -> list[dict[str, LiveValue]]:
        """Return the environment of every running pod of this service, from its spec and the existing objects."""
        result: list[dict[str, LiveValue]] = []
        for pod in await self._list("Pod"):
            if resolve_pointer(pod, "/status/phase") != "Running":
                continue
            objects = [
                {**held, "kind": kind}
                for kind, name in sorted(references(pod))
                if (held := await self._get(kind, self.namespace, name))
            ]
            files = {
                Path(str(number)): read_manifests(json.dumps(slim(item)).encode(), "the cluster")
                for number, item in enumerate([pod, *objects])
            }
            items = [
                item
                for item in environments(files, self.made.render_context.jar.services, self.manifests.named).items
                if item.service == self.service
            ]
            if items:
                result.append({item.name: LiveValue(item.name, item.text or "", bool(item.secret)) for item in items})
        return result

    async def close(self) -> None:
        await self.client.close()
