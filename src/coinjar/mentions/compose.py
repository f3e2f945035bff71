"""Compose files: each service's environment and build arguments, and what is interpolated from the caller's
environment.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from coinjar.documents.tree import TreeNode
from coinjar.mentions.base import READ, SET, Mention
from coinjar.mentions.dollars import references
from coinjar.mentions.yaml_nodes import YamlText, scalars

_TOP = ("services", "version", "name", "networks", "volumes", "configs", "secrets", "include")
_OF_A_SERVICE = ("environment", "env_file", "command", "ports", "volumes", "depends_on", "extends", "profiles")
"""Keys of the Compose Specification."""


def is_compose(root: TreeNode) -> bool:
    """Return whether a document is a Compose file."""
    services = root.child("services")
    names = [member.value for member in services.members] if services is not None and services.kind == "map" else []
    return (
        bool(names)
        and all(node.plain.kind == "map" for node in names)
        and (
            any(node.plain.child(key) is not None for node in names for key in ("image", "build"))
            or _is_override(root, names)
        )
    )


def _is_override(root: TreeNode, services: Sequence[TreeNode]) -> bool:
    """Return whether a document changes the services of another Compose file, and is nothing else."""
    top = all(member.name in _TOP or member.name.startswith("x-") for member in root.members)
    return top and any(node.plain.child(key) is not None for node in services for key in _OF_A_SERVICE)


def mentions(text: YamlText, root: TreeNode) -> Iterator[Mention]:
    """Yield the mentions of a Compose file (Compose Specification: interpolation, environment, build.args,
    secrets.environment, configs.environment).
    """
    services = root.child("services")
    for member in services.members if services else []:
        service = member.value.plain
        build = service.child("build")
        for place in (
            service.child("environment"),
            build.child("args") if build is not None and build.kind == "map" else None,
        ):
            if place is not None:
                yield from _environment(text, place, member.name)
    for key in ("secrets", "configs"):
        for member in named.members if (named := root.child(key)) is not None else []:
            origin = member.value.plain.child("environment")
            if origin is not None and origin.plain.kind == "scalar":
                yield text.mention(origin.plain, READ)
    for visited in scalars(root):
        yield from references(text.data, *text.inside(visited.node))


def _environment(text: YamlText, place: TreeNode, service: str) -> Iterator[Mention]:
    """Yield the names of a map or a list: set with a value, passed on without one."""
    for member in place.plain.members:
        if member.name == "<<":
            yield from _environment(text, member.value, service)
        else:
            yield text.mention(member.key, READ if member.value.is_null else SET, service)
    for node in place.plain.elements:
        name, equals, _ = node.text.partition("=")
        mention = text.mention(node, SET if equals else READ, service)
        yield mention._replace(name=name, end=mention.start + len(name.encode()))
