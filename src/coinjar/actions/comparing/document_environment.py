"""Which value a step of a pipeline, or a container in a document, gets for a variable, and which level of the document
decides.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.open_jar import OpenJar
from coinjar.actions.secrets.known_secrets import SHORTEST_KNOWN, secret_texts
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError, Location, UsageError
from coinjar.core.inference import infer
from coinjar.core.model import Jar
from coinjar.core.redaction import SecretFinder
from coinjar.destinations import make
from coinjar.destinations.capabilities import HasEnvironments
from coinjar.destinations.environment_levels import EnvironmentLevel, above_all, deciding
from coinjar.destinations.open_document import OpenDocument
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.documents.implicit_types import implicit_type
from coinjar.jarfile.load import read_bytes
from coinjar.runners.description import RunnerDescription

KEYS = ("env", "environment", "variables")
"""Keys of environments in documents without a destination."""


class LevelValue(NamedTuple):
    """One level that sets the variable."""

    pointer: str
    text: str
    location: Location
    wins: bool


class EffectiveEntry(NamedTuple):
    """The value in the environment at `pointer`. `text` is None if no level sets it."""

    name: str
    pointer: str
    text: str | None
    secret: bool
    levels: list[LevelValue]
    remarks: list[str]


def effective_entry(
    opened: OpenJar | None,
    name: str,
    document: str,
    pointer: str,
    stage: str | None,
    runner: RunnerDescription | None = None,
) -> EffectiveEntry:
    """Return it from a document: a destination's name, or a file. Raises UsageError if it is neither."""
    jar = opened.load() if opened else None
    seen_there = seen_levels(opened, jar, document, pointer, stage, runner)
    text, pointer, levels = seen_there.document, seen_there.pointer, seen_there.levels
    remarks = _against_the_jar(seen_there.made, opened, name, pointer, stage) if seen_there.made and opened else []
    winner, spoken = deciding(levels, pointer, name)
    level_values = [
        LevelValue(
            level.pointer, level.entries[name].text or "", text.location(level.entries[name].at), level is winner
        )
        for level in spoken
    ]
    seen = winner.entries[name].text if winner else None
    value = winner.entries[name].value if winner else None
    is_secret = _is_secret(opened, jar, name, [level_value.text for level_value in level_values])
    if winner and value and (meaning := implicit_type(value, as_json=text.as_json)):
        read = "" if is_secret else f", and is read as the text '{meaning[1]}'"
        remarks.append(f"it is {meaning[0]} there{read}")
    return EffectiveEntry(name, pointer, seen, is_secret, level_values, remarks)


class SeenLevels(NamedTuple):
    """The levels of a document around an environment, and its destination if it has one."""

    document: OpenDocument
    pointer: str
    levels: list[EnvironmentLevel]
    made: HasEnvironments | None


def seen_levels(
    opened: OpenJar | None,
    jar: Jar | None,
    document: str,
    pointer: str,
    stage: str | None,
    runner: RunnerDescription | None = None,
) -> SeenLevels:
    """Return the levels around an environment of a destination's document, or of a file: as the destination declares
    them, else as its runner does, else those of the same key. Raises UsageError.
    """
    if jar and opened and document in jar.destinations:
        made = make(jar.destinations[document], RenderContext(jar, opened.folder, Masker(), None, opened.gate))
        if not isinstance(made, HasEnvironments):
            raise UsageError(
                f"the destination {document} is not a document", hint="--in requires one of type document, or a file"
            )
        if "{stage}" in made.path and stage is None:
            raise UsageError(
                f"the document {document} is different on each stage",
                hint="also name the stage: `coinjar why STAGE NAME --in …`",
            )
        text = made.open(stage or "")
        decided = {spot.pointer: (spot.decided_by, spot.inherits) for spot in made.places}
        pointer = _environment(text, pointer, [place.pointer.rsplit("/", 1)[-1] for place in made.places])
        levels = [text.level(name, *decided.get(name, ((), ()))) for name in dict.fromkeys([*decided, pointer])]
        return SeenLevels(text, pointer, levels, made)
    path = Path(document)
    if not path.is_file():
        raise UsageError(
            f"there is no document '{document}'", hint="name a destination of the type document, or a file"
        )
    text = OpenDocument(read_bytes(path), document)
    if runner is not None and runner.levels:
        pointer = _environment(text, pointer, [*runner.environments])
        return SeenLevels(text, pointer, _of_runner(text, pointer, runner), None)
    pointer = _environment(text, pointer, list(KEYS))
    levels = [text.level(name) for name in above_all(pointer) if _is_there(text, name) or name == pointer]
    return SeenLevels(text, pointer, levels, None)


def _of_runner(document: OpenDocument, pointer: str, runner: RunnerDescription) -> list[EnvironmentLevel]:
    """Return the levels at which a runner looks for an environment at a pointer, each inheriting those before it."""
    steps = tuple(pointer.split("/")[1:-1])
    found: list[str] = []
    for length in range(len(steps) + 1):
        for key in runner.environments if runner.is_level(steps[:length]) else ():
            at = "/".join(["", *steps[:length], key])
            if _is_there(document, at) or at == pointer:
                found.append(at)
    if pointer not in found:
        found.append(pointer)
    return [document.level(at, (), tuple(found[:number])) for number, at in enumerate(found)]


def _is_secret(opened: OpenJar | None, jar: Jar | None, name: str, texts: Sequence[str]) -> bool:
    """Return whether a level's value is a secret: by its name, as one computed from a secret, or by its text."""
    if opened is None or jar is None:
        return any(infer(name, value).secret for value in texts)
    variable = jar.variables.get(name) or jar.current_owner(name)
    if variable is not None and variable.name in jar.secret_names:
        return True
    finder = SecretFinder(secret_texts(opened, jar), shortest=SHORTEST_KNOWN)
    return any(finder.first(value) for value in texts) or (
        variable is None and any(infer(name, value).secret for value in texts)
    )


def _is_there(document: OpenDocument, pointer: str) -> bool:
    try:
        return not document.follow(pointer).missing
    except CoinJarError:
        return False


def _environment(document: OpenDocument, pointer: str, keys: list[str]) -> str:
    """Return the pointer of the environment itself, if a step or a job is named instead."""
    if pointer.rsplit("/", 1)[-1] in keys:
        document.follow(pointer)
        return pointer
    match = document.follow(pointer)
    node = match.node.plain if match.node else None
    if node is None or node.kind != "map":
        return pointer
    return f"{pointer}/{next((key for key in keys if node.child(key) is not None), keys[0] if keys else KEYS[0])}"


def _against_the_jar(
    document: HasEnvironments, opened: OpenJar, name: str, pointer: str, stage: str | None
) -> list[str]:
    """Return what the jar would set there, where the document differs."""
    spot = next((place for place in document.places if place.pointer == pointer), None)
    stage = (spot.stage if spot else None) or stage
    if spot is None or stage is None or name not in document.render_context.jar.variables or not spot.services:
        return []
    view = StageView(opened.resolver(stage, jar=document.render_context.jar), document.destination)
    resolved = view.resolver.value(name, spot.services[0])
    level: EnvironmentLevel = document.open(stage).level(pointer)
    entry = level.entries.get(name)
    if resolved.text is None or (entry is not None and entry.text == resolved.text) or resolved.secret:
        return []
    return (
        [
            (
                f"the jar has '{resolved.text}' for {spot.services[0]} on {stage}: `coinjar render {stage} "
                f"{document.destination.name}` updates it"
            )
        ]
        if entry
        else []
    )
