"""Everything that a step, a container, an image or a workload sees: each variable with where it comes from."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from coinjar.actions.comparing.document_environment import seen_levels
from coinjar.actions.open_jar import OpenJar
from coinjar.core.inference import infer
from coinjar.core.model import Jar
from coinjar.destinations.environment_levels import deciding
from coinjar.jarfile.runner_files import load_runner
from coinjar.sources import is_source, read_source
from coinjar.sources.base import SET_BY_EVERYBODY, SourceContext

BUILT_IN = "built in"


class SeenVariable(NamedTuple):
    """A variable that is there. `text` is None for a built-in one, whose value only the running system has; `level` is
    a pointer, `built in`, or the source; `jar` says what the jar knows of it.
    """

    name: str
    text: str | None
    secret: bool
    level: str
    where: str
    jar: str


def seen_in_document(
    opened: OpenJar | None, document: str, pointer: str, stage: str | None, runner: str | None
) -> tuple[str, list[SeenVariable]]:
    """Return the environment's pointer, and what it sees: of every level around it, and what its runner sets itself.

    Raises UsageError, InputError.
    """
    jar = opened.load() if opened else None
    description = load_runner(opened.folder if opened else None, runner) if runner is not None else None
    found = seen_levels(opened, jar, document, pointer, stage, description)
    description = description or getattr(found.made, "runner", None)
    seen: list[SeenVariable] = []
    for name in dict.fromkeys(name for level in found.levels for name in level.entries):
        winner, _ = deciding(found.levels, found.pointer, name)
        if winner is not None:
            entry = winner.entries[name]
            where = str(found.document.location(entry.at))
            seen.append(_seen(jar, name, entry.text, winner.pointer, where))
    built_in: Mapping[str, str] = description.names if description else {}
    known = {variable.name for variable in seen}
    seen += [
        SeenVariable(name, None, secret=False, level=BUILT_IN, where=about, jar=_knows(jar, name))
        for name, about in built_in.items()
        if name not in known
    ]
    return found.pointer, seen


def seen_in_source(opened: OpenJar | None, source: str, services: Iterable[str]) -> list[SeenVariable]:
    """Return what a source holds: an image, a container, a workload's manifests, a process. Raises what it raises."""
    jar = opened.load() if opened else None
    context = opened.source_context(jar, None) if opened and jar else SourceContext()
    read = read_source(source, context)
    wanted = set(services)
    items = [item for item in read.reading.items if not wanted or item.service is None or item.service in wanted]
    return [
        _seen(jar, item.name, item.text, item.service or read.label, str(item.location))
        for item in items
        if item.text is not None
    ]


def is_other_source(text: str) -> bool:
    """Return whether this names a source other than a plain path."""
    return is_source(text) and ":" in text


def _seen(jar: Jar | None, name: str, text: str | None, level: str, where: str) -> SeenVariable:
    variable = jar.variables.get(name) or jar.current_owner(name) if jar else None
    secret = variable.name in jar.secret_names if variable and jar else infer(name, text or "").secret
    return SeenVariable(name, text, secret, level, where, _knows(jar, name))


def _knows(jar: Jar | None, name: str) -> str:
    if jar is None:
        return ""
    variable = jar.variables.get(name) or jar.current_owner(name)
    if variable is not None:
        return "declared" if variable.name == name else f"as {variable.name}"
    return "set by the system" if name in SET_BY_EVERYBODY else "not declared"
