"""Change the encrypted values of a jar: changes are collected, verified, and then written in an order that survives a
crash.

During a change of keys the key files contain the new key and the previous one, so that every line can be decrypted at
any moment; the next change of the stage finishes what was interrupted.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path

from coinjar.actions.open_jar import OpenJar
from coinjar.actions.secrets.approval import ReaderApproval
from coinjar.actions.secrets.first_key import FirstKey
from coinjar.actions.secrets.key_check import DecryptedEntry, KeyCheck
from coinjar.core.consent import decrypting
from coinjar.core.definition import Content, SealedDefinition, SealedEntry, SealedValue, Undecryptable
from coinjar.core.errors import InputError, Location
from coinjar.core.model import Jar
from coinjar.core.names import ALL
from coinjar.crypto.age import wrap
from coinjar.crypto.sealed_file import changed, parse
from coinjar.crypto.sealing import Key, associated, can_seal, seal
from coinjar.documents.edit import apply
from coinjar.jarfile.keyring import DataKey, scopes
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.merge_attributes import write_attributes
from coinjar.jarfile.readers import HEAD, Reader, Readers, differences, load_readers, without_doubles
from coinjar.jarfile.sealed_files import read_sealed_file, replace_sealed_file
from coinjar.system.files import display_path

LARGEST = 10 << 20
"""Maximum length of an encrypted value, in characters."""


class SealedTransaction:
    """One change, made under the jar's lock."""

    def __init__(self, opened: OpenJar, jar: Jar) -> None:
        self.folder = opened.folder
        self.jar = jar
        self.ring = opened.ring()
        self.gate = opened.gate
        self.name_reader = opened.name_reader
        self.before = load_readers(self.folder)
        self.readers = self.before
        self.notes: list[str] = []
        self._changes: dict[str, dict[tuple[str, str], SealedEntry | None]] = {}
        self.keys: dict[tuple[str, str], DataKey] = {}
        self.to_wrap: set[tuple[str, str]] = set()
        self.approval = ReaderApproval(self)
        self._lines: dict[str, list[SealedEntry]] = {}
        self._filled: dict[str, set[tuple[str, str]]] = {}
        self.sound: set[str] = set()
        self._tidy: set[str] = set()

    # -- reading

    def scopes(self, stage: str) -> list[str]:
        """Return the scopes that have a key, or will have one."""
        return list(dict.fromkeys([*scopes(self.folder, stage), *(c for s, c in self.keys if s == stage)]))

    def lines(self, stage: str) -> list[SealedEntry]:
        """Return the stage's lines in the file."""
        if stage not in self._lines:
            path = JarLayout(self.folder).sealed(stage)
            data = read_sealed_file(path)
            self._lines[stage] = parse(data, display_path(path)) if data is not None else []
        return self._lines[stage]

    def _slots(self, stage: str) -> set[tuple[str, str]]:
        if stage not in self._filled:
            self._filled[stage] = {coin.slot for coin in self.lines(stage)}
        return self._filled[stage]

    def opened(self, stage: str, within: Iterable[str] | None = None) -> list[DecryptedEntry]:
        """Return the values of a stage, of these scopes (None: of all).

        Raises DecryptionError for the first that cannot be decrypted.
        """
        path = display_path(JarLayout(self.folder).sealed(stage))
        wanted = None if within is None else set(within)
        entries = []
        for coin in self.lines(stage):
            if wanted is None or coin.scope in wanted:
                value = self.ring.open(self.jar, stage, coin, path)
                if isinstance(value.content, Undecryptable):
                    raise value.content.fault
                entries.append(DecryptedEntry(coin, value))
        return entries

    def verify(self, stage: str, within: Sequence[str], *, replacing: Collection[tuple[str, str]] = ()) -> None:
        """See KeyCheck.verify."""
        KeyCheck(self).verify(stage, within, replacing=replacing)

    def begin(self, stage: str, *, is_reported: bool = True) -> None:
        """See FirstKey.begin."""
        FirstKey(self).begin(stage, is_reported=is_reported)

    # -- changes

    def put(self, stage: str, scope: str, name: str, content: Content, set_on: str | None = None) -> None:
        """Encrypt a value for a service or all; `set_on` is its date, by default today's.

        A value that is set again keeps its date. Raises as `put_value` does.
        """
        if set_on is None:
            set_on = self._date_of(stage, scope, name, content)
        self.put_value(stage, scope, name, SealedValue(content, set_on))

    def _date_of(self, stage: str, scope: str, name: str, content: Content) -> str:
        """Return the date of the value that is there already, if it is the same one; else today's."""
        layer = self.jar.plain.get(stage, {})
        there = [layer.get(narrowest, {}).get(name) for narrowest in self.jar.variables[name].scopes_for(scope)]
        dates = [
            definition.sealed_value.set_on
            for definition in there
            if isinstance(definition, SealedDefinition) and definition.content == content
        ]
        return min(dates) if dates and len(dates) == len(there) else datetime.now(UTC).date().isoformat()

    def put_value(self, stage: str, scope: str, name: str, value: SealedValue) -> None:
        """Encrypt a value with its date for a service or all.

        Raises InputError for an unsupported one, DecryptionError for a key that is not ours.
        """
        content = value.content
        if why := can_seal(content):
            raise InputError(
                f"{name} cannot be encrypted: {why}",
                hint="encode it as base64, or declare it without secret: true",
                code="cannot-seal",
            )
        if isinstance(content, str) and len(content) > LARGEST:
            hint = "encrypt a key for it, and store the large content elsewhere"
            raise InputError(
                f"{name} cannot be encrypted: it has over {LARGEST >> 20} Mi characters", hint=hint, code="cannot-seal"
            )
        variable = self.jar.variables[name]
        slots = [(narrowest, name) for narrowest in variable.scopes_for(scope)]
        if not slots:
            raise InputError(
                f"{name} has no services, so nobody could decrypt it",
                hint="declare its services in jar.yaml",
                location=variable.location,
                code="cannot-seal",
            )
        for narrowest, _ in slots:
            self._ensure(stage, narrowest, slots)
            self.seal(stage, narrowest, name, value)
        if variable.services is not None:
            self.drop(stage, ALL, name)

    def drop(self, stage: str, scope: str, name: str) -> bool:
        """Remove a value; return whether there was one."""
        there = (scope, name) in self._slots(stage)
        if there:
            self._changes.setdefault(stage, {})[scope, name] = None
        return there

    def seal(self, stage: str, scope: str, name: str, value: SealedValue) -> None:
        key = self.key(stage, scope).key
        sealed = seal(key, value, associated(self.jar.app, stage, scope, name))
        self._changes.setdefault(stage, {})[scope, name] = SealedEntry(
            scope=scope, name=name, key=key.id, sealed=sealed
        )

    def key(self, stage: str, scope: str) -> DataKey:
        """Return the key for new values."""
        return self.keys.get((stage, scope)) or self.ring.key(stage, scope)

    def _ensure(self, stage: str, scope: str, replacing: Collection[tuple[str, str]]) -> None:
        """Create the key to encrypt with: one that values prove, or a new one for the stage's readers."""
        there = self.scopes(stage)
        if not there:
            self.begin(stage)
        self.verify(stage, [scope] if scope in there else there, replacing=replacing)
        if (stage, scope) not in self.keys and not any(coin.scope == scope for coin in self.lines(stage)):
            FirstKey(self).new_scope(stage, scope)  # a key without encrypted values may be anybody's

    # -- readers

    def add_reader(self, reader: Reader) -> None:
        """Add one to the list; it cannot decrypt anything yet."""
        self.readers = Readers({**self.readers.readers, reader.label: reader}, self.readers.approvals)

    def grant(self, label: str, stages: Sequence[str]) -> None:
        """Let a reader decrypt stages: their keys must be verified."""
        reader = self.readers.readers[label]
        new = [stage for stage in stages if stage not in reader.opens]
        self._set_opens(label, [*reader.opens, *new])
        for stage in new:
            self.approval.approve(stage, rewrapping=reader.service is None)
            self.to_wrap |= {(stage, scope) for scope in self.scopes(stage) if reader.reads(scope)}

    def revoke(self, label: str, stage: str) -> None:
        """Remove a stage from a reader, and change the keys that it had."""
        reader = self.readers.readers[label]
        self._set_opens(label, [other_stage for other_stage in reader.opens if other_stage != stage])
        if reader.service is None:
            self.approval.replace_key(stage)
        else:
            self.approval.approve(stage, rewrapping=False)
        self.rekey(stage, [scope for scope in self.scopes(stage) if reader.reads(scope)])

    def _set_opens(self, label: str, opens: Sequence[str]) -> None:
        readers = dict(self.readers.readers)
        if opens:
            readers[label] = readers[label]._replace(opens=tuple(opens))
        else:
            del readers[label]
        self.readers = Readers(readers, self.readers.approvals)

    def rekey(self, stage: str, within: Sequence[str]) -> None:
        """Replace keys, and encrypt every value again; the naming key stays, so that no name changes."""
        self.approval.require(stage)
        for scope in within:
            slot = (stage, scope)
            old = self.ring.key(*slot)
            used = {coin.key for coin in self.lines(stage) if coin.scope == scope}
            # In an interrupted change, the one that the lines still need: it must decrypt them until they are written
            # again.
            needed = old.earlier if old.earlier is not None and old.earlier.id in used else old.key
            self.keys[slot] = DataKey(Key.new(), needed, old.naming)
            self.to_wrap.add(slot)
            for entry in self.opened(stage, [scope]):
                self.seal(stage, scope, entry.entry.name, entry.value)
        self._tidy.add(stage)

    def renew_unused(self, stage: str) -> None:
        """Replace keys without encrypted values: such a key may be anybody's."""
        used = {coin.scope for coin in self.lines(stage)}
        for scope in self.scopes(stage):
            if scope not in used:
                FirstKey(self).new_scope(stage, scope)

    def approve_after_review(self, stage: str) -> None:
        """Wrap keys for the readers in the file and approve the list: after a review."""
        self.approval.approve_after_review(stage)
        self.to_wrap |= {(stage, scope) for scope in self.scopes(stage)}

    # -- writing

    def commit(self) -> bool:
        """Write all changes; return whether there were any. The caller holds the lock."""
        if not (self._changes or self.to_wrap or self.approval.is_pending or self.readers is not self.before):
            return False
        if not JarLayout(self.folder).sealed_folder.exists():
            self.gate.record(decrypting(self.jar.app))  # the jar's first key is their own
        write_attributes(self.folder)
        for slot in sorted(self.to_wrap):
            self._write_key(slot, self.key(*slot))
        self.approval.write_keys()
        if (readers := self._readers_text()) is not None:
            replace_sealed_file(JarLayout(self.folder).readers, readers)
        for stage in sorted(self._changes):
            path = JarLayout(self.folder).sealed(stage)
            old = read_sealed_file(path) or b""
            new = changed(old, display_path(path), self._changes[stage], tidy=stage in self._tidy)
            if new != old:
                replace_sealed_file(path, new)
        for slot, key in sorted(self.keys.items()):
            if key.earlier is not None:
                self._write_key(slot, DataKey(key.key, None, key.naming))
        self.approval.forget_earlier_keys()
        return True

    def values_of(self, stage: str) -> Iterator[tuple[bytes, bytes]]:
        """Return the file of a stage's values before and after, to write it with other files.

        Raises InputError if keys would change.
        """
        if self.to_wrap or self.approval.is_pending:
            hint = "`coinjar readers rekey` finishes it; then run this again"
            raise InputError(
                "a change of keys was interrupted, or a key is missing",
                hint=hint,
                location=Location(display_path(JarLayout(self.folder).readers)),
                code="keys",
            )
        if stage in self._changes:
            path = JarLayout(self.folder).sealed(stage)
            old = read_sealed_file(path) or b""
            yield old, changed(old, display_path(path), self._changes[stage])

    def planned_values(self) -> int:
        """Return how many values will be encrypted."""
        return sum(entry is not None for changes in self._changes.values() for entry in changes.values())

    def contents(self) -> dict[Path, bytes]:
        """Return the new contents of all files, to write them together with others; it replaces no key."""
        layout = JarLayout(self.folder)
        files = dict(self._key_file(slot, self.key(*slot)) for slot in sorted(self.to_wrap))
        files |= dict(self.approval.key_files())
        if (readers := self._readers_text()) is not None:
            files[layout.readers] = readers
        for stage in sorted(self._changes):
            path = layout.sealed(stage)
            files[path] = changed(read_sealed_file(path) or b"", display_path(path), self._changes[stage])
        return files

    def _write_key(self, slot: tuple[str, str], key: DataKey) -> None:
        replace_sealed_file(*self._key_file(slot, key))

    def _key_file(self, slot: tuple[str, str], key: DataKey) -> tuple[Path, bytes]:
        stage, scope = slot
        recipients = [reader.recipient for reader in self.readers.of(stage) if reader.reads(scope)]
        return JarLayout(self.folder).key(stage, scope), wrap(key.text(), recipients)

    def _readers_text(self) -> bytes | None:
        """Return the new readers.yaml; None if it stays."""
        approvals = dict(self.readers.approvals) | self.approval.lines()
        edits = differences(self.before, Readers(self.readers.readers, dict(sorted(approvals.items()))))
        path = JarLayout(self.folder).readers
        return apply(without_doubles(read_sealed_file(path) or HEAD), display_path(path), edits) if edits else None
