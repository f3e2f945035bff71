"""Kubernetes manifests: containers' environments, references between variables, and the objects that contain them."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.documents.tree import TreeNode
from coinjar.mentions import shell
from coinjar.mentions.base import READ, SET, Mention
from coinjar.mentions.yaml_nodes import NAME, YamlText, walk

_REFERENCE = re.compile(rb"\$\$|\$\(([A-Za-z_][-.\w]*)\)")
_SHELLS = ("sh", "bash", "/bin/sh", "/bin/bash", "dash", "ash")


def is_manifest(root: TreeNode) -> bool:
    """Return whether a document is a Kubernetes object."""
    return root.child("apiVersion") is not None and root.child("kind") is not None


def mentions(text: YamlText, root: TreeNode) -> Iterator[Mention]:
    """Yield the mentions of an object, or of a list of objects."""
    kind = root.child("kind")
    if kind is not None and kind.text in ("ConfigMap", "Secret"):
        for part in ("data", "stringData"):
            element = root.child(part)
            yield from (
                (text.mention(member.key, SET) for member in element.members if NAME.fullmatch(member.name))
                if element is not None
                else ()
            )
        return
    for visited in walk(root):
        for part in ("containers", "initContainers", "ephemeralContainers"):
            node = visited.node.child(part) if visited.node.kind == "map" else None
            for child in node.elements if node is not None else []:
                yield from _container(text, child)
    for item in (root.child("items") or TreeNode("seq", 0, 0)).elements:
        yield from mentions(text, item)


def _container(text: YamlText, container: TreeNode) -> Iterator[Mention]:
    name = container.child("name")
    service = name.text if name else None
    env = container.child("env")
    for entry in env.elements if env is not None else []:
        named, value = entry.child("name"), entry.child("value")
        if named is not None:
            yield text.mention(named, SET, service)
        if value is not None:
            yield from _references(text, value, service)
        for visited in walk(entry):
            key = (
                visited.node.child("key")
                if visited.node.kind == "map" and visited.path[-1:] in (("configMapKeyRef",), ("secretKeyRef",))
                else None
            )
            if key is not None and NAME.fullmatch(key.text):
                yield text.mention(key, READ, service)
    for visited in walk(container):
        words = (
            visited.node.elements
            if visited.path[-1:] in (("command",), ("args",)) and visited.node.kind == "seq"
            else []
        )
        for node in words:
            yield from _references(text, node, service)
    for script in _scripts(container):
        found = shell.find_in(text.data, [text.inside(script)])
        yield from (mention._replace(service=service) for mention in found.mentions)


def _scripts(container: TreeNode) -> Iterator[TreeNode]:
    """Yield the texts that a shell executes: behind its option; `command` and `args` are one list."""
    own = [part for name in ("command", "args") if (part := container.child(name)) is not None and part.kind == "seq"]
    lists = [[word for part in own for word in part.elements]]
    lists += [
        visited.node.elements
        for visited in walk(container)
        if len(visited.path) > 1 and visited.path[-1] == "command" and visited.node.kind == "seq"
    ]
    for words in lists:
        if len(words) > 2 and words[0].text in _SHELLS and words[1].text.startswith("-"):
            yield words[2]


def _references(text: YamlText, node: TreeNode, service: str | None) -> Iterator[Mention]:
    start, end = text.inside(node)
    for match in _REFERENCE.finditer(text.data, start, end):
        if match[1]:
            yield Mention(match[1].decode(), *match.span(1), READ, service=service)
