"""The jar's secret texts that this identity decrypts: what must be masked, and what is searched."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import Content, Definition, Undecryptable
from coinjar.core.inference import infer, is_placeholder
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar, Layer
from coinjar.core.references import Template
from coinjar.core.secret import reveal
from coinjar.dialects.base import ReadItem
from coinjar.jarfile.load import read_bytes, read_plain
from coinjar.jarfile.local_folder import own_files
from coinjar.system.files import display_path

SHORTEST_KNOWN = 6
"""Minimum length of a secret that is searched in other values, in characters."""


def secret_texts(opened: OpenJar, jar: Jar) -> dict[str, str]:
    """Return every secret's text with its variable's name: on all stages, defaults, texts computed from one, and the
    person's own values.

    Placeholders and secrets encrypted for others are omitted. Raises InputError for own values that cannot be read:
    they would be unknown.
    """
    layers = [{"all": jar.defaults}, *jar.plain.values(), *own_layers(opened, jar)]
    definitions = [
        (name, definition) for layer in layers for scope in layer.values() for name, definition in scope.items()
    ]
    result: dict[str, str] = {}
    for name, definition in definitions:
        if name in jar.secret_names and isinstance(definition.content, str):
            result.setdefault(reveal(definition.content), name)
    for name, value in _made(jar, definitions):
        result.setdefault(value, name)
    return {value: name for value, name in result.items() if value and not is_placeholder(value)}


def own_layers(opened: OpenJar, jar: Jar) -> Iterator[Layer]:
    """Yield the person's own values. Raises InputError for those that cannot be read."""
    for path in own_files(opened.folder):
        yield read_plain(jar, read_bytes(path), display_path(path))


def _made(jar: Jar, definitions: Iterable[tuple[str, Definition]]) -> Iterator[tuple[str, str]]:
    """Yield what texts with references compute from secrets, on every stage and for every service."""
    names = {
        name
        for name, definition in definitions
        if name in jar.secret_names and isinstance(definition.content, Template)
    }
    for stage in jar.stage_names() if names else ():
        resolver = Resolver(jar, stage)
        for name in names:
            for service in resolver.services_of(jar.variables[name]):
                if (value := resolver.value(name, service).revealed) is not None:
                    yield name, value


def closed(jar: Jar) -> Iterator[tuple[str, str]]:
    """Yield the scope and the name of every value that this identity cannot decrypt.

    Raises DecryptionError where it may be able to, and has no consent.
    """
    for layer in jar.plain.values():
        for scope, values in layer.items():
            for name, definition in values.items():
                if is_closed(definition.content):
                    yield scope, name


def is_closed(content: Content) -> bool:
    """Return whether a value cannot be decrypted by this identity. Raises DecryptionError for want of a consent."""
    if not isinstance(content, Undecryptable):
        return False
    if content.fault.code == "no-consent":
        raise content.fault
    return True


def secrets_read(jar: Jar, items: Iterable[ReadItem]) -> dict[str, str]:
    """Return the secret texts among what was read from a file: declared so, or certainly looking like one."""
    result: dict[str, str] = {}
    for item in items:
        value = item.text or ""
        declared = item.name in jar.secret_names
        guessed = infer(item.name, value)
        if (
            value
            and not is_placeholder(value)
            and (declared or item.secret or (item.name not in jar.variables and guessed.secret and guessed.is_certain))
        ):
            result.setdefault(value, item.name)
    return result
