"""The keys of a jar: which stage has which, and which of them this run's identity decrypts."""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.core.definition import SealedEntry, SealedValue, Undecryptable
from coinjar.core.errors import CoinJarError, DecryptionError, Location
from coinjar.core.model import Jar
from coinjar.core.names import ALL
from coinjar.core.record import Record
from coinjar.core.references import Template
from coinjar.crypto.age import DamagedFile, Identity, NotARecipient, short
from coinjar.crypto.sealing import Key, Unsealer, UnsealError, associated
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.sealed_files import read_sealed_file
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.crypto.approval import ApprovalKey
    from coinjar.jarfile.readers import Readers


class DataKey(Record):
    """The contents of a key file: the key, the previous one during a change of keys, and for `all` the naming key."""

    key: Key
    earlier: Key | None = None
    naming: bytes | None = None

    def text(self) -> bytes:
        """Return the plaintext form that is wrapped."""
        lines = [
            f"{name} {key.id} {key.key.hex()}\n" for name, key in (("data", self.key), ("earlier", self.earlier)) if key
        ]
        return "".join(lines + ([f"naming {self.naming.hex()}\n"] if self.naming else [])).encode()


def read_data_key(text: bytes) -> DataKey:
    """Return the key of a plaintext form. Raises ValueError."""
    keys: dict[str, Key] = {}
    naming = None
    for line in text.decode("ascii").splitlines():
        match = re.fullmatch(r"(?:(data|earlier) ([0-9a-f]{8})|naming) ([0-9a-f]{64})", line)
        if match is None:
            raise ValueError("no key")
        if match[1]:
            keys[match[1]] = Key(match[2], bytes.fromhex(match[3]))
        else:
            naming = bytes.fromhex(match[3])
    if "data" not in keys:
        raise ValueError("no data key")
    return DataKey(keys["data"], keys.get("earlier"), naming)


def scopes(folder: Path, stage: str) -> list[str]:
    """Return the scopes of a stage that have keys: `all` first."""
    try:
        names = [entry.name for entry in os.scandir(JarLayout(folder).keys_folder)]
    except OSError:
        return []
    result = [name[len(stage) + 1 : -4] for name in names if name.startswith(f"{stage}.") and name.endswith(".age")]
    return sorted(result, key=lambda name: (name != ALL, name))


def _unknown(jar: Jar, content: Template) -> list[str]:
    """Return the references of an encrypted text to variables or services that are not declared."""
    return [
        reference.name
        for reference in content.references()
        if reference.name not in jar.variables or (reference.service and reference.service not in jar.services)
    ]


class KeyRing:
    """Unwraps keys when they are first needed, and caches them for the run."""

    def __init__(self, folder: Path, identity: Callable[[], Identity]) -> None:
        self.folder = folder
        self._find = identity
        self._identity: Identity | DecryptionError | None = None
        self._nobody: DecryptionError | None = None
        self._keys: dict[tuple[str, str], DataKey | DecryptionError] = {}
        self._approvals: dict[str, ApprovalKey | DecryptionError | None] = {}
        self._unsealers: dict[tuple[str, str], dict[str, Unsealer]] = {}

    def read(self, path: Path) -> bytes | None:
        """Return the content of a key file, None if there is none. Raises InputError."""
        return read_sealed_file(path)

    def identity(self) -> Identity:
        """Return the identity of whoever runs this. Raises DecryptionError."""
        if self._identity is None:
            try:
                self._identity = self._find()
            except DecryptionError as fault:
                self._identity = fault
        if isinstance(self._identity, DecryptionError):
            raise self._identity
        return self._identity

    def key(self, stage: str, scope: str) -> DataKey:
        """Return a data key. Raises DecryptionError, always the same one for the same key."""
        slot = (stage, scope)
        if slot not in self._keys:
            try:
                self._keys[slot] = self._unwrapped(stage, scope)
            except DecryptionError as fault:
                self._keys[slot] = fault
        result = self._keys[slot]
        if isinstance(result, DecryptionError):
            raise result
        return result

    def _unwrapped(self, stage: str, scope: str) -> DataKey:
        path = JarLayout(self.folder).key(stage, scope)
        where = Location(display_path(path))
        data = self.read(path)
        whose = f"the secrets of {stage}" + (f" for {scope}" if scope != ALL else "")
        if data is None:
            from coinjar.jarfile.bound_names import hand_rename_hint  # rarely needed: not at every start

            hint = hand_rename_hint(self.folder, stage) + "restore it from version control; without it the values are "
            hint += "lost and must be set again"
            raise DecryptionError(f"there is no key of {whose}", hint=hint, location=where, code="no-key")
        identity = self._identity_for(stage, scope)
        try:
            return read_data_key(identity.unwrap(data))
        except NotARecipient:
            tried = (
                f"the identity {identity.where} ({', '.join(map(short, identity.recipients))}) is not among its readers"
            )
            raise DecryptionError(
                f"cannot decrypt {whose}: {tried}",
                hint=self._who_could(stage, scope),
                location=where,
                code="not-for-us",
            ) from None
        except (DamagedFile, ValueError):
            hint = "restore it from version control"
            raise DecryptionError(
                f"the key of {whose} is damaged or not a key", hint=hint, location=where, code="tampered"
            ) from None

    def _identity_for(self, stage: str, scope: str) -> Identity:
        """Return the identity; without one, raise the same fault for every key, so that it is reported once."""
        try:
            return self.identity()
        except DecryptionError as fault:
            if self._nobody is None:
                hint = f"{fault.hint}; {self._who_could(stage, scope)}"
                self._nobody = DecryptionError(
                    f"cannot decrypt the secrets of {stage}: {fault.message}",
                    hint=hint,
                    location=fault.location,
                    code=fault.code,
                )
            raise self._nobody from None

    def _who_could(self, stage: str, scope: str | None) -> str:
        """Return a hint with the readers of a scope; None: of all of the stage."""
        from coinjar.jarfile.readers import load_readers

        try:
            readers = load_readers(self.folder)
            labels = [
                reader.label
                for reader in (readers.people(stage) if scope is None else readers.of(stage))
                if scope is None or reader.reads(scope)
            ]
        except CoinJarError:
            return "readers.yaml, which lists the readers, cannot be read"
        return (
            f"its readers are {', '.join(labels)}; one of them can add you (`coinjar readers add`)"
            if labels
            else "readers.yaml lists no readers for it"
        )

    def naming_key(self, stage: str) -> bytes | None:
        """Return the stage's naming key, None if it has none. Raises DecryptionError."""
        return self.key(stage, ALL).naming if JarLayout(self.folder).key(stage, ALL).exists() else None

    def open(self, jar: Jar, stage: str, coin: SealedEntry, file: str) -> SealedValue:
        """Return a decrypted value; one that cannot be decrypted becomes Undecryptable, with the reason."""
        slot = (stage, coin.scope)
        try:
            unsealer = (self._unsealers.get(slot) or self._made_unsealers(slot)).get(coin.key)
            if unsealer is None:
                raise self._of_another_key(slot, coin, file)
            value = unsealer.open(coin.sealed, associated(jar.app, stage, coin.scope, coin.name))
        except DecryptionError as fault:
            return SealedValue(Undecryptable(fault))
        except UnsealError:
            from coinjar.jarfile.bound_names import not_of_this_name  # rarely needed: not at every start

            assert unsealer is not None
            location = Location(file, coin.line, 1)
            return SealedValue(Undecryptable(not_of_this_name(self.folder, jar, stage, coin, unsealer, location)))
        return value if isinstance(value.content, str) else self._referring(jar, coin, value, file)

    def _made_unsealers(self, slot: tuple[str, str]) -> dict[str, Unsealer]:
        key = self.key(*slot)
        made = {data_key.id: Unsealer(data_key) for data_key in (key.earlier, key.key) if data_key}
        self._unsealers[slot] = made
        return made

    def _of_another_key(self, slot: tuple[str, str], coin: SealedEntry, file: str) -> DecryptionError:
        message = (
            f"{coin.name} is encrypted with another key than {display_path(JarLayout(self.folder).key(*slot))} "
            "contains: an earlier key, or the key file was exchanged"
        )
        hint = "restore the line and the key file from one commit, or set the value again"
        return DecryptionError(message, hint=hint, location=Location(file, coin.line, 1), code="tampered")

    def _referring(self, jar: Jar, coin: SealedEntry, value: SealedValue, file: str) -> SealedValue:
        """Return a value whose references have the present names; Undecryptable if one is not declared."""
        content = value.content
        if not isinstance(content, Template) or not (unknown := _unknown(jar, content)):
            return value
        from coinjar.jarfile.bound_names import with_present_names  # rarely needed: not at every start

        content = with_present_names(content, jar)
        if not (unknown := _unknown(jar, content)):
            return value._replace(content=content)
        message = (
            f"the sealed value of {coin.name} refers to {unknown[0]}, which is not declared (or to an "
            "undeclared service)"
        )
        hint = "declare it, or set the value again"
        location = Location(file, coin.line, 1)
        return SealedValue(Undecryptable(DecryptionError(message, hint=hint, location=location, code="tampered")))

    def approval_key(self, stage: str) -> ApprovalKey | None:
        """Return the key that approves a stage's readers; None if the stage has none.

        Raises DecryptionError: only readers of all of the stage can decrypt it.
        """
        if stage not in self._approvals:
            try:
                self._approvals[stage] = self._unwrapped_approval(stage)
            except DecryptionError as fault:
                self._approvals[stage] = fault
        result = self._approvals[stage]
        if isinstance(result, DecryptionError):
            raise result
        return result

    def _unwrapped_approval(self, stage: str) -> ApprovalKey | None:
        from coinjar.crypto.approval import read_approval_key

        path = JarLayout(self.folder).approval_key(stage)
        data = self.read(path)
        if data is None:
            return None
        identity = self._identity_for(stage, ALL)
        try:
            return read_approval_key(identity.unwrap(data))
        except NotARecipient:
            raise DecryptionError(
                f"the identity {identity.where} cannot approve the readers of {stage}: it is not a reader of all of it",
                hint=self._who_could(stage, None),
                location=Location(display_path(path)),
                code="not-for-us",
            ) from None
        except (DamagedFile, ValueError):
            raise DecryptionError(
                f"the key that approves the readers of {stage} is damaged or not a key",
                hint=f"restore it from version control, or review the readers and run `coinjar readers vouch --stage "
                f"{stage}`",
                location=Location(display_path(path)),
                code="tampered",
            ) from None

    def approval_of(self, app: str, readers: Readers, stage: str) -> str | None:
        """Return the fingerprint of the key that approved the readers of a stage; None if this list is not approved.

        Raises DecryptionError if this identity cannot verify it.
        """
        key = self.approval_key(stage)
        if key is None:
            return None
        from coinjar.crypto.approval import approved_with

        return approved_with(key, app, stage, readers.rows(stage), readers.approvals.get(stage, ()))
