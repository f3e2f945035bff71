"""The approval of readers: who is encrypted for is decided with a key that only readers of all of a stage have."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.core.consent import encrypting
from coinjar.core.errors import DecryptionError, InputError, Location
from coinjar.crypto.age import wrap
from coinjar.crypto.approval import ApprovalKey, approve, fingerprint
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.sealed_files import replace_sealed_file
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.actions.secrets.transaction import SealedTransaction


class ReaderApproval:
    """The part of a transaction that verifies, makes and writes approvals.

    An identity of one service cannot verify a list: it can replace values under keys that it has, and nothing else.
    """

    def __init__(self, transaction: SealedTransaction) -> None:
        self.transaction = transaction
        self.to_approve: set[str] = set()
        self._keys: dict[str, ApprovalKey] = {}
        self._to_wrap: set[str] = set()
        self._limited: dict[str, DecryptionError] = {}

    @property
    def is_pending(self) -> bool:
        """Whether there is anything to write."""
        return bool(self.to_approve or self._to_wrap)

    # -- verifying

    def verify(self, stage: str, *, is_proven: bool) -> bool:
        """Check that the readers of a stage are approved, with a key that this person consented to encrypt for.

        `is_proven`: its values prove its keys. Return whether the stage has begun: a first key that was interrupted has
        not. Raises InputError, DecryptionError.
        """
        transaction = self.transaction
        try:
            approval = transaction.ring.approval_of(transaction.jar.app, transaction.before, stage)
        except DecryptionError as fault:
            if fault.code != "not-for-us" or self._is_listed(stage):
                raise self.not_approved(stage) if fault.code == "not-for-us" else fault from None
            self._limited[stage] = fault
            return True
        if approval is None:
            ours = transaction.ring.identity().recipients
            others = any(reader.recipient not in ours for reader in transaction.readers.of(stage))
            if is_proven or others or transaction.before.approvals.get(stage):
                raise self.not_approved(stage)
            return False
        transaction.gate.require(encrypting(stage, approval))
        key = self._key(stage)
        if key.earlier is not None:  # a change of keys was interrupted: before the list was written, or after it
            if fingerprint(key.key, transaction.jar.app, stage) == approval:
                self._keys[stage] = ApprovalKey(key.key)
            else:
                self._keys[stage] = ApprovalKey(key.earlier)
            self._to_wrap.add(stage)
        return True

    def decides(self, stage: str) -> bool:
        """Return whether this identity may decide who reads the stage; it was verified before."""
        return stage not in self._limited

    def require(self, stage: str) -> None:
        """Raise DecryptionError unless this identity may decide who reads the stage."""
        if stage in self._limited:
            raise self._limited[stage]

    def not_approved(self, stage: str) -> InputError:
        """Return the fault of a list that nobody approved."""
        jar = self.transaction.jar
        declared = jar.stages.get(stage)
        named = [
            *((("stages", old, stage) for old in declared.formerly) if declared else ()),
            *(("services", old, service.name) for service in jar.services.values() for old in service.formerly),
            *(("app", old, jar.app) for old in jar.formerly),
        ]
        renames = " or ".join(f"`coinjar {what} rename {old} {new}`" for what, old, new in named)
        return InputError(
            f"the readers of {stage} in this file are not approved by anybody who can decrypt all of it: it was "
            "changed by hand, or merged",
            hint=(f"after a rename, complete it: {renames}; otherwise " if renames else "")
            + f"review them (`coinjar readers list`), correct them, then `coinjar readers vouch --stage {stage}`",
            location=Location(display_path(JarLayout(self.transaction.folder).readers)),
            code="not-vouched",
        )

    def _is_listed(self, stage: str) -> bool:
        """Return whether readers.yaml lists this identity for all of a stage: then it should have the key."""
        ours = self.transaction.ring.identity().recipients
        return any(reader.recipient in ours for reader in self.transaction.before.people(stage))

    # -- changing

    def begin(self, stage: str) -> None:
        """Make a new key."""
        self._keys[stage] = ApprovalKey.new()
        self.approve(stage, rewrapping=True)

    def approve(self, stage: str, *, rewrapping: bool) -> None:
        """Approve the list; `rewrapping`: readers of all of the stage were added."""
        self.require(stage)
        self.to_approve.add(stage)
        if rewrapping:
            self._to_wrap.add(stage)

    def replace_key(self, stage: str) -> None:
        """Replace the key, because somebody who has it is no longer a reader."""
        self.require(stage)
        self._keys[stage] = ApprovalKey.new(self._key(stage).key)
        self.approve(stage, rewrapping=True)

    def approve_after_review(self, stage: str) -> None:
        """Approve the list in the file; a key that is missing, or that this person did not consent to, is replaced: who
        reviews a list does not see who else has the key. Raises DecryptionError.
        """
        app = self.transaction.jar.app
        try:
            key = self.transaction.ring.approval_key(stage)
            is_usable = key is not None and self.transaction.gate.has_consent(
                encrypting(stage, fingerprint(key.key, app, stage))
            )
        except DecryptionError as fault:
            if fault.code != "tampered" and not (fault.code == "not-for-us" and self._is_listed(stage)):
                raise
            is_usable = False
        self._limited.pop(stage, None)
        if is_usable:
            self.approve(stage, rewrapping=True)
        else:
            self.begin(stage)
            self.transaction.notes.append(
                f"the approval of {stage} has a new key, {fingerprint(self._keys[stage].key, app, stage)}: the other "
                "readers consent to it once (`coinjar consent`)"
            )

    def _key(self, stage: str) -> ApprovalKey:
        key = self._keys.get(stage) or self.transaction.ring.approval_key(stage)
        assert key is not None, "verified or begun before"
        return key

    # -- writing

    def lines(self) -> dict[str, tuple[str, ...]]:
        """Return the new approvals by stage."""
        app, readers = self.transaction.jar.app, self.transaction.readers
        return {
            stage: (approve(self._key(stage).key, app, stage, readers.rows(stage)),)
            for stage in sorted(self.to_approve)
        }

    def write_keys(self) -> None:
        """Write the keys, before the list: a previous one stays in the file until `forget_earlier_keys`."""
        self.record_consents()
        for path, data in self.key_files():
            replace_sealed_file(path, data)

    def record_consents(self) -> None:
        """Record that whoever approves a list has consented to it."""
        app = self.transaction.jar.app
        acts = [encrypting(stage, fingerprint(self._key(stage).key, app, stage)) for stage in sorted(self.to_approve)]
        self.transaction.gate.record(*acts)

    def key_files(self) -> Iterator[tuple[Path, bytes]]:
        """Yield the files of the keys to write."""
        for stage in sorted(self._to_wrap):
            yield self._file(stage, self._key(stage))

    def forget_earlier_keys(self) -> None:
        """Remove previous keys from the files, after the list was written."""
        for stage, key in sorted(self._keys.items()):
            if key.earlier is not None:
                replace_sealed_file(*self._file(stage, ApprovalKey(key.key)))

    def _file(self, stage: str, key: ApprovalKey) -> tuple[Path, bytes]:
        people = [reader.recipient for reader in self.transaction.readers.people(stage)]
        return JarLayout(self.transaction.folder).approval_key(stage), wrap(key.text(), people)
