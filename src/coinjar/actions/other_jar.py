"""Read a value of another application's jar: `{from_jar: PATH, name: NAME}`."""

from __future__ import annotations

from contextlib import contextmanager
from contextvars import ContextVar
from typing import TYPE_CHECKING

from coinjar.core.consent import ConsentMissing
from coinjar.core.errors import InputError, Location, UsageError
from coinjar.core.secret import Secret, reveal
from coinjar.jarfile.external_values import acts_of
from coinjar.jarfile.locate import find_jar

if TYPE_CHECKING:
    from collections.abc import Iterator

    from coinjar.actions.open_jar import OpenJar
    from coinjar.core.definition import FromJar
    from coinjar.core.layers import Resolver

_under_way: ContextVar[tuple[tuple[str, str], ...]] = ContextVar("jars under way", default=())
"""The jars and names whose values are being read: jars can refer to each other."""


def fetch_from_jar(opened: OpenJar, stage: str, wanted: FromJar, location: Location) -> str:
    """Return the text, a Secret for a secret. Both jars decide: this one must have consent to read the other, and the
    other's secrets need what they always need.

    Raises InputError, also for a value that services there do not agree on, and for jars that refer to each other in a
    circle, and for a name, a stage or a service that does not exist there; DecryptionError.
    """
    from coinjar.actions.open_jar import OpenJar

    base = opened.folder.resolve().parent
    try:
        opened.gate.require(*acts_of(wanted, base, location))
    except ConsentMissing as fault:
        fault.code = "not-fetched"  # a value without a text, as where nobody fetches
        raise
    folder = find_jar(base, str(base / wanted.path))
    with _once((str(folder.resolve()), wanted.name), location):
        other = OpenJar(folder, opened.ask)
        on = wanted.stage or stage
        try:
            resolver = other.resolver(on)
            variable = resolver.jar.variable(wanted.name)
            services = _services(resolver, wanted)
        except UsageError as fault:  # its name, stage or service is this jar's mistake
            hint = f"of that jar: {fault.hint}"
            message = f"in {wanted.path} {fault.message}"
            raise InputError(message, hint=hint, location=location, code="outside") from None
        values = {_value(resolver, variable.name, service) for service in services}
        if len(values) != 1:
            which = "no service gets it there" if not values else "services have different values of it there"
            raise InputError(
                f"{wanted.name} of {wanted.path} on {on}: {which}",
                hint="name one: {from_jar: PATH, name: NAME, service: SERVICE}",
                location=location,
                code="outside",
            )
        (text,) = values
        if text is None:
            raise InputError(
                f"{wanted.name} of {wanted.path} has no value on {on}",
                hint="set it there, or name another stage: {from_jar: PATH, name: NAME, stage: STAGE}",
                location=location,
                code="outside",
            )
        return text


def _services(resolver: Resolver, wanted: FromJar) -> list[str]:
    if wanted.service:
        return [resolver.jar.service(wanted.service).name]
    return resolver.services_of(resolver.jar.variables[wanted.name])


def _value(resolver: Resolver, name: str, service: str) -> str | None:
    resolved = resolver.value(name, service)
    if resolved.fault is not None:
        raise resolved.fault
    if resolved.text is None:
        return None
    return Secret(reveal(resolved.text)) if resolved.secret else resolved.text


@contextmanager
def _once(reading: tuple[str, str], location: Location) -> Iterator[None]:
    """Raise InputError if this value is being read already."""
    before = _under_way.get()
    if reading in before:
        hint = "set one of them without the other"
        raise InputError(f"jars refer to each other's {reading[1]}", hint=hint, location=location, code="circle")
    token = _under_way.set((*before, reading))
    try:
        yield
    finally:
        _under_way.reset(token)
