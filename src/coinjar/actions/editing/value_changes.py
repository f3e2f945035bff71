"""A change of a jar's values: secrets are encrypted, other values go into plain files."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import UNSET, Command, Content, FromEnv, FromFile, FromJar, Outside, SealedDefinition
from coinjar.core.errors import InputError
from coinjar.core.model import Jar, Layer
from coinjar.core.names import ALL
from coinjar.core.references import Template
from coinjar.core.secret import reveal
from coinjar.documents.edit import Edit, apply
from coinjar.documents.writer import Plain
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes, read_plain
from coinjar.system.files import display_path, replace_file

if TYPE_CHECKING:
    from coinjar.actions.secrets.transaction import SealedTransaction


def as_yaml(content: Content) -> Plain:
    """Return a value in YAML form."""
    if isinstance(content, str):
        return reveal(content)
    if isinstance(content, Template):
        return {"text": content.source}
    if isinstance(content, Outside):
        return _form(content)
    assert content is UNSET, "a value that cannot be decrypted is not written"
    return {"unset": "true"}


def _form(content: Outside) -> Plain:
    """Return a value from outside in YAML form."""
    if isinstance(content, Command):
        more: dict[str, Plain] = {"may_be_empty": "true"} if content.may_be_empty else {}
        return {"command": [*content.argv], **more}
    if isinstance(content, FromFile):
        more = {"base64": "true"} if content.base64 else {}
        return {"file": content.path, **more}
    if isinstance(content, FromEnv):
        return {"from_env": content.name}
    if isinstance(content, FromJar):
        named = {key: text for key in ("service", "stage") if (text := getattr(content, key))}
        return {"from_jar": content.path, "name": content.name, **named}
    return {"stored_in": content.destination, "key": content.key}


def layer_path(folder: Path, stage: str, *, mine: bool) -> Path:
    """Return the file of a layer's plain values."""
    return JarLayout(folder).own(stage) if mine else JarLayout(folder).plain(stage)


def edit_file(path: Path, edits: Sequence[Edit], *, private: bool = False) -> None:
    """Edit a file of the jar in place; the caller holds the lock. A missing file is created."""
    old = read_bytes(path) if path.exists() else b""
    new = apply(old, display_path(path), edits)
    if new != old:
        replace_file(path, new, private=private)


class ValueChanges:
    """Collects values to set and to remove, then writes them: encrypted ones first, so that an interruption loses
    nothing.

    `was_plain` maps the stage and name of a secret to the file that had it as plain text; `declarations` are edits of
    jar.yaml, made last.
    """

    def __init__(self, opened: OpenJar, jar: Jar) -> None:
        self.opened = opened
        self.jar = jar
        self.was_plain: dict[tuple[str, str], str] = {}
        self.declarations: list[Edit] = []
        self._sealing: SealedTransaction | None = None
        self._edits: dict[tuple[str, bool], dict[tuple[str, str], Plain | None]] = {}
        self._plain: dict[str, Layer] = {}

    @property
    def notes(self) -> list[str]:
        """Remarks on keys that were created."""
        return self._sealing.notes if self._sealing else []

    @property
    def sealing(self) -> SealedTransaction:
        """The transaction of the encrypted values."""
        if self._sealing is None:
            from coinjar.actions.secrets.transaction import SealedTransaction

            self._sealing = SealedTransaction(self.opened, self.jar)
        return self._sealing

    def put(
        self, stage: str, scope: str, name: str, content: Content, *, mine: bool = False, set_on: str | None = None
    ) -> None:
        """Set a value. A person's own values are never committed, and so not encrypted.

        `set_on` is the date of a secret ("": not known), by default today's. Raises InputError for a secret that is
        being rotated.
        """
        if isinstance(content, Outside):  # says where the value is, and is no secret
            if not mine:
                for narrowest in self.jar.variables[name].scopes_for(scope):
                    self.drop(stage, narrowest, name)
            self._edits.setdefault((stage, mine), {})[scope, name] = as_yaml(content)
        elif self.jar.variables[name].secret and not mine:
            self._refuse_rotating(stage, scope, name)
            others = self._out_of_plain(stage, name, besides=scope)
            if ALL in others:  # first: a service's own value overrides the one for all
                self.sealing.put(stage, ALL, name, others.pop(ALL), "")
            self.sealing.put(stage, scope, name, content, set_on)
            for other, plain in others.items():
                self.sealing.put(stage, other, name, plain, "")  # nobody knows since when it is in plain text
        else:
            self._edits.setdefault((stage, mine), {})[scope, name] = as_yaml(content)

    def _refuse_rotating(self, stage: str, scope: str, name: str) -> None:
        layer = self.jar.plain.get(stage, {})
        for narrowest in self.jar.variables[name].scopes_for(scope):
            definition = layer.get(narrowest, {}).get(name)
            if isinstance(definition, SealedDefinition) and definition.sealed_value.other is not None:
                raise InputError(
                    f"{name} is being rotated on {stage}: its entry also has the other value",
                    hint=f"`coinjar rotate {name} --stage {stage}` goes on, and with --back it goes back",
                    location=definition.location,
                    code="rotating",
                )

    def drop(self, stage: str, scope: str, name: str, *, mine: bool = False) -> None:
        """Remove a value, encrypted or plain."""
        written = None if mine else self.jar.plain.get(stage, {}).get(scope, {}).get(name)
        if isinstance(written, SealedDefinition):
            self.sealing.drop(stage, scope, name)
        if mine or name in self.plain(stage).get(scope, {}):
            self._edits.setdefault((stage, mine), {})[scope, name] = None

    def plain(self, stage: str) -> Layer:
        """Return a layer's plain values in its file, including names that are also encrypted."""
        if stage not in self._plain:
            path = JarLayout(self.opened.folder).plain(stage)
            self._plain[stage] = read_plain(self.jar, read_bytes(path), display_path(path)) if path.exists() else {}
        return self._plain[stage]

    def _out_of_plain(self, stage: str, name: str, *, besides: str) -> dict[str, Content]:
        """Remove an encrypted name from its layer's plain file; what the file has for scopes other than `besides` is
        encrypted too.
        """
        result: dict[str, Content] = {}
        for scope, values in self.plain(stage).items():
            definition = values.get(name)
            if definition is None:
                continue
            if scope != besides:
                if not (isinstance(definition.content, str | Template) or definition.content is UNSET):
                    message = f"{name} comes from outside the jar for {scope} here, and cannot be encrypted as well"
                    hint = "remove that first, or write this one as a command, a file or from_env too"
                    raise InputError(message, hint=hint, location=definition.location, code="both")
                result[scope] = definition.content
            if isinstance(definition.content, str):
                self.was_plain[stage, name] = definition.file
            self._edits.setdefault((stage, False), {})[scope, name] = None
        return result

    def commit(self) -> None:
        """Write all changes; the caller holds the lock."""
        if self._sealing is not None:
            self._sealing.commit()
        for (stage, mine), edits in self._edits.items():
            path = layer_path(self.opened.folder, stage, mine=mine)
            edit_file(path, [Edit(where, value) for where, value in edits.items()], private=mine)
        if self.declarations:
            edit_file(JarLayout(self.opened.folder).declarations, self.declarations)
