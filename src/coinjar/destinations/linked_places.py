"""Other places of a variable: ports that are exposed, published, probed and listened on, and where a build argument is
passed on.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.core.diagnostics import Diagnostic, PortUse
from coinjar.core.errors import Location, location_of
from coinjar.core.model import Jar, Variable
from coinjar.destinations.open_document import OpenDocument
from coinjar.destinations.stage_view import StageView
from coinjar.destinations.workloads import ManifestDocument, service_of
from coinjar.dialects.base import decode
from coinjar.dialects.compose import ComposeDialect
from coinjar.dialects.containerfile import instructions
from coinjar.documents.tree import TreeNode
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import display_path, leads_outside

if TYPE_CHECKING:
    from coinjar.destinations.document import DocumentDestination
    from coinjar.destinations.manifests import ManifestsDestination
    from coinjar.destinations.templates import TemplatesDestination

_LISTEN = re.compile(r"^[ \t]*listen[ \t]+(?:[\w.*:\[\]-]*:)?(\d{1,5})(?=[\s;])", re.MULTILINE)
_MENTION = re.compile(r"(?<!\$)(?:\$\$)*\$(?:\{([A-Za-z_]\w*)|([A-Za-z_]\w*))")
_PUBLISHED = re.compile(r"(?:.*:)?(\d{1,5})(?:/\w+)?")
PROBES = ("livenessProbe", "readinessProbe", "startupProbe")


def compose_ports(made: DocumentDestination, view: StageView) -> Iterator[PortUse]:
    """Yield the ports that a Compose file publishes, and those that its Containerfiles expose."""
    document = made.open(view.stage)
    for name, node in compose_services(document):
        if name in view.services():
            yield from published(document, name, node, view.stage)
            if containerfile := _built_from(made.resolve_path(made.path, view.stage), node):
                yield from exposed(containerfile, name, view.stage)


def listened(templates: TemplatesDestination, view: StageView) -> Iterator[PortUse]:
    """Yield a port in a template's `listen` line, where the template is for one service."""
    services = view.services()
    for template in templates.templates() if len(services) == 1 else ():
        for match in _LISTEN.finditer(template.text):
            yield PortUse(
                services[0],
                view.stage,
                match[1],
                location_of(template.text, match.start(1), display_path(template.path)),
                "listens on",
            )


def exposed(path: Path, service: str, stage: str) -> Iterator[PortUse]:
    """Return the ports that a Containerfile exposes. Raises InputError if it cannot be read."""
    text, _ = decode(read_bytes(path), display_path(path))
    for instruction in instructions(text):
        for word in instruction.rest.split() if instruction.word == "EXPOSE" else ():
            if match := re.fullmatch(r"(\d{1,5})(?:/\w+)?", word):
                yield PortUse(service, stage, match[1], Location(display_path(path), instruction.line, 1), "exposes")


def workload_ports(manifests: ManifestsDestination, manifest: ManifestDocument, view: StageView) -> Iterator[PortUse]:
    """Yield the ports that the containers of a workload have, and those at which they are probed."""
    for container in manifest.containers():
        service = service_of(manifest, container, manifests.render_context.jar.services, manifests.named)
        if service not in view.services() or container.is_init:
            continue
        named: dict[str, str] = {}
        for port in _elements(container.node.child("ports")):
            number, name = port.child("containerPort"), port.child("name")
            if number is not None:
                named[name.text if name else ""] = number.text
                yield PortUse(service, view.stage, number.text, manifest.location(number), "has the container port")
        for probe in PROBES:
            for way in ("httpGet", "tcpSocket", "grpc"):
                node = container.node.child(probe)
                handler = node.plain.child(way) if node else None
                port_node = handler.plain.child("port") if handler else None
                if port_node is not None:
                    yield PortUse(
                        service,
                        view.stage,
                        named.get(port_node.text, port_node.text),
                        manifest.location(port_node),
                        f"is probed ({probe}) at",
                    )


def _elements(node: TreeNode | None) -> list[TreeNode]:
    return [child.plain for child in node.plain.elements] if node else []


def compose_services(document: OpenDocument) -> list[tuple[str, TreeNode]]:
    """Return the services of a Compose file; none for any other document."""
    node = document.root.plain.child("services") if document.root else None
    members = node.plain.members if node and node.plain.kind == "map" else []
    pairs = [(member.name, member.value.plain) for member in members]
    return pairs if any(node.child("image") or node.child("build") for _, node in pairs) else []


def published(document: OpenDocument, name: str, service: TreeNode, stage: str) -> Iterator[PortUse]:
    """Yield the ports that a service of a Compose file is published from."""
    for port in _elements(service.child("ports")):
        target = port.child("target") if port.kind == "map" else port
        match = _PUBLISHED.fullmatch(target.text) if target else None
        if match and target:
            yield PortUse(name, stage, match[1], document.location(target), "is published from port")


def missing_steps(made: DocumentDestination, view: StageView) -> Iterator[Diagnostic]:
    """Yield what a Compose file omits: a build argument for the Containerfile, a name used to interpolate the file
    itself.
    """
    document = made.open(view.stage)
    services = compose_services(document)
    if not services:
        return
    jar = made.render_context.jar
    path = made.resolve_path(made.path, view.stage)
    for name, service in services:
        if name in jar.services:
            yield from _build_hops(jar, document, path, name, service)
    yield from _steering(made, document, path)


def _build_hops(jar: Jar, document: OpenDocument, path: Path, name: str, service: TreeNode) -> Iterator[Diagnostic]:
    build = service.child("build")
    if build is None:
        return
    build = build.plain
    args_node = build.child("args") if build.kind == "map" else None
    passed = _passed(args_node)
    containerfile = _built_from(path, service)
    if containerfile is None:
        return
    text, _ = decode(read_bytes(containerfile), display_path(containerfile))
    arguments = [
        (instruction.line, instruction.rest.split()) for instruction in instructions(text) if instruction.word == "ARG"
    ]
    taken = {declared[0].partition("=")[0]: line for line, declared in arguments if declared}
    wanted = [
        variable
        for variable in jar.variables.values()
        if variable.phase in ("build", "both") and variable.applies_to(name)
    ]
    file = display_path(containerfile)
    yield from _base_images(text, file, {argument: name for name, argument in passed.items()}, jar)
    for variable in wanted:
        argument = passed.get(variable.name, variable.name)
        if variable.name in taken and variable.name not in passed:
            message = (
                f"{variable.name} has only its default in {name}'s image: {file}:{taken[variable.name]} declares it, "
                "but the Compose file does not pass it"
            )
            yield Diagnostic(
                message,
                f"add it to build.args of {name}",
                document.location(args_node or build),
                variable.name,
                None,
                name,
            )
        elif variable.name in passed and argument not in taken:
            alias = f" as {argument}" if argument != variable.name else ""
            message = (
                f"{variable.name} is passed to {name}'s build{alias}, but {file} does not declare it "
                f"({variable.location} declares it)"
            )
            yield Diagnostic(
                message,
                f"add ARG {argument} to {file}",
                document.location(args_node or build),
                variable.name,
                None,
                name,
            )
        elif variable.name not in passed:
            message = (
                f"{variable.name} is for {name}'s build, but neither the Compose file passes it nor {file} declares "
                f"it ({variable.location} declares it)"
            )
            fix = f"add it to build.args of {name}, and ARG {variable.name} to {file}"
            yield Diagnostic(message, fix, document.location(args_node or build), variable.name, None, name)


def _passed(args: TreeNode | None) -> dict[str, str]:
    """Return the build arguments by the variables whose values they get: of the same name, or named in the value."""
    pairs = [(member.name, member.value.plain.text) for member in args.plain.members] if args else []
    pairs += [(node.text.partition("=")[0], node.text.partition("=")[2]) for node in _elements(args)]
    passed = {name: name for name, _ in pairs}
    for name, text in pairs:
        passed |= {match[1] or match[2]: name for match in _MENTION.finditer(text)}
    return passed


def _base_images(text: str, file: str, variables: dict[str, str], jar: Jar) -> Iterator[Diagnostic]:
    """Yield the arguments of a base image that no ARG before the first FROM declares; `variables` are those behind the
    arguments.
    """
    above: set[str] = set()
    for instruction in instructions(text):
        if instruction.word == "ARG":
            above |= {word.partition("=")[0] for word in instruction.rest.split()}
        elif instruction.word == "FROM":
            break
    for instruction in instructions(text):
        for match in _MENTION.finditer(instruction.rest) if instruction.word == "FROM" else ():
            argument = match[1] or match[2]
            name = variables.get(argument, argument)
            if argument not in above and name in jar.variables:
                message = f"this FROM uses {argument}, which no ARG before the first FROM declares: it is empty there"
                yield Diagnostic(message, f"add ARG {argument} at the top", Location(file, instruction.line, 1), name)


def _text(node: TreeNode, name: str, default: str) -> str:
    child = node.child(name)
    return child.plain.text if child else default


def _built_from(compose: Path, service: TreeNode) -> Path | None:
    """Return the Containerfile that a service of a Compose file is built from, if it exists."""
    node = service.child("build")
    if node is None:
        return None
    build = node.plain
    context = compose.parent / (build.text if build.kind == "scalar" else _text(build, "context", "."))
    named = _text(build, "dockerfile", "") if build.kind == "map" else ""
    candidates = [context / named] if named else [context / "Containerfile", context / "Dockerfile"]
    return next((path for path in candidates if path.is_file() and not leads_outside(path, compose)), None)


def _steering(made: DocumentDestination, document: OpenDocument, path: Path) -> Iterator[Diagnostic]:
    """Yield names used to interpolate the Compose file itself, from the `.env` file beside it."""
    beside = path.parent / ".env"
    given: dict[str, Location] = {}
    if beside in made.render_context.pending or beside.is_file():
        reading = ComposeDialect().read(made.render_context.current(beside), display_path(beside))
        given = {item.name: item.location for item in reading.items}
    mentioned: dict[str, Location] = {}
    for number, line in enumerate(document.text.split("\n"), 1):
        for match in _MENTION.finditer(line.partition(" #")[0] if not line.lstrip().startswith("#") else ""):
            mentioned.setdefault(match[1] or match[2], Location(document.file, number, match.start() + 1))
    for name, location in mentioned.items():
        variable = made.render_context.jar.variables.get(name)
        if variable and name not in given:
            message = (
                f"the Compose file uses {name}, which {display_path(beside)} does not set ({variable.location} "
                "declares it)"
            )
            yield Diagnostic(message, _set_beside(made, beside, variable), location, name)
    for name, location in given.items():
        if name in made.render_context.jar.variables and name not in mentioned and not _handed_on(document, ".env"):
            message = (
                f"{name} is in the file that only interpolates the Compose file, but {document.file} does not use it"
            )
            yield Diagnostic(message, "pass it to a service under environment, or remove it there", location, name)


def _set_beside(made: DocumentDestination, beside: Path, variable: Variable) -> str:
    """Return how the `.env` file beside a Compose file gets a variable."""
    file = display_path(beside)
    for name, destination in made.render_context.jar.destinations.items():
        path = destination.options.get("path")
        here = path is not None and made.render_context.root / str(path.value) == beside
        if here and destination.type == "file" and variable.phase == "build":
            return f"add phases: [build, run] to {name}, which writes {file}"
        if here:
            return f"let {name}, which writes {file}, take it (variables, services)"
    phases = ", phases: [build, run]" if variable.phase == "build" else ""
    return f"make {file} a destination (type: file, as: compose{phases})"


def _handed_on(document: OpenDocument, name: str) -> bool:
    """Return whether a service uses the file as its env_file, too."""
    for _, service in compose_services(document):
        node = service.child("env_file")
        if node is not None and name in [child.text.removeprefix("./") for child in [node.plain, *_elements(node)]]:
            return True
    return False
