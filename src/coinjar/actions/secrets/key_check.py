"""Check that a stage's keys and readers belong to its values."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import TYPE_CHECKING

from coinjar.actions.secrets.first_key import FirstKey
from coinjar.core.definition import SealedEntry, SealedValue, Undecryptable
from coinjar.core.errors import CoinJarError, DecryptionError
from coinjar.core.record import Record
from coinjar.jarfile.keyring import DataKey, scopes
from coinjar.jarfile.layout import JarLayout
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.actions.secrets.transaction import SealedTransaction


class DecryptedEntry(Record):
    """One line of a stage, and its value."""

    entry: SealedEntry
    value: SealedValue


class KeyCheck:
    """Checks a stage before anything is encrypted for it."""

    def __init__(self, transaction: SealedTransaction) -> None:
        self.transaction = transaction

    def verify(self, stage: str, within: Sequence[str], *, replacing: Collection[tuple[str, str]] = ()) -> None:
        """Check that a stage's keys belong to its values, and that its readers are approved, before anything is
        encrypted or wrapped for it.

        `within` names the scopes that must be decrypted; others are checked if possible. Anybody can wrap a key of
        their own for our readers, but it decrypts none of the existing values. A line that is to be replaced may be
        broken, if others prove its key. Raises DecryptionError or InputError. Completes an interrupted change of keys.
        """
        there = scopes(self.transaction.folder, stage)
        keys = {name: self._openable(stage, name, needed=name in within) for name in there}
        if stage in self.transaction.sound or not there:
            return
        proven: dict[str, list[DecryptedEntry]] = {}
        for scope, key in keys.items():
            if key is not None and (entries := self._sound_values(stage, scope, replacing)):
                proven[scope] = entries
        if not self.transaction.approval.verify(stage, is_proven=bool(proven)):
            FirstKey(self.transaction).begin(stage)
        for scope, entries in proven.items():
            key = keys[scope]
            if key is not None and key.earlier is not None and self.transaction.approval.decides(stage):
                self._finish(stage, scope, key, entries)
        self.transaction.sound.add(stage)

    def _openable(self, stage: str, scope: str, *, needed: bool) -> DataKey | None:
        try:
            return self.transaction.ring.key(stage, scope)
        except DecryptionError:
            if needed:
                raise
            return None

    def _sound_values(self, stage: str, scope: str, replacing: Collection[tuple[str, str]]) -> list[DecryptedEntry]:
        """Return the decrypted values of a scope.

        Raises the fault of a broken one, unless it is to be replaced and another can be decrypted.
        """
        path = display_path(JarLayout(self.transaction.folder).sealed(stage))
        entries: list[DecryptedEntry] = []
        broken: list[CoinJarError] = []
        for coin in [entry for entry in self.transaction.lines(stage) if entry.scope == scope]:
            value = self.transaction.ring.open(self.transaction.jar, stage, coin, path)
            content = value.content
            if not isinstance(content, Undecryptable):
                entries.append(DecryptedEntry(coin, value))
            elif coin.slot in replacing:
                broken.append(content.fault)
            else:
                raise content.fault
        if broken and not entries:
            raise broken[0]
        return entries

    def _finish(self, stage: str, scope: str, key: DataKey, result: Sequence[DecryptedEntry]) -> None:
        """Complete an interrupted change of keys."""
        slot = (stage, scope)
        self.transaction.keys[slot] = DataKey(key.key, key.earlier, key.naming)
        self.transaction.to_wrap.add(slot)
        for entry in result:
            self.transaction.seal(stage, scope, entry.entry.name, entry.value)
