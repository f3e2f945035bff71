"""Read values stored in etcd: `{stored_in: DESTINATION, key: KEY}`."""

from __future__ import annotations

import asyncio
from concurrent.futures import ThreadPoolExecutor

from coinjar.actions.open_jar import OpenJar
from coinjar.core.consent import ConsentMissing
from coinjar.core.definition import FromStore
from coinjar.core.display import Masker
from coinjar.core.errors import InputError, Location
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar
from coinjar.core.names import suggestion
from coinjar.core.placeholders import fill
from coinjar.destinations import connected
from coinjar.destinations.capabilities import StoresValues
from coinjar.destinations.stage_view import RenderContext


def fetch_stored(opened: OpenJar, jar: Jar, stage: str, stored: FromStore, location: Location) -> str:
    """Return the text of a key, with `{stage}` replaced.

    Raises InputError if there is none, ExternalError if it cannot be read.
    """
    if stored.destination not in jar.destinations:
        hint = suggestion(stored.destination, jar.destinations, "name a destination of the type etcd")
        raise InputError(
            f"there is no destination '{stored.destination}'", hint=hint, location=location, code="unknown-destination"
        )
    render_context = RenderContext(jar, opened.folder, Masker(), opened.ring, opened.gate)
    try:
        instance = connected(jar.destinations[stored.destination], render_context)
    except ConsentMissing as fault:
        fault.code = "not-fetched"  # a value without a text, as where nobody fetches
        raise
    if not isinstance(instance, StoresValues):
        raise InputError(
            f"{stored.destination} does not store values by key",
            hint="name a destination of the type etcd",
            location=location,
            code="outside",
        )
    key = fill(stored.key, stage=stage)

    asking = instance.stored_value(key, Resolver(jar, stage))
    with ThreadPoolExecutor(1) as apart:  # the caller may be a delivery, which has a running event loop
        text = apart.submit(asyncio.run, asking).result()
    if text is None:
        raise InputError(
            f"{stored.destination} has nothing under {key}",
            hint="store it there, or correct the key",
            location=location,
            code="outside",
        )
    return text
