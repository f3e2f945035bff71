"""The destinations by type: named places that variables go to: files, and running systems (`live`).

A new type is a module here and a line in the table, or an entry point (`coinjar.destinations`) of another package.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, TypeVar, cast

from coinjar.core.errors import ErrorGroup, InputError, UsageError
from coinjar.core.model import Destination
from coinjar.core.names import suggestion
from coinjar.destinations.base import DestinationOptions, FileDestination
from coinjar.destinations.stage_view import RenderContext
from coinjar.documents.field_reader import FieldReader
from coinjar.system.plugins import plugins

if TYPE_CHECKING:
    from coinjar.destinations.live.base import LiveDestination

D = TypeVar("D", bound=DestinationOptions)
BUILT_IN = {
    "file": "files:DialectFileDestination",
    "templates": "templates:TemplatesDestination",
    "document": "document:DocumentDestination",
    "containerfile": "containerfile:ContainerfileDestination",
    "region": "region:RegionDestination",
    "manifests": "manifests:ManifestsDestination",
    "oci-bundle": "bundle:BundleDestination",
    "host": "live.host:HostDestination",
    "container": "live.container:ContainerDestination",
    "cluster": "live.cluster:ClusterDestination",
    "etcd": "live.etcd:EtcdDestination",
    "platform": "live.platform:PlatformDestination",
}
LIVE = frozenset({"host", "container", "cluster", "etcd", "platform"})


def type_names() -> list[str]:
    """Return the names of all types, those of other packages included."""
    return [*BUILT_IN, *plugins("destinations")]


def is_live(destination: Destination) -> bool:
    """Return whether a destination is delivered to, as opposed to rendered. A type of another package is imported."""
    if destination.type in BUILT_IN:
        return destination.type in LIVE
    from coinjar.destinations.live.base import LiveDestination

    return issubclass(_kind(destination), LiveDestination)


def make(destination: Destination, render_context: RenderContext) -> FileDestination:
    """Return a file destination, ready to use. Raises every fault of its declaration at once."""
    # `_made` only asks whether the destination is one of this abstract class.
    of_file: type[FileDestination] = FileDestination  # type: ignore[type-abstract]
    return _made(destination, render_context, of_file, "is a running system, not a file", "deliver")


def make_live(destination: Destination, render_context: RenderContext) -> LiveDestination:
    """Return a live destination, ready to use. Raises every fault of its declaration at once."""
    from coinjar.destinations.live.base import LiveDestination

    of_system: type[LiveDestination] = LiveDestination  # type: ignore[type-abstract]
    return _made(destination, render_context, of_system, "is a file; it is rendered, not delivered", "render")


def connected(destination: Destination, render_context: RenderContext) -> LiveDestination:
    """Return a live destination that may contact its system. Raises ConsentMissing, and what `make_live` raises."""
    render_context.gate.require(*make_live(destination, render_context).acts())
    return make_live(destination, render_context)  # again: what it reads from the environment has consent now


def _made(destination: Destination, render_context: RenderContext, wanted: type[D], if_not: str, command: str) -> D:
    fields = FieldReader(destination.location.file)
    instance = _kind(destination)(destination, render_context, fields)
    if fields.faults:
        raise ErrorGroup(fields.faults)
    if not isinstance(instance, wanted):
        raise UsageError(
            f"{destination.name} {if_not}", hint=f"`coinjar {command} STAGE {destination.name}`", code="other-type"
        )
    return instance


def class_of(name: str) -> type[DestinationOptions]:
    """Return the class of a type. Raises UsageError if there is none."""
    if name in BUILT_IN:
        module, _, attribute = BUILT_IN[name].partition(":")
        return cast("type[DestinationOptions]", getattr(import_module(f"coinjar.destinations.{module}"), attribute))
    outside = plugins("destinations")
    if name in outside:
        return cast("type[DestinationOptions]", outside[name].load())
    known = [*BUILT_IN, *outside]
    hint = suggestion(name, known, f"the types are {', '.join(known)}")
    raise UsageError(f"there is no destination type '{name}'", hint=hint, code="unknown-type")


def file_class_of(destination: Destination) -> type[FileDestination]:
    """Return the class of a file destination. Raises InputError if its type does not exist."""
    made = _kind(destination)
    assert issubclass(made, FileDestination)
    return made


def _kind(destination: Destination) -> type[DestinationOptions]:
    try:
        return class_of(destination.type)
    except UsageError as fault:
        raise InputError(fault.message, hint=fault.hint, location=destination.location, code=fault.code) from None
