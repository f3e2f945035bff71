"""Create the first key of a stage, for its readers."""

from __future__ import annotations

import os
import pwd
import re
from typing import TYPE_CHECKING

from coinjar.core.errors import DecryptionError, InputError, Location, UsageError
from coinjar.core.names import ALL, SHARED
from coinjar.crypto.sealing import Key
from coinjar.jarfile.keyring import DataKey, scopes
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.naming_key import local_naming_key
from coinjar.jarfile.readers import Reader
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.actions.secrets.transaction import SealedTransaction


class FirstKey:
    """Creates a stage's first key."""

    def __init__(self, transaction: SealedTransaction) -> None:
        self.transaction = transaction

    def begin(self, stage: str, *, is_reported: bool = True) -> None:
        """Create the first key of a stage: for whoever runs this, and for the readers of the stages that follow it."""
        identity = self.transaction.ring.identity()
        for reader in self.transaction.before.readers.values():
            if reader.service and reader.recipient in identity.recipients:
                raise InputError(
                    f"{reader.label} is a reader of {reader.service} alone, and cannot create the first key of {stage}",
                    hint="let a reader of whole stages set its first secret",
                    location=reader.location,
                    code="not-for-us",
                )
        mine = self._own_label(identity.recipients[0])
        labels = [mine]
        strangers = [reader.label for reader in self.transaction.before.of(stage) if reader.label != mine]
        if strangers:
            message = (
                f"readers.yaml lists {', '.join(strangers)} for {stage}, which has no key yet, so they are not approved"
            )
            hint = f"remove {stage} from their entries; once it has a key, add them with `coinjar readers add`"
            raise InputError(
                message,
                hint=hint,
                location=Location(display_path(JarLayout(self.transaction.folder).readers)),
                code="not-vouched",
            )
        for other in sorted({name for reader in self.transaction.readers.readers.values() for name in reader.opens}):
            if other != stage and stage in self._followed(other):
                labels += self._vouched_labels(stage, other)
        self.transaction.approval.begin(stage)
        for label in dict.fromkeys(labels):
            self.transaction.grant(label, [stage])
        self.new_scope(stage, ALL)
        others = [label for label in dict.fromkeys(labels) if label != mine]
        whom = f"you ({mine})" + (f" and {', '.join(others)}, who read stages that follow it" if others else "")
        alone = "" if others else f"; add a second: `coinjar readers add RECIPIENT --label LABEL --stage {stage}`"
        if is_reported:
            self.transaction.notes.append(f"created a key for {stage}; {whom} can decrypt it{alone}")

    def _followed(self, stage: str) -> list[str]:
        """Return the stages whose readers need a stage; none if it is not declared any more."""
        try:
            return [SHARED, *(self.transaction.jar.chain(stage) if stage != SHARED else ())]
        except UsageError:
            return []

    def _vouched_labels(self, stage: str, other: str) -> list[str]:
        readers = [reader.label for reader in self.transaction.before.of(other)]
        try:
            self.transaction.verify(other, scopes(self.transaction.folder, other))
            self.transaction.approval.require(other)
        except (DecryptionError, InputError):
            left = ", ".join(readers)
            self.transaction.notes.append(
                f"{left} read {other}, which you cannot approve, so they cannot decrypt {stage}: run `coinjar "
                "readers add`"
            )
            return []
        return readers

    def _own_label(self, recipient: str) -> str:
        for reader in self.transaction.readers.readers.values():
            if reader.recipient == recipient and reader.service is None:
                return reader.label
        try:
            user = pwd.getpwuid(os.getuid()).pw_name
        except KeyError:
            user = "first"
        label = re.sub(r"[^a-z0-9]+", "-", user.lower()).strip("-") or "first"
        label = label if self.transaction.readers.readers else self.transaction.name_reader(label)
        while label in self.transaction.readers.readers:
            label += "-2"
        self.transaction.add_reader(Reader(label=label, recipient=recipient, location=Location("")))
        return label

    def new_scope(self, stage: str, scope: str) -> None:
        """Create a key for a service or all, for the readers of the stage. Raises DecryptionError."""
        self.transaction.approval.require(stage)
        slot = (stage, scope)
        self.transaction.keys[slot] = DataKey(
            Key.new(), None, (self._naming(stage) or Key.new().key) if scope == ALL else None
        )
        self.transaction.to_wrap.add(slot)

    def _naming(self, stage: str) -> bytes | None:
        """Return the stage's present naming key, encrypted for it or a followed stage, or in `.local`: names and
        digests must not change.
        """
        for layer in reversed([*self._followed(stage), stage]):
            try:
                if result := self.transaction.ring.naming_key(layer):
                    return result
            except DecryptionError:
                continue
        return local_naming_key(self.transaction.folder)
