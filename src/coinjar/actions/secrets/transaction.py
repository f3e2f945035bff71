"""Change the sealed part of a jar: what changes is gathered first, verified, and then written in an order that a crash cannot hurt.

A change of keys goes through a state in which the key files hold the new key and the one before it, so that every line opens at any
moment; whoever changes the stage next finishes what was interrupted.
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
"""Characters of a sealed value at most."""


class DecryptedEntry(Record):
    """One line of a stage, and what it says."""

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

    # -- what is there

    def compartments(self, stage: str) -> list[str]:
        """Those that have a key, or will have one."""
        return list(dict.fromkeys([*compartments(self.folder, stage), *(c for s, c in self._keys if s == stage)]))

    def lines(self, stage: str) -> list[SealedEntry]:
        """The stage's sealed values as they stand in the file."""
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
        """The values of a stage, of these compartments (None: of all). Raises DecryptionError for the first that does not open."""
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
        """Make sure that a stage's keys and readers are those that its values vouch for, before anything is sealed or wrapped for it.

        `within` names the compartments that must open; what else opens is looked at too. Anybody can wrap a key of their own for our readers, but
        it opens none of the values that are there. A line that is to be replaced may be broken, if others stand for its key. Raises
        DecryptionError or InputError. What an interrupted change of keys left is finished.
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
        if not vouched:  # nothing is sealed that could stand for the keys
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
        """What opens of a compartment. Raises the fault of what does not, unless it is to be replaced and something else opens."""
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
        """A stage without values: its codes must fit; if it has none, its first key was cut short, and is made anew for us alone."""
        if all(self.ring.is_signed(self.jar.app, self.before, stage, scope) for scope in openable):
            return
        ours = self.ring.identity().recipients
        if any(f"{stage}.{scope}" in self.before.signatures for scope in openable) or any(
            reader.recipient not in ours for reader in self.readers.of(stage)
        ):
            raise self._not_vouched(stage, ALL)
        self.begin(stage)

    def _finish(self, stage: str, compartment: str, key: DataKey, result: Sequence[DecryptedEntry]) -> None:
        """What an interrupted change of keys left to do."""
        slot = (stage, compartment)
        self._keys[slot] = DataKey(key.key, key.earlier, key.naming)
        self._to_wrap.add(slot)
        self._to_vouch.add(slot)
        for entry in result:
            self._seal(stage, compartment, entry.entry.name, entry.content)

    def _not_vouched(self, stage: str, compartment: str) -> InputError:
        location = Location(display_path(readers_path(self.folder)))
        words = f"nobody who opens {stage} ({compartment}) vouches for its readers as they stand in this file: it was changed by hand, or merged"
        hint = f"look at them (`coinjar readers list`), correct them, then `coinjar readers vouch --stage {stage}`"
        return InputError(words, hint=hint, location=location, code="not-vouched")

    # -- changes

    def put(self, stage: str, scope: str, name: str, content: Content) -> None:
        """Seal a value for a service or all. Raises InputError for one that cannot be sealed, DecryptionError for a key that is not ours."""
        if why := can_seal(content):
            raise InputError(
                f"{name} cannot be sealed: {why}",
                hint="encode it as base64, or declare it without secret: true",
                code="cannot-seal",
            )
        if isinstance(content, str) and len(content) > LARGEST:
            hint = "seal a key to it, and keep the large thing elsewhere"
            raise InputError(
                f"{name} cannot be sealed: it has over {LARGEST >> 20} Mi characters", hint=hint, code="cannot-seal"
            )
        variable = self.jar.variables[name]
        slots = [(compartment, name) for compartment in variable.scopes_for(scope)]
        if not slots:
            raise InputError(
                f"{name} is for no service, so nobody could open it",
                hint="give it services in jar.yaml",
                location=variable.location,
                code="cannot-seal",
            )
        for compartment, _ in slots:
            self._ensure(stage, compartment, slots)
            self._seal(stage, compartment, name, content)
        if variable.services is not None:
            self.drop(stage, ALL, name)

    def drop(self, stage: str, compartment: str, name: str) -> bool:
        """Take a value out; says whether there was one."""
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
        """The key that new values get."""
        return self._keys.get((stage, compartment)) or self.ring.key(stage, compartment)

    def _ensure(self, stage: str, compartment: str, replacing: Collection[tuple[str, str]]) -> None:
        """A key to seal under: one that values stand for, or a new one for the stage's readers."""
        there = self.compartments(stage)
        if not there:
            self.begin(stage)
        self.verify(stage, [compartment] if compartment in there else there, replacing=replacing)
        if (stage, compartment) not in self._keys and not any(
            coin.compartment == compartment for coin in self.lines(stage)
        ):
            self._new_compartment(stage, compartment)  # a key that nothing is sealed under yet may be anybody's

    def begin(self, stage: str, *, is_reported: bool = True) -> None:
        """The first key of a stage: for whoever does this, and for the readers of the stages that follow it."""
        identity = self.ring.identity()
        mine = self._own_label(identity.recipients[0])
        labels = [mine]
        strangers = [reader.label for reader in self.before.of(stage) if reader.label != mine]
        if strangers:
            words = f"readers.yaml lists {', '.join(strangers)} for {stage}, which has no key yet, so nobody vouches for that"
            hint = f"take {stage} out of their entries; once it has a key, let them in with `coinjar readers add`"
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
        whom = f"you ({mine})" + (f", and {', '.join(others)}, who read what follows it" if others else "")
        alone = "" if others else f"; add a second: `coinjar readers add RECIPIENT --label LABEL --stage {stage}`"
        if is_reported:
            self.notes.append(f"{stage} has a key now; it opens for {whom}{alone}")

    def _followed(self, stage: str) -> list[str]:
        """What one opens to see all of a stage; nothing, if it is not declared any more."""
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
                f"{left} read {other}, for which you cannot vouch, and so were not given {stage}: `coinjar readers add` does so"
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
        """The naming key that a stage has already, sealed for it or for one that it follows, or in `.local`: names and digests must not change with it."""
        for layer in reversed([*self._followed(stage), stage]):
            try:
                if result := self.ring.naming_key(layer):
                    return result
            except DecryptionError:
                continue
        return local_naming_key(self.folder)

    # -- readers

    def add_reader(self, reader: Reader) -> None:
        """One more in the list; it opens nothing yet."""
        self.readers = Readers({**self.readers.readers, reader.label: reader}, self.readers.signatures)

    def grant(self, label: str, stages: Sequence[str]) -> None:
        """Let a reader open stages: their keys must have been verified."""
        reader = self.readers.readers[label]
        self._set_opens(label, [*reader.opens, *(stage for stage in stages if stage not in reader.opens)])
        for stage in stages:
            self._to_vouch |= {(stage, compartment) for compartment in self.compartments(stage)}
            self._to_wrap |= {
                (stage, compartment) for compartment in self.compartments(stage) if reader.reads(compartment)
            }

    def revoke(self, label: str, stage: str) -> None:
        """Take a stage from a reader, and change the keys that it had."""
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
        """New keys, and every value sealed anew under them; the naming key stays, so that no name changes."""
        for compartment in within:
            slot = (stage, compartment)
            old = self.ring.key(*slot)
            used = {coin.key for coin in self.lines(stage) if coin.compartment == compartment}
            # Of an interrupted change the one that the lines still need: it must open them until they are written anew.
            needed = old.earlier if old.earlier is not None and old.earlier.id in used else old.key
            self._keys[slot] = DataKey(Key.new(), needed, old.naming)
            self._to_wrap.add(slot)
            self._to_vouch.add(slot)
            for entry in self.opened(stage, [compartment]):
                self._seal(stage, compartment, entry.entry.name, entry.content)
        self._tidy.add(stage)

    def renew_unused(self, stage: str) -> None:
        """New keys where nothing is sealed: such a key may be anybody's."""
        used = {coin.compartment for coin in self.lines(stage)}
        for compartment in self.compartments(stage):
            if compartment not in used:
                self._new_compartment(stage, compartment)

    def sign_again(self, stage: str) -> None:
        """Wrap and vouch for the readers as they stand in the file: somebody has looked at them."""
        self._to_wrap |= {(stage, compartment) for compartment in self.compartments(stage)}
        self._to_vouch |= {(stage, compartment) for compartment in self.compartments(stage)}

    # -- writing

    def commit(self) -> bool:
        """Write all of it; says whether there was anything. The lock must be held."""
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
        """The file of a stage's values as it is and as it would be, for whoever writes it together with others. Raises InputError if keys would change."""
        if self._to_wrap or self._to_vouch:
            hint = "`coinjar readers rekey` finishes it; then run this again"
            raise InputError(
                "a change of keys was cut short, or a key is missing",
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
