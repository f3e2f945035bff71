"""Change the encrypted values of a jar: changes are collected, verified, and then written in an order that survives a
crash.

During a change of keys the key files contain the new key and the previous one, so that every line can be decrypted at
any moment; the next change of the stage finishes what was interrupted.
"""

from __future__ import annotations

import os
import pwd
import re
from collections.abc import Collection, Iterable, Iterator, Sequence

from coinjar.actions.open_jar import OpenJar
from coinjar.core.errors import CoinJarError, DecryptionError, InputError, Location, UsageError
from coinjar.core.model import Content, Jar, Undecryptable
from coinjar.core.names import ALL, SHARED
from coinjar.core.record import Record
from coinjar.crypto.age import wrap
from coinjar.crypto.sealed_file import SealedEntry, changed, parse
from coinjar.crypto.sealing import Key, associated, can_seal, seal, vouch
from coinjar.documents.edit import apply
from coinjar.jarfile.keyring import DataKey, compartments, key_path, sealed_path
from coinjar.jarfile.merge_attributes import write_attributes
from coinjar.jarfile.naming_key import local_naming_key
from coinjar.jarfile.readers import HEAD, Reader, Readers, differences, load_readers, readers_path, without_doubles
from coinjar.system.files import display_path, read_own, replace_own

LARGEST = 10 << 20
"""Maximum length of an encrypted value, in characters."""


class DecryptedEntry(Record):
    """One line of a stage, and its value."""

    entry: SealedEntry
    content: Content


class SealedTransaction:
    """One change, made under the jar's lock."""

    def __init__(self, opened: OpenJar, jar: Jar) -> None:
        self.folder = opened.folder
        self.jar = jar
        self.ring = opened.ring()
        self.name_reader = opened.name_reader
        self.before = load_readers(self.folder)
        self.readers = self.before
        self.notes: list[str] = []
        self._changes: dict[str, dict[tuple[str, str], SealedEntry | None]] = {}
        self._keys: dict[tuple[str, str], DataKey] = {}
        self._to_wrap: set[tuple[str, str]] = set()
        self._to_vouch: set[tuple[str, str]] = set()
        self._lines: dict[str, list[SealedEntry]] = {}
        self._filled: dict[str, set[tuple[str, str]]] = {}
        self._sound: set[str] = set()
        self._tidy: set[str] = set()

    # -- reading

    def compartments(self, stage: str) -> list[str]:
        """Return the scopes that have a key, or will have one."""
        return list(dict.fromkeys([*compartments(self.folder, stage), *(c for s, c in self._keys if s == stage)]))

    def lines(self, stage: str) -> list[SealedEntry]:
        """Return the stage's lines in the file."""
        if stage not in self._lines:
            path = sealed_path(self.folder, stage)
            data = read_own(path)
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
        path = display_path(sealed_path(self.folder, stage))
        wanted = None if within is None else set(within)
        entries = []
        for coin in self.lines(stage):
            if wanted is None or coin.compartment in wanted:
                content = self.ring.open(self.jar, stage, coin, path)
                if isinstance(content, Undecryptable):
                    raise content.fault
                entries.append(DecryptedEntry(coin, content))
        return entries

    def verify(self, stage: str, within: Sequence[str], *, replacing: Collection[tuple[str, str]] = ()) -> None:
        """Check that a stage's keys and readers belong to its values, before anything is encrypted or wrapped for it.

        `within` names the scopes that must be decrypted; others are checked if possible. Anybody can wrap a key of
        their own for our readers, but it decrypts none of the existing values. A line that is to be replaced may be
        broken, if others prove its key. Raises DecryptionError or InputError. Completes an interrupted change of keys.
        """
        there = compartments(self.folder, stage)
        keys = {name: self._openable(stage, name, needed=name in within) for name in there}
        if stage in self._sound or not there:
            return
        vouched = False
        for compartment, key in keys.items():
            entries = self._sound_values(stage, compartment, replacing) if key else []
            if key is None or not entries:
                continue
            if not self.ring.is_signed(self.jar.app, self.before, stage, compartment):
                raise self._not_vouched(stage, compartment)
            vouched = True
            if key.earlier is not None:
                self._finish(stage, compartment, key, entries)
        if not vouched:  # no value that could prove the keys
            self._verify_empty(stage, [name for name, key in keys.items() if key])
        self._sound.add(stage)

    def _openable(self, stage: str, compartment: str, *, needed: bool) -> DataKey | None:
        try:
            return self.ring.key(stage, compartment)
        except DecryptionError:
            if needed:
                raise
            return None

    def _sound_values(
        self, stage: str, compartment: str, replacing: Collection[tuple[str, str]]
    ) -> list[DecryptedEntry]:
        """Return the decrypted values of a scope.

        Raises the fault of a broken one, unless it is to be replaced and another can be decrypted.
        """
        path = display_path(sealed_path(self.folder, stage))
        entries: list[DecryptedEntry] = []
        broken: list[CoinJarError] = []
        for coin in [entry for entry in self.lines(stage) if entry.compartment == compartment]:
            content = self.ring.open(self.jar, stage, coin, path)
            if not isinstance(content, Undecryptable):
                entries.append(DecryptedEntry(coin, content))
            elif coin.slot in replacing:
                broken.append(content.fault)
            else:
                raise content.fault
        if broken and not entries:
            raise broken[0]
        return entries

    def _verify_empty(self, stage: str, openable: Sequence[str]) -> None:
        """Check a stage without values: its signatures must match; without any, its first key was interrupted, and is
        created again for us alone.
        """
        if all(self.ring.is_signed(self.jar.app, self.before, stage, scope) for scope in openable):
            return
        ours = self.ring.identity().recipients
        if any(f"{stage}.{scope}" in self.before.signatures for scope in openable) or any(
            reader.recipient not in ours for reader in self.readers.of(stage)
        ):
            raise self._not_vouched(stage, ALL)
        self.begin(stage)

    def _finish(self, stage: str, compartment: str, key: DataKey, result: Sequence[DecryptedEntry]) -> None:
        """Complete an interrupted change of keys."""
        slot = (stage, compartment)
        self._keys[slot] = DataKey(key.key, key.earlier, key.naming)
        self._to_wrap.add(slot)
        self._to_vouch.add(slot)
        for entry in result:
            self._seal(stage, compartment, entry.entry.name, entry.content)

    def _not_vouched(self, stage: str, compartment: str) -> InputError:
        location = Location(display_path(readers_path(self.folder)))
        words = (
            f"the readers of {stage} ({compartment}) in this file are not approved by anybody who can decrypt it: it "
            "was changed by hand, or merged"
        )
        hint = f"review them (`coinjar readers list`), correct them, then run `coinjar readers vouch --stage {stage}`"
        return InputError(words, hint=hint, location=location, code="not-vouched")

    # -- changes

    def put(self, stage: str, scope: str, name: str, content: Content) -> None:
        """Encrypt a value for a service or all.

        Raises InputError for an unsupported one, DecryptionError for a key that is not ours.
        """
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
        slots = [(compartment, name) for compartment in variable.scopes_for(scope)]
        if not slots:
            raise InputError(
                f"{name} has no services, so nobody could decrypt it",
                hint="declare its services in jar.yaml",
                location=variable.location,
                code="cannot-seal",
            )
        for compartment, _ in slots:
            self._ensure(stage, compartment, slots)
            self._seal(stage, compartment, name, content)
        if variable.services is not None:
            self.drop(stage, ALL, name)

    def drop(self, stage: str, compartment: str, name: str) -> bool:
        """Remove a value; return whether there was one."""
        there = (compartment, name) in self._slots(stage)
        if there:
            self._changes.setdefault(stage, {})[compartment, name] = None
        return there

    def _seal(self, stage: str, compartment: str, name: str, content: Content) -> None:
        key = self.key(stage, compartment).key
        sealed = seal(key, content, associated(self.jar.app, stage, compartment, name))
        self._changes.setdefault(stage, {})[compartment, name] = SealedEntry(
            compartment=compartment, name=name, key=key.id, sealed=sealed
        )

    def key(self, stage: str, compartment: str) -> DataKey:
        """Return the key for new values."""
        return self._keys.get((stage, compartment)) or self.ring.key(stage, compartment)

    def _ensure(self, stage: str, compartment: str, replacing: Collection[tuple[str, str]]) -> None:
        """Create the key to encrypt with: one that values prove, or a new one for the stage's readers."""
        there = self.compartments(stage)
        if not there:
            self.begin(stage)
        self.verify(stage, [compartment] if compartment in there else there, replacing=replacing)
        if (stage, compartment) not in self._keys and not any(
            coin.compartment == compartment for coin in self.lines(stage)
        ):
            self._new_compartment(stage, compartment)  # a key without encrypted values may be anybody's

    def begin(self, stage: str, *, is_reported: bool = True) -> None:
        """Create the first key of a stage: for whoever runs this, and for the readers of the stages that follow it."""
        identity = self.ring.identity()
        mine = self._own_label(identity.recipients[0])
        labels = [mine]
        strangers = [reader.label for reader in self.before.of(stage) if reader.label != mine]
        if strangers:
            words = (
                f"readers.yaml lists {', '.join(strangers)} for {stage}, which has no key yet, so they are not approved"
            )
            hint = f"remove {stage} from their entries; once it has a key, add them with `coinjar readers add`"
            raise InputError(
                words, hint=hint, location=Location(display_path(readers_path(self.folder))), code="not-vouched"
            )
        for other in sorted({name for reader in self.readers.readers.values() for name in reader.opens}):
            if other != stage and stage in self._followed(other):
                labels += self._vouched_labels(stage, other)
        for label in dict.fromkeys(labels):
            self.grant(label, [stage])
        self._new_compartment(stage, ALL)
        others = [label for label in dict.fromkeys(labels) if label != mine]
        whom = f"you ({mine})" + (f" and {', '.join(others)}, who read stages that follow it" if others else "")
        alone = "" if others else f"; add a second: `coinjar readers add RECIPIENT --label LABEL --stage {stage}`"
        if is_reported:
            self.notes.append(f"created a key for {stage}; {whom} can decrypt it{alone}")

    def _followed(self, stage: str) -> list[str]:
        """Return the stages whose readers need a stage; none if it is not declared any more."""
        try:
            return [SHARED, *(self.jar.chain(stage) if stage != SHARED else ())]
        except UsageError:
            return []

    def _vouched_labels(self, stage: str, other: str) -> list[str]:
        readers = [reader.label for reader in self.before.of(other)]
        try:
            self.verify(other, compartments(self.folder, other))
        except (DecryptionError, InputError):
            left = ", ".join(readers)
            self.notes.append(
                f"{left} read {other}, which you cannot approve, so they cannot decrypt {stage}: run `coinjar "
                "readers add`"
            )
            return []
        return readers

    def _own_label(self, recipient: str) -> str:
        for reader in self.readers.readers.values():
            if reader.recipient == recipient and reader.service is None:
                return reader.label
        try:
            user = pwd.getpwuid(os.getuid()).pw_name
        except KeyError:
            user = "first"
        label = re.sub(r"[^a-z0-9]+", "-", user.lower()).strip("-") or "first"
        label = label if self.readers.readers else self.name_reader(label)
        while label in self.readers.readers:
            label += "-2"
        self.add_reader(Reader(label=label, recipient=recipient, location=Location("")))
        return label

    def _new_compartment(self, stage: str, compartment: str) -> None:
        slot = (stage, compartment)
        self._keys[slot] = DataKey(
            Key.new(), None, (self._naming(stage) or Key.new().key) if compartment == ALL else None
        )
        self._to_wrap.add(slot)
        self._to_vouch.add(slot)

    def _naming(self, stage: str) -> bytes | None:
        """Return the stage's present naming key, encrypted for it or a followed stage, or in `.local`: names and
        digests must not change.
        """
        for layer in reversed([*self._followed(stage), stage]):
            try:
                if result := self.ring.naming_key(layer):
                    return result
            except DecryptionError:
                continue
        return local_naming_key(self.folder)

    # -- readers

    def add_reader(self, reader: Reader) -> None:
        """Add one to the list; it cannot decrypt anything yet."""
        self.readers = Readers({**self.readers.readers, reader.label: reader}, self.readers.signatures)

    def grant(self, label: str, stages: Sequence[str]) -> None:
        """Let a reader decrypt stages: their keys must be verified."""
        reader = self.readers.readers[label]
        self._set_opens(label, [*reader.opens, *(stage for stage in stages if stage not in reader.opens)])
        for stage in stages:
            self._to_vouch |= {(stage, compartment) for compartment in self.compartments(stage)}
            self._to_wrap |= {
                (stage, compartment) for compartment in self.compartments(stage) if reader.reads(compartment)
            }

    def revoke(self, label: str, stage: str) -> None:
        """Remove a stage from a reader, and change the keys that it had."""
        reader = self.readers.readers[label]
        self._set_opens(label, [other_stage for other_stage in reader.opens if other_stage != stage])
        self._to_vouch |= {(stage, compartment) for compartment in self.compartments(stage)}
        self.rekey(stage, [compartment for compartment in self.compartments(stage) if reader.reads(compartment)])

    def _set_opens(self, label: str, opens: Sequence[str]) -> None:
        readers = dict(self.readers.readers)
        if opens:
            readers[label] = readers[label]._replace(opens=tuple(opens))
        else:
            del readers[label]
        self.readers = Readers(readers, self.readers.signatures)

    def rekey(self, stage: str, within: Sequence[str]) -> None:
        """Replace keys, and encrypt every value again; the naming key stays, so that no name changes."""
        for compartment in within:
            slot = (stage, compartment)
            old = self.ring.key(*slot)
            used = {coin.key for coin in self.lines(stage) if coin.compartment == compartment}
            # In an interrupted change, the one that the lines still need: it must decrypt them until they are written
            # again.
            needed = old.earlier if old.earlier is not None and old.earlier.id in used else old.key
            self._keys[slot] = DataKey(Key.new(), needed, old.naming)
            self._to_wrap.add(slot)
            self._to_vouch.add(slot)
            for entry in self.opened(stage, [compartment]):
                self._seal(stage, compartment, entry.entry.name, entry.content)
        self._tidy.add(stage)

    def renew_unused(self, stage: str) -> None:
        """Replace keys without encrypted values: such a key may be anybody's."""
        used = {coin.compartment for coin in self.lines(stage)}
        for compartment in self.compartments(stage):
            if compartment not in used:
                self._new_compartment(stage, compartment)

    def sign_again(self, stage: str) -> None:
        """Wrap keys for the readers in the file and sign the list: after a review."""
        self._to_wrap |= {(stage, compartment) for compartment in self.compartments(stage)}
        self._to_vouch |= {(stage, compartment) for compartment in self.compartments(stage)}

    # -- writing

    def commit(self) -> bool:
        """Write all changes; return whether there were any. The caller holds the lock."""
        if not (self._changes or self._to_wrap or self._to_vouch or self.readers is not self.before):
            return False
        write_attributes(self.folder)
        for slot in sorted(self._to_wrap):
            self._write_key(slot, self.key(*slot))
        self._write_readers()
        for stage in sorted(self._changes):
            path = sealed_path(self.folder, stage)
            old = read_own(path) or b""
            new = changed(old, display_path(path), self._changes[stage], tidy=stage in self._tidy)
            if new != old:
                replace_own(path, new)
        for slot, key in sorted(self._keys.items()):
            if key.earlier is not None:
                self._write_key(slot, DataKey(key.key, None, key.naming))
        return True

    def values_of(self, stage: str) -> Iterator[tuple[bytes, bytes]]:
        """Return the file of a stage's values before and after, to write it with other files.

        Raises InputError if keys would change.
        """
        if self._to_wrap or self._to_vouch:
            hint = "`coinjar readers rekey` finishes it; then run this again"
            raise InputError(
                "a change of keys was interrupted, or a key is missing",
                hint=hint,
                location=Location(display_path(readers_path(self.folder))),
                code="keys",
            )
        if stage in self._changes:
            path = sealed_path(self.folder, stage)
            old = read_own(path) or b""
            yield old, changed(old, display_path(path), self._changes[stage])

    def _write_key(self, slot: tuple[str, str], key: DataKey) -> None:
        stage, compartment = slot
        recipients = [reader.recipient for reader in self.readers.of(stage) if reader.reads(compartment)]
        replace_own(key_path(self.folder, stage, compartment), wrap(key.text(), recipients))

    def _write_readers(self) -> None:
        vouched = dict(self.readers.signatures)
        for stage, compartment in self._to_vouch:
            vouched[f"{stage}.{compartment}"] = (
                vouch(self.key(stage, compartment).key, self.jar.app, stage, self.readers.rows(stage)),
            )
        edits = differences(self.before, Readers(self.readers.readers, dict(sorted(vouched.items()))))
        if edits:
            path = readers_path(self.folder)
            old = without_doubles(read_own(path) or HEAD)
            replace_own(path, apply(old, display_path(path), edits))
