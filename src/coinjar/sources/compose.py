"""`compose:PATH`: the environments of a Compose file's services, as the Compose Specification defines them.

`env_file` first, later files over earlier ones, `environment` over them; `${NAME}` from the `.env` file beside it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path

from coinjar.core.errors import InputError, Location
from coinjar.destinations.open_document import OpenDocument
from coinjar.dialects.base import ReadItem, ReadRemark, ReadResult
from coinjar.dialects.compose import ComposeDialect
from coinjar.dialects.interpolation import InterpolationError, interpolate
from coinjar.documents.environments import held
from coinjar.documents.implicit_types import implicit_type
from coinjar.documents.tree import TreeNode
from coinjar.jarfile.load import read_bytes
from coinjar.sources.base import SourceContext, SourceVariables, surprises
from coinjar.system.files import display_path, leads_outside

_NOT_READ = ("extends",)


def read_compose(path: str, dialect: str, context: SourceContext) -> SourceVariables:
    """Read the environment of each service."""
    del dialect, context
    file = ComposeProject(Path(path))
    items = [item for name, service in file.services() for item in file.environment(name, service)]
    remarks = [*file.remarks, *surprises(items)]
    return SourceVariables(
        f"compose:{path}",
        "compose",
        "env_file and environment of each service",
        ReadResult(items, sorted(set(remarks), key=lambda remark: remark.location)),
    )


class ComposeProject:
    """A Compose file, and the files beside it for interpolation."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.remarks: list[ReadRemark] = []
        self.document = OpenDocument(read_bytes(path), display_path(path))
        self.given = self._beside(path.parent / ".env")

    def _beside(self, path: Path) -> dict[str, str]:
        if not path.is_file():
            return {}
        reading = ComposeDialect().read(read_bytes(path), display_path(path))
        self.remarks += reading.remarks
        return {item.name: item.text for item in reading.items if item.text is not None}

    def services(self) -> Iterator[tuple[str, TreeNode]]:
        """Return the services by name. Raises InputError for a file without any."""
        root = self.document.root
        node = root.plain.child("services") if root else None
        if node is None or node.plain.kind != "map":
            raise InputError(
                "this is not a Compose file: it has no services",
                hint="use one that has services",
                location=Location(self.document.file),
                code="shape",
            )
        for member in node.plain.members:
            yield member.name, member.value.plain

    def environment(self, name: str, service: TreeNode) -> list[ReadItem]:
        """Return what the container of a service gets."""
        result: dict[str, ReadItem] = {}
        for key in _NOT_READ:
            node = merged(service).get(key)
            if node is not None:
                self._remark(node[0], f"'{key}' of {name} is not followed: also read that file", lost=True)
        for item in self._env_files(merged(service).get("env_file")):
            result[item.name] = item
        node = merged(service).get("environment")
        for item in self._inline(node[1].plain) if node else ():
            result[item.name] = item
        return [item._replace(service=name) for item in result.values() if item.text is not None]

    def _remark(self, node: TreeNode, message: str, *, lost: bool = False) -> None:
        self.remarks.append(ReadRemark(self.document.location(node), message, lost))

    def _env_files(self, node: tuple[TreeNode, TreeNode] | None) -> Iterator[ReadItem]:
        value = node[1].plain if node else None
        elements = (
            [] if value is None else [value] if value.kind == "scalar" else [node.plain for node in value.elements]
        )
        for element in elements:
            fields = (
                {key: child.plain.text for key, (_, child) in merged(element).items()}
                if element.kind == "map"
                else {"path": element.text}
            )
            given = self._text("env_file", fields.get("path", ""), element)
            path = self.path.parent / (given or "")
            if given is None:
                continue
            if not path.is_file():
                if fields.get("required") != "false":
                    self._remark(element, f"ignored: there is no env_file {given}", lost=True)
                continue
            if leads_outside(path, self.path):
                self._remark(element, f"not read: env_file {given} is outside the folder with the jar", lost=True)
                continue
            reading = ComposeDialect().read(read_bytes(path), display_path(path))
            self.remarks += reading.remarks
            yield from reading.items

    def _inline(self, node: TreeNode) -> Iterator[ReadItem]:
        pairs: Mapping[str, tuple[TreeNode, TreeNode | None]]
        if node.kind == "map":
            pairs = {name: (key, value) for name, (key, value) in merged(node).items()}
        else:
            pairs = {entry.name: (entry.at, entry.value) for entry in held(node)}
        texts = {entry.name: entry.text for entry in held(node)} if node.kind == "seq" else {}
        for name, (key, state_of) in pairs.items():
            value = state_of.plain if state_of else None
            if value is None or value.is_null:
                self._remark(key, f"ignored: {name} has no value: the container gets it from its caller", lost=True)
                continue
            text = texts.get(name) or ("" if name in texts else value.text)
            meaning = implicit_type(value, as_json=self.document.as_json) if node.kind == "map" else None
            if meaning and meaning[1] != value.text:
                self._remark(key, f"{name} is {meaning[0]} there, and is read as '{meaning[1]}': quote it")
                text = meaning[1]
            done = self._text(name, text, key)
            if done is not None:
                yield ReadItem(name, done, self.document.location(key))

    def _text(self, name: str, value: str, node: TreeNode) -> str | None:
        """Return a text with its references replaced; None, with a remark, if that is not possible."""
        if "$" not in value:
            return value
        try:
            done = interpolate(value, self.given.get)
        except InterpolationError as fault:
            self._remark(node, f"ignored: {name} has {fault}", lost=True)
            return None
        if done.unknown:
            names = ", ".join(done.unknown)
            self._remark(node, f"ignored: {name} needs {names}, which the .env file beside it does not set", lost=True)
            return None
        return done.text


def merged(node: TreeNode) -> dict[str, tuple[TreeNode, TreeNode]]:
    """Return a mapping's members with those of merge keys (`<<`, YAML 1.1) after them."""
    result: dict[str, tuple[TreeNode, TreeNode]] = {}
    for member in node.members:
        if member.name == "<<":
            value = member.value.plain
            for child in reversed(value.elements) if value.kind == "seq" else [value]:
                result = {**merged(child.plain), **result} if value.kind == "map" else {**result, **merged(child.plain)}
    return result | {member.name: (member.key, member.value) for member in node.members if member.name != "<<"}
