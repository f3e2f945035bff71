"""A stage's plain and secret values as one text to edit, and the edited text back into the jar."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import NamedTuple

from coinjar.actions.editing.value_changes import ValueChanges, as_yaml
from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import Content, Definition, Outside, SealedDefinition, Undecryptable
from coinjar.core.errors import CoinJarError, InputError, Location, raise_all
from coinjar.core.layers import plain
from coinjar.core.model import Jar, Layer
from coinjar.core.names import ALL, SHARED
from coinjar.core.references import Template
from coinjar.documents.edit import Edit, apply
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes, read_plain
from coinjar.jarfile.local_folder import locked
from coinjar.jarfile.sealed_files import read_sealed_file
from coinjar.system.files import replace_file

_LINE = re.compile(r"^--- # secrets.*\n?", re.MULTILINE)

Secrets = dict[tuple[str, str], Content]
"""A stage's secrets by scope (a service or `all`) and name, as shown: once, where all services with it have the
same.
"""


class EditBuffer(NamedTuple):
    """The text for the editor, and the state it was made from."""

    text: str
    plain: bytes
    coins: bytes
    secrets: Secrets


class EditResult(NamedTuple):
    """The result: secrets encrypted or removed, whether plain values changed, remarks on new keys."""

    sealed: list[str]
    dropped: list[str]
    plain_changed: bool
    notes: list[str]


def text_of(opened: OpenJar, stage: str) -> EditBuffer:
    """Return the stage's text: its plain file, a separator, and the secrets that this identity decrypts."""
    jar = opened.load([stage] if stage != SHARED else [])
    if stage != SHARED:
        jar.stage(stage)
    plain_bytes, coins_bytes = _state(opened, stage)
    secrets, closed = _shown(jar, jar.plain.get(stage, {}))
    above = plain_bytes.decode()
    below = (
        apply(b"", "secrets", [Edit(path, as_yaml(content)) for path, content in secrets.items()]).decode()
        if secrets
        else ""
    )
    more = f"; {closed} more are encrypted for others, and stay" if closed else ""
    line = f"--- # secrets of {stage}: values below this line are encrypted when you save{more}\n"
    if lacking := _lacking(jar, stage):
        line += f"# without a value of their own here: {', '.join(lacking)}\n"
    return EditBuffer(
        above + ("" if above.endswith("\n") or not above else "\n") + line + below, plain_bytes, coins_bytes, secrets
    )


def _state(opened: OpenJar, stage: str) -> tuple[bytes, bytes]:
    path = JarLayout(opened.folder).plain(stage)
    return read_bytes(path) if path.exists() else b"", read_sealed_file(JarLayout(opened.folder).sealed(stage)) or b""


def _shown(jar: Jar, layer: Layer) -> tuple[Secrets, int]:
    """Return the secrets to show, and how many cannot be decrypted. Raises the fault of one that was tampered with."""
    held: dict[str, dict[str, Content]] = {}
    closed = 0
    for scope, values in layer.items():
        for name, definition in values.items():
            if isinstance(definition, SealedDefinition):
                content = definition.content
                if isinstance(content, Undecryptable):
                    if content.fault.code == "tampered":
                        raise content.fault
                    closed += 1
                else:
                    held.setdefault(name, {})[scope] = content
    result: Secrets = {}
    for name, by_scope in held.items():
        services = jar.variables[name].services
        alike = services is not None and set(by_scope) == services and len(set(map(repr_of, by_scope.values()))) == 1
        result |= {(ALL if alike else scope, name): content for scope, content in by_scope.items()}
    return dict(sorted(result.items(), key=lambda item: (item[0][0] != ALL, item[0]))), closed


def _lacking(jar: Jar, stage: str) -> list[str]:
    """Return the secrets that could have a value here, but have none."""
    there = {name for values in jar.plain.get(stage, {}).values() for name in values}
    chain = jar.chain(stage) if stage != SHARED else []
    return [
        variable.name
        for variable in jar.variables.values()
        if variable.secret and variable.name not in there and (stage == SHARED or jar.exists_on(variable, chain))
    ]


def repr_of(content: Content) -> tuple[str, object]:
    """Return a content in a form that can be compared."""
    return (
        ("text", content)
        if isinstance(content, str)
        else ("references", content.source)
        if isinstance(content, Template)
        else ("other", content)
    )


def read_text(jar: Jar, stage: str, file: str, text: str) -> tuple[bytes, Secrets]:
    """Return the plain file's bytes and the secrets of an edited text.

    Raises every fault of it at once, located in that text.
    """
    line = _LINE.search(text)
    if line is None:
        raise InputError(
            "the line '--- # secrets' is missing",
            hint="restore it: values below it are encrypted",
            location=Location(file),
            code="edit",
        )
    above, below = text[: line.start()], "\n" * text.count("\n", 0, line.end()) + text[line.end() :]
    faults: list[CoinJarError] = []
    layers: list[Layer] = []
    for part in (above, below):
        try:
            layers.append(read_plain(jar, part.encode(), file))
        except CoinJarError as fault:
            faults += fault.each()
            layers.append({})
    for number, layer in enumerate(layers):
        for scope, values in layer.items():
            for name, definition in values.items():
                faults += _faults(jar, stage, scope, name, definition, below=number == 1)
    above_too = {name: definition for values in layers[0].values() for name, definition in values.items()}
    for name in dict.fromkeys(name for values in layers[1].values() for name in values if name in above_too):
        hint = "keep one of them: a name is either plain or encrypted"
        faults.append(
            InputError(
                f"{name} is above and below the line '--- # secrets'",
                hint=hint,
                location=above_too[name].location,
                code="both",
            )
        )
    raise_all(sorted(faults, key=lambda error: error.location or Location("")))
    return above.encode(), {
        (scope, name): definition.content for scope, values in layers[1].items() for name, definition in values.items()
    }


def _faults(jar: Jar, stage: str, scope: str, name: str, definition: Definition, *, below: bool) -> list[CoinJarError]:
    variable, content = jar.variables[name], definition.content

    def fault(message: str, hint: str) -> list[CoinJarError]:
        return [InputError(message, hint=hint, location=definition.location, code="edit")]

    if variable.secret and not below and isinstance(content, str) and content:
        return fault(f"{name} is a secret", "move it below the line '--- # secrets'")
    if below and not variable.secret:
        return fault(
            f"{name} is not a secret", "move it above the line '--- # secrets', or declare it as one in jar.yaml"
        )
    if below and isinstance(content, Outside):
        return fault(
            f"{name} comes from outside the jar, and cannot be encrypted", "move it above the line '--- # secrets'"
        )
    if scope != ALL and not variable.applies_to(scope):
        return fault(f"{name} is not for {scope}", f"its services are {', '.join(sorted(variable.services or ()))}")
    if stage != SHARED and not jar.exists_on(variable, jar.chain(stage)):
        return fault(
            f"{name} does not exist on {stage}",
            f"its stages are {', '.join(sorted(variable.stages or ()))}, and those that follow them",
        )
    broken = plain(variable, definition).fault if isinstance(content, str) else None
    return [broken] if broken else []


def take(opened: OpenJar, stage: str, before: EditBuffer, file: str, edited: str) -> EditResult:
    """Check an edited text and write what changed; unchanged secrets keep their bytes.

    Raises all faults, with nothing written.
    """
    with locked(opened.folder, "edit"):
        jar = opened.load([stage] if stage != SHARED else [])
        new_plain, secrets = read_text(jar, stage, file, edited)
        if _state(opened, stage) != (before.plain, before.coins):
            hint = "compare with the files (`coinjar grid`, git diff): saving once more replaces them with your text"
            raise InputError(
                f"{stage} was changed by another process meanwhile",
                hint=hint,
                location=Location(file),
                code="changed-meanwhile",
            )
        change = ValueChanges(opened, jar)
        gone = [path for path in before.secrets if path not in secrets]
        for scope, name in gone:
            for narrowest in dict.fromkeys([scope, *jar.variables[name].scopes_for(scope)]):
                change.drop(stage, narrowest, name)
        news = {
            path
            for path, content in secrets.items()
            if path not in before.secrets or repr_of(before.secrets[path]) != repr_of(content)
        }
        # A value for all is encrypted in every scope of its services; so their own values are set after it, changed or
        # not.
        again = {
            (scope, name) for scope, name in secrets if (ALL, name) in news and jar.variables[name].services is not None
        }
        for scope, name in sorted(news | again, key=lambda path: (path[0] != ALL, path)):
            change.put(stage, scope, name, secrets[scope, name])
        change.commit()
        plain_changed = new_plain not in (
            before.plain,
            before.plain + b"\n",
        )  # the line break required by the line below
        if plain_changed:
            replace_file(JarLayout(opened.folder).plain(stage), new_plain)
    names = [name for name in dict.fromkeys(name for _, name in secrets) if any(name == other for _, other in news)]
    return EditResult(names, [name for _, name in gone if name not in names], plain_changed, change.notes)


def edit_stage(
    opened: OpenJar, stage: str, file: str, run: Callable[[str], str], again: Callable[[CoinJarError], bool]
) -> EditResult:
    """Open an editor (`run`: text in, text out) until its text is valid, or `again` returns False."""
    before = text_of(opened, stage)
    text = before.text
    while True:
        text = run(text)
        if text == before.text:
            return EditResult([], [], plain_changed=False, notes=[])
        try:
            return take(opened, stage, before, file, text)
        except CoinJarError as fault:
            if not again(fault):
                raise
            if fault.code == "changed-meanwhile":
                before = text_of(opened, stage)
