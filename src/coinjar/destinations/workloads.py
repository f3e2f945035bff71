"""Parsed Kubernetes manifests: documents, workloads, containers, and each container's environment."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Set
from pathlib import Path
from typing import NamedTuple

from coinjar.core.errors import InputError, Location
from coinjar.destinations.open_document import entries_below
from coinjar.dialects.base import ReadItem, ReadRemark, ReadResult, decode
from coinjar.dialects.kube import VARIABLE, object_items
from coinjar.dialects.positioned import DocumentPart, parts
from coinjar.documents.environments import EnvironmentEntry, held
from coinjar.documents.removal import Path as Steps
from coinjar.documents.tree import TreeNode
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import display_path

TEMPLATED: dict[str, Steps] = {
    "Deployment": ("spec", "template", "spec"),
    "StatefulSet": ("spec", "template", "spec"),
    "DaemonSet": ("spec", "template", "spec"),
    "ReplicaSet": ("spec", "template", "spec"),
    "ReplicationController": ("spec", "template", "spec"),
    "PodTemplate": ("template", "spec"),
    "Job": ("spec", "template", "spec"),
    "CronJob": ("spec", "jobTemplate", "spec", "template", "spec"),
    "Pod": ("spec",),
}
"""Where each kind of workload has its pod's spec."""
MADE_ANEW = frozenset({"Job", "Pod"})
"""Kinds that a cluster does not change in place."""
_REFERENCE = re.compile(r"\$\$|\$\(([^()]*)\)")
"""As Kubernetes parses it (third_party/forked/golang/expansion): a name extends to the first ')'."""


class WorkloadContainer(NamedTuple):
    """A container of a workload, or an init container: its node and the path to it."""

    name: str
    node: TreeNode
    path: Steps

    @property
    def is_init(self) -> bool:
        return "initContainers" in self.path


class ManifestDocument:
    """One document of a file."""

    def __init__(self, file: str, text: str, part: DocumentPart) -> None:
        self.file = file
        self.text = text[part.start : part.end]
        self.line = text.count("\n", 0, part.start) + 1
        self.document = part.document
        self.root = self.document.root
        self.kind = self._text("kind")
        self.name = self._text("metadata", "name")
        self.namespace = self._text("metadata", "namespace")

    def at(self, *path: str | int) -> TreeNode | None:
        node = self.root
        for step in path:
            node = node.plain.child(step) if node else None
        return node.plain if node else None

    def _text(self, *path: str) -> str:
        node = self.at(*path)
        return node.text if node and node.kind == "scalar" else ""

    def location(self, node: TreeNode | None) -> Location:
        return self.document.location(node) if node else Location(self.file, self.line, 1)

    def containers(self) -> Iterator[WorkloadContainer]:
        """Return its containers, init containers first, in starting order."""
        for section in ("initContainers", "containers"):
            base = (*TEMPLATED.get(self.kind, ("-",)), section)
            node = self.at(*base)
            for number, element in enumerate(node.elements if node else ()):
                name = element.plain.child("name")
                yield WorkloadContainer(name.text if name else "", element.plain, (*base, number))


def containers_below(root: TreeNode | None) -> TreeNode | None:
    """Return the first list of containers anywhere in a document: maps with an `image` or an `env`."""
    if root is None:
        return None
    for member in root.members:
        node = member.value.plain
        if member.name == "containers" and any(
            child.plain.child("image") or child.plain.child("env") for child in node.elements
        ):
            return member.key
        if element := containers_below(node):
            return element
    return next((element for node in root.elements if (element := containers_below(node.plain))), None)


def read_folder(folder: Path) -> dict[Path, list[ManifestDocument]]:
    """Return every manifest below a folder (or of one file), by file. Raises InputError if it is not YAML."""
    if folder.is_file():
        return {folder: read_manifests(read_bytes(folder), display_path(folder))}
    files = (
        sorted(path for path in folder.rglob("*") if path.suffix in (".yaml", ".yml") and path.is_file())
        if folder.is_dir()
        else []
    )
    if not files:
        raise InputError(
            "there are no manifests (*.yaml, *.yml) there",
            hint="name a file, or a folder that contains some",
            location=Location(display_path(folder)),
            code="unreadable",
        )
    return {path: read_manifests(read_bytes(path), display_path(path)) for path in files}


def read_manifests(data: bytes, file: str) -> list[ManifestDocument]:
    """Return the documents of one file, empty ones included."""
    text, _ = decode(data, file)
    return [ManifestDocument(file, text, part) for part in parts(text, file)]


class ContainerValue(NamedTuple):
    """What a container's process gets: the text, where it comes from, and whether a Secret contains it."""

    text: str
    location: Location
    secret: bool


class ManifestSet:
    """The manifests of a folder, and the contents of their objects."""

    def __init__(self, files: Mapping[Path, list[ManifestDocument]]) -> None:
        self.files = files
        self.remarks: list[ReadRemark] = []
        self.objects: dict[tuple[str, str, str], dict[str, ReadItem]] = {}
        for manifest in self.manifests():
            if manifest.kind in ("ConfigMap", "Secret") and manifest.root:
                items = object_items(manifest.document, manifest.root)
                self.remarks += manifest.document.remarks
                self.objects[manifest.kind, manifest.namespace, manifest.name] = {item.name: item for item in items}

    def manifests(self) -> Iterator[ManifestDocument]:
        for file in self.files.values():
            yield from file

    def environment(self, manifest: ManifestDocument, container: WorkloadContainer) -> dict[str, ContainerValue]:
        """Return what Kubernetes computes: `envFrom` in order, then `env` over it, `$(NAME)` replaced by earlier
        entries.
        """
        result: dict[str, ContainerValue] = {}
        for source in (container.node.child("envFrom") or TreeNode("seq", 0, 0)).plain.elements:
            for name, item in self._from(manifest, source.plain).items():
                result[name] = ContainerValue(item.text or "", item.location, bool(item.secret))
        for entry in held(container.node.child("env")):
            location = manifest.location(entry.at)
            if entry.text is not None:
                result[entry.name] = ContainerValue(self._expanded(entry, result, location), location, secret=False)
                continue
            given = self.referred(manifest, entry)
            if given is not None:
                result[entry.name] = ContainerValue(given.text or "", location, secret=bool(given.secret))
            elif not self.comes_from_elsewhere(entry):
                result[entry.name] = ContainerValue("", location, secret=False)
            else:
                self.remarks.append(
                    ReadRemark(
                        location, f"ignored: {entry.name} of {manifest.name} comes from the cluster itself", lost=True
                    )
                )
        return result

    def given(self, manifest: ManifestDocument, container: WorkloadContainer) -> set[str]:
        """Return the names that a container's `envFrom` provides, as far as these manifests show."""
        sources = (container.node.child("envFrom") or TreeNode("seq", 0, 0)).plain.elements
        return {name for node in sources for name in self._from(manifest, node.plain)}

    def comes_from_elsewhere(self, entry: EnvironmentEntry) -> bool:
        """Return whether an entry has a `valueFrom`; one without a value either is empty."""
        return entry.at.kind == "map" and entry.at.child("valueFrom") is not None

    def referred(self, manifest: ManifestDocument, entry: EnvironmentEntry) -> ReadItem | None:
        """Return the value of a `configMapKeyRef` or `secretKeyRef` in these manifests; None for any other entry."""
        source = entry.at.child("valueFrom") if entry.at.kind == "map" else None
        for kind, key in (("ConfigMap", "configMapKeyRef"), ("Secret", "secretKeyRef")):
            reference = source.plain.child(key) if source else None
            if reference is not None:
                name, member = reference.plain.child("name"), reference.plain.child("key")
                held_there = self.objects.get((kind, manifest.namespace, name.text if name else ""), {})
                return held_there.get(member.text if member else "")
        return None

    def _from(self, manifest: ManifestDocument, source: TreeNode) -> dict[str, ReadItem]:
        prefix = source.child("prefix")
        for kind, key in (("ConfigMap", "configMapRef"), ("Secret", "secretRef")):
            reference = source.child(key)
            name = reference.plain.child("name") if reference else None
            if name is not None:
                held_there = self.objects.get((kind, manifest.namespace, name.text))
                if held_there is None:
                    self.remarks.append(
                        ReadRemark(
                            manifest.location(source),
                            f"ignored: the {kind} {name.text} is not in these manifests",
                            lost=True,
                        )
                    )
                named = {(prefix.text if prefix else "") + name: item for name, item in (held_there or {}).items()}
                for stage in [name for name in named if not VARIABLE.fullmatch(name)]:
                    self.remarks.append(
                        ReadRemark(
                            named.pop(stage).location,
                            f"ignored: Kubernetes makes no variable from the key {stage}",
                            lost=True,
                        )
                    )
                return named
        return {}

    def waits_for(self, entries: list[EnvironmentEntry], entry: EnvironmentEntry) -> set[str]:
        """Return the names in an entry's `$(…)` that only the cluster can expand: of earlier entries that refer to a
        field, or to objects elsewhere.
        """
        before = {other_entry.name: other_entry for other_entry in entries[: entries.index(entry)]}
        named = {result for result in _REFERENCE.findall(entry.text or "") if result}
        return {
            name
            for name in named
            if name in before and before[name].text is None and self.comes_from_elsewhere(before[name])
        }

    def _expanded(self, entry: EnvironmentEntry, before: Mapping[str, ContainerValue], location: Location) -> str:
        def replaced(match: re.Match[str]) -> str:
            if match[0] == "$$":
                return "$"
            return before[match[1]].text if match[1] in before else match[0]

        text = _REFERENCE.sub(replaced, entry.text or "")
        if text != entry.text:
            self.remarks.append(ReadRemark(location, f"{entry.name}: its $(…) was expanded, as Kubernetes does"))
        return text


def kept_literal(text: str, but: Set[str]) -> str:
    """Return a text for an `env` entry that yields exactly this value: `$$` for what Kubernetes would expand, except
    these names.
    """
    return re.sub(
        r"\$(?=\$)|\$\(([^()]*)\)|\$(?=\()", lambda match: match[0] if match[1] in but else "$" + match[0], text
    )


def escaped(text: str, names: Set[str]) -> str:
    """Return the text of an `env` entry with these names' `$(…)` escaped."""
    return re.sub(r"\$\$|\$\(([^()]*)\)", lambda match: f"${match[0]}" if match[1] in names else match[0], text)


def forward(entries: list[EnvironmentEntry], entry: EnvironmentEntry) -> set[str]:
    """Return the names in an entry's `$(…)` that are defined later, or nowhere: Kubernetes does not expand these."""
    before = {other_entry.name for other_entry in entries[: entries.index(entry)]}
    return {result for result in _REFERENCE.findall(entry.text or "") if result and result not in before}


def service_of(
    manifest: ManifestDocument, container: WorkloadContainer, services: Mapping[str, object], named: Mapping[str, str]
) -> str | None:
    """Return the service of a container: declared in `workloads:` (workload/container, container or workload), else by
    its name.

    By its workload's name only an init container, or the only container: one beside it is another program.
    """
    for key in (f"{manifest.name}/{container.name}", container.name, manifest.name):
        if key in named:
            return named[key]
    if container.name in services:
        return container.name
    alone = sum(not container.is_init for container in manifest.containers()) == 1
    return manifest.name if manifest.name in services and (container.is_init or alone) else None


def environments(
    files: Mapping[Path, list[ManifestDocument]],
    services: Mapping[str, object],
    named: Mapping[str, str],
    *,
    others: bool = False,
) -> ReadResult:
    """Return the environments of all containers as one reading, each for its service; the objects' own content where
    there are none.

    With `others` a container that belongs to no service counts as a service of its name.
    """
    cluster = ManifestSet(files)
    items: list[ReadItem] = []
    any_container = False
    for manifest in cluster.manifests():
        for container in manifest.containers():
            any_container = True
            service = service_of(manifest, container, services, named) or (container.name if others else None)
            if service is not None:
                values = cluster.environment(manifest, container)
                items += [
                    ReadItem(
                        name,
                        container_value.text,
                        container_value.location,
                        service=service,
                        secret=container_value.secret or None,
                    )
                    for name, container_value in values.items()
                ]
    if not any_container:
        items += [item for members in cluster.objects.values() for item in members.values()]
    once = {
        (item.name, item.service, item.text): item for item in reversed(items)
    }  # several containers of a service have the same entry
    return ReadResult(list(once.values())[::-1], list(dict.fromkeys(cluster.remarks)))


def readable(manifests: list[ManifestDocument]) -> ReadResult:
    """Yield every readable value in a file of manifests: inline, or in an object."""
    items: list[ReadItem] = []
    for manifest in manifests:
        if manifest.kind in ("ConfigMap", "Secret") and manifest.root:
            items += object_items(manifest.document, manifest.root)
        for container in manifest.containers():
            items += [
                ReadItem(entry.name, entry.text, manifest.location(entry.at))
                for entry in held(container.node.child("env"))
                if entry.text is not None
            ]
    return ReadResult(items, [])


def every_entry_of(data: bytes, file: str) -> ReadResult:
    """Yield everything in a file of manifests that looks like a name with a value, to find the lines that may contain
    secrets.
    """
    manifests = read_manifests(data, file)
    items = [item for manifest in manifests for item in entries_below(manifest.root, manifest.document.location)]
    return ReadResult([*items, *readable(manifests).items], [])


def objects_in_use(files: Mapping[Path, list[ManifestDocument]]) -> set[str]:
    """Return the names of ConfigMaps and Secrets that these manifests refer to."""
    names: set[str] = set()

    def look(node: TreeNode) -> None:
        for member in node.members:
            if member.name in ("configMapRef", "secretRef", "configMapKeyRef", "secretKeyRef", "configMap", "secret"):
                name = member.value.plain.child("name") or member.value.plain.child("secretName")
                names.update([name.text] if name else [])
            look(member.value.plain)
        for element in node.elements:
            look(element.plain)

    for manifests in files.values():
        for manifest in manifests:
            if manifest.root:
                look(manifest.root)
    return names
