"""The destinations by type: named places that variables go to, offline ones so far.

A new type is a module here and a line in the table, or an entry point (`coinjar.destinations`) of another package.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import cast

from coinjar.core.errors import InputError, ManyErrors
from coinjar.core.model import Destination
from coinjar.core.names import suggestion
from coinjar.destinations.base import Offline, Surroundings
from coinjar.documents.fields import Fields

BUILT_IN = {
    "file": "files:File",
    "templates": "templates:Templates",
    "document": "document:Document",
    "containerfile": "containerfile:Containerfile",
    "manifests": "manifests:Manifests",
    "oci-bundle": "bundle:OciBundle",
}


def make(destination: Destination, around: Surroundings) -> Offline:
    """The destination, ready to work. Raises every fault of its declaration at once."""
    from importlib.metadata import entry_points

    outside = {point.name: point for point in entry_points(group="coinjar.destinations")} if destination.type not in BUILT_IN else {}
    if destination.type in BUILT_IN:
        module, _, name = BUILT_IN[destination.type].partition(":")
        kind = cast("Callable[..., Offline]", getattr(import_module(f"coinjar.destinations.{module}"), name))
    elif destination.type in outside:
        kind = cast("Callable[..., Offline]", outside[destination.type].load())
    else:
        known = [*BUILT_IN, *outside]
        hint = suggestion(destination.type, known, f"the types are {', '.join(known)}")
        raise InputError(f"there is no type '{destination.type}' of destination", hint=hint, place=destination.place, code="unknown-type")
    fields = Fields(destination.place.file)
    made = kind(destination, around, fields)
    if fields.faults:
        raise ManyErrors(fields.faults)
    return made
