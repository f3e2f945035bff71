"""Collect ports from files listed as code: what Containerfiles expose, Compose files publish, scripts pass to a
container engine, and programs listen on.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.checking.listening_code import LISTENING, listened_in
from coinjar.actions.mentions.search import code_paths, services_below
from coinjar.actions.open_jar import OpenJar
from coinjar.core.diagnostics import PortUse
from coinjar.core.errors import CoinJarError, location_of
from coinjar.core.rules.base import CheckContext
from coinjar.destinations.linked_places import compose_services, exposed, published
from coinjar.destinations.open_document import OpenDocument
from coinjar.jarfile.load import read_bytes
from coinjar.scanning.file_walk import FileWalk
from coinjar.system.files import display_path, read_file

_LARGEST = 1 << 20
_CONTAINERFILE = re.compile(r"(?:Containerfile|Dockerfile)(?:\..+)?|.+\.(?:containerfile|dockerfile)")
_COMPOSE = re.compile(r"(?:.+[-.])?compose(?:[-.].+)?\.ya?ml")
_SCRIPT = re.compile(r".+\.(?:sh|bash|zsh|mk|service|ya?ml)|Makefile|[^.]+")
# An engine's `run`, its options over continued lines, and among them -p [ADDRESS:][HOST:]PORT, all in one command.
_RUN = re.compile(rb"\brun[ \t]+(?:\\\n|[^\n;|&])*")
_PUBLISH = re.compile(rb"(?<=\s)(?:-p|--publish)(?:=|\s+)?[\"']?(?:[\w.:\[\]]*:)?(\d{1,5})(?:/\w+)?(?=[\"'\s]|$)")


class _PortOwners(NamedTuple):
    """The services that files may belong to, and the stages they apply to: all, since a file has no stage."""

    services_of: Callable[[Path], tuple[str, ...]]
    services: frozenset[str]
    stages: list[str]


def ports_in_code(opened: OpenJar, context: CheckContext, known: Iterable[PortUse]) -> Iterator[PortUse]:
    """Yield the ports in the code that are not `known` yet. Unreadable files are reported by another rule."""
    jar = context.jar
    base = opened.folder.resolve().parent
    owners = _PortOwners(lambda path: services_below(jar, path, base), frozenset(jar.services), list(context.stages))
    places = {(link.location, link.service, link.stage) for link in known}
    walk = FileWalk((), jar.code.without if jar.code else (), [opened.folder], base)
    for candidate in walk.files(code_paths(jar, base)):
        if candidate.size <= _LARGEST:
            for link in _links(Path(candidate.path), owners):
                if (link.location, link.service, link.stage) not in places:
                    yield link


def _links(path: Path, owners: _PortOwners) -> Iterator[PortUse]:
    name = path.name
    try:
        if _CONTAINERFILE.fullmatch(name):
            yield from (
                link
                for service in owners.services_of(path)
                for stage in owners.stages
                for link in exposed(path, service, stage)
            )
        elif _COMPOSE.fullmatch(name):
            document = OpenDocument(read_bytes(path), display_path(path))
            for service, node in compose_services(document):
                if service in owners.services:
                    yield from (link for stage in owners.stages for link in published(document, service, node, stage))
        elif name.endswith(LISTENING):
            yield from _listening(path, owners)
        elif _SCRIPT.fullmatch(name):
            yield from _handed_over(path, owners)
    except CoinJarError:
        return  # CJ043 reports it, for a file that mentions variables


def _listening(path: Path, owners: _PortOwners) -> Iterator[PortUse]:
    """Yield the ports on which the code of one service listens by a literal."""
    services = owners.services_of(path)
    if len(services) != 1:
        return
    text = read_file(path).decode(errors="replace")
    for at, port in listened_in(path.name, text):
        location = location_of(text, at, display_path(path))
        yield from (PortUse(services[0], stage, port, location, "listens on", fixed=True) for stage in owners.stages)


def _handed_over(path: Path, owners: _PortOwners) -> Iterator[PortUse]:
    """Yield the ports in a script of one service; a script of several does not show whose containers it starts."""
    services = owners.services_of(path)
    if len(services) != 1:
        return
    data = read_file(path)
    if b"\0" in data or b"-p" not in data:
        return
    for run in _RUN.finditer(data):
        for match in _PUBLISH.finditer(run[0]):
            location = location_of(
                data.decode(errors="replace"),
                len(data[: run.start() + match.start(1)].decode(errors="replace")),
                display_path(path),
            )
            yield from (
                PortUse(services[0], stage, match[1].decode(), location, "is published by a script from port")
                for stage in owners.stages
            )
