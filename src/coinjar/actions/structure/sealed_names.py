"""Rename a stage, a service or the application in encrypted values, keys and readers.

Encrypted values and the approvals of readers are bound to these names, so that nobody can exchange them; whoever can
decrypt them binds them to the new name. What is encrypted for others stays bound to the old one, and is not read until
one of its readers runs the same rename.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.editing.rename_edits import UnchangedUse
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.structure.planned_files import PlannedFiles
from coinjar.core.consent import Act, decrypting, encrypting
from coinjar.core.definition import Content, SealedEntry, SealedValue
from coinjar.core.errors import DecryptionError, InputError, Location, is_encrypted_for_others
from coinjar.core.name_change import APPLICATION, SERVICE, NameChange, service_references
from coinjar.core.reference_renames import spliced
from coinjar.core.references import Template, parse_template
from coinjar.crypto.approval import ApprovalKey, approve, approved_with, fingerprint
from coinjar.crypto.sealed_file import parse, with_entries
from coinjar.crypto.sealing import Unsealer, UnsealError, associated, seal
from coinjar.documents.edit import Edit, apply
from coinjar.documents.tree import TreeNode
from coinjar.jarfile.keyring import DataKey, KeyRing
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.readers import Reader, Readers, read_readers
from coinjar.jarfile.renaming import Splices, rewritten
from coinjar.system.files import display_path


class Coordinates(NamedTuple):
    """What an encrypted value is bound to, besides its own name."""

    app: str
    stage: str
    scope: str

    def before(self, change: NameChange) -> Coordinates:
        """Return the coordinates before the change."""
        back = change.reversed()
        return Coordinates(back.app(self.app), back.stage(self.stage), back.service(self.scope))


class SealedRename:
    """The part of a rename that concerns encrypted values. `app` is the application's new name."""

    def __init__(self, opened: OpenJar, files: PlannedFiles, change: NameChange, app: str) -> None:
        self.opened = opened
        self.layout = JarLayout(opened.folder)
        self.files = files
        self.change = change
        self.app = app
        self.ring: KeyRing = opened.ring()
        self.encrypted_again: dict[str, int] = {}
        """The number of values by the new name of their stage."""
        self.left: list[UnchangedUse] = []
        self.acts: list[Act] = [decrypting(app)] if change.what == APPLICATION else []
        """What whoever renames has consented to under the old name."""
        self._keys: dict[tuple[str, str], tuple[str, str]] = {}

    def plan(self) -> None:
        """Plan all files. Raises InputError, DecryptionError."""
        if self.change.what == APPLICATION and self.opened.gate.has_consent(decrypting(self.change.old)):
            self.opened.decrypt_as(self.change.old)
        self._plan_keys()
        for path in sorted(self.layout.sealed_folder.glob("*.coins")):
            self._plan_values(path)
        self._plan_readers()

    # -- keys: their files get other names, and keep their contents

    def _plan_keys(self) -> None:
        for path in sorted(self.layout.keys_folder.glob("*.age")):
            stage, _, scope = path.stem.partition(".")
            now = self.change.stage(stage), self.change.service(scope)
            if now in self._keys:
                raise self._twice(path, self.layout.key(*self._keys[now]))
            self._keys[now] = stage, scope
            self._move(path, self.layout.key(*now))
        for path in sorted(self.layout.approvals_folder.glob("*.age")):
            self._move(path, self.layout.approval_key(self.change.stage(path.stem)))

    def _move(self, old: Path, new: Path) -> None:
        data = self.files.read(old)
        if old != new and data is not None:
            self.files.move(old, new, data)

    def _twice(self, path: Path, other: Path) -> InputError:
        return InputError(
            f"it would get the same name as {display_path(other)}",
            hint="restore both from version control, then rename again",
            location=Location(display_path(path)),
            code="exists",
        )

    # -- values

    def _plan_values(self, path: Path) -> None:
        stage = self.change.stage(path.stem)
        data = self.files.read(path)
        assert data is not None, "listed before"
        shown = display_path(path)
        entries: dict[int, SealedEntry] = {}
        slots: dict[tuple[str, str], int] = {}
        for entry in parse(data, shown):
            new = self._rebound(stage, path.stem, entry, shown)
            if new is not entry:
                entries[entry.line] = new
            if new.slot in slots:
                raise InputError(
                    f"{entry.name} is already encrypted for {new.scope}, in line {slots[new.slot]}",
                    hint="remove one of the lines",
                    location=Location(shown, entry.line, 1),
                    code="both",
                )
            slots[new.slot] = entry.line
        self.files.move(path, self.layout.sealed(stage), with_entries(data, entries))

    def _rebound(self, stage: str, on_disk: str, entry: SealedEntry, file: str) -> SealedEntry:
        """Return an entry bound to the new names; the same one if nothing of it changes."""
        now = Coordinates(self.app, stage, self.change.service(entry.scope))
        old = now.before(self.change)
        if now == old and self.change.what != SERVICE:
            return entry
        try:
            key = self.ring.key(*self._keys.get(now[1:], (on_disk, entry.scope)))
            value, is_bound = self._value(entry, key, now, old, file)
        except DecryptionError as fault:
            if not is_encrypted_for_others(fault) or fault.code == "no-consent":
                raise
            if now != old:
                self._leave(Location(file, entry.line, 1), f"{entry.name} on {stage}", f"decrypt {stage}")
            return entry._replace(scope=now.scope)
        new = self._with_new_references(value.content)
        if is_bound and new is value.content:
            return entry._replace(scope=now.scope) if entry.scope != now.scope else entry
        if key.earlier is not None:
            raise InputError(
                "a change of keys was interrupted",
                hint="`coinjar readers rekey` finishes it; then rename",
                location=Location(display_path(self.layout.key(*self._keys[now[1:]]))),
                code="keys",
            )
        self.encrypted_again[stage] = self.encrypted_again.get(stage, 0) + 1
        sealed = seal(key.key, value._replace(content=new), associated(*now, entry.name))
        return entry._replace(scope=now.scope, key=key.key.id, sealed=sealed)

    def _value(
        self, entry: SealedEntry, key: DataKey, now: Coordinates, old: Coordinates, file: str
    ) -> tuple[SealedValue, bool]:
        """Return a value, and whether it is bound to the new names already. Raises DecryptionError."""
        for data_key in (key.key, key.earlier):
            for coordinates in (now, old) if data_key is not None and data_key.id == entry.key else ():
                assert data_key is not None
                try:
                    return Unsealer(data_key).open(entry.sealed, associated(*coordinates, entry.name)), (
                        coordinates == now
                    )
                except UnsealError:
                    continue
        raise DecryptionError(
            f"the sealed value of {entry.name} belongs neither to the old nor to the new name, or was changed",
            hint="restore the line and its key from version control, or remove it and set the value again",
            location=Location(file, entry.line, 1),
            code="tampered",
        )

    def _with_new_references(self, content: Content) -> Content:
        if self.change.what != SERVICE or not isinstance(content, Template):
            return content
        places = [(*place, self.change.new) for place in service_references(content.source, self.change.old)]
        return parse_template(spliced(content.source, places)) if places else content

    def _leave(self, location: Location, what: str, who: str) -> None:
        old, new = self.change.old, self.change.new
        words = f"{what} stays bound to the old name until somebody who can {who} runs the same rename ({old} {new})"
        self.left.append(UnchangedUse(location, words))

    # -- readers

    def _plan_readers(self) -> None:
        path = self.layout.readers
        data = self.files.read(path)
        if data is None:
            return
        text = rewritten(data, display_path(path), self._reader_splices)
        after = read_readers(text, display_path(path))
        edits = [Edit(("vouched", stage), line) for stage in after.approvals for line in self._approval(after, stage)]
        self.files.set(path, apply(text, display_path(path), edits) if edits else text)

    def _reader_splices(self, text: str, root: TreeNode) -> Splices:
        for reader in _values(root, "readers"):
            opens = reader.child("opens")
            for stage in opens.elements if opens is not None else ():
                yield from self._renamed(text, stage, self.change.stage(stage.text))
            service = reader.child("service")
            if service is not None:
                yield from self._renamed(text, service, self.change.service(service.text))
        vouched = root.child("vouched")
        for member in vouched.members if vouched is not None else ():
            yield from self._renamed(text, member.key, self.change.stage(member.name))

    def _renamed(self, text: str, node: TreeNode, new: str) -> Splices:
        if new != node.text:
            start = text.index(node.text, node.start, node.end)
            yield start, start + len(node.text), new

    def _approval(self, after: Readers, stage: str) -> Iterator[str]:
        """Yield the new approval of a stage's readers, if it depends on the name and this person can make it."""
        now = Coordinates(self.app, stage, "")
        old = now.before(self.change)
        rows = after.rows(stage)
        rows_before = [self._before(reader).row for reader in after.of(stage)]
        if now == old and rows == rows_before:
            return
        location = Location(display_path(self.layout.readers))
        on_disk = stage if self.layout.approval_key(stage).exists() else old.stage
        try:
            key = self.ring.approval_key(on_disk)
        except DecryptionError as fault:
            if not is_encrypted_for_others(fault) or fault.code == "no-consent":
                raise
            self._leave(location, f"the approval of the readers of {stage}", f"decrypt all of {stage}")
            return
        if key is None:
            return
        lines = after.approvals[stage]
        if approved_with(key, now.app, now.stage, rows, lines):
            return
        approval = approved_with(key, old.app, old.stage, rows_before, lines)
        if approval is None:
            raise InputError(
                f"the readers of {stage} in this file are not approved: it was changed by hand, or merged",
                hint=f"review them (`coinjar readers list`), then `coinjar readers vouch --stage {old.stage}`",
                location=location,
                code="not-vouched",
            )
        if not self.opened.gate.has_consent(encrypting(old.stage, approval)):
            self.opened.gate.require(encrypting(stage, approval))  # as `coinjar consent` lists it, under its new name
        self.acts.append(encrypting(now.stage, fingerprint(_used(key, old, approval), now.app, now.stage)))
        yield approve(_used(key, old, approval), now.app, now.stage, rows)

    def _before(self, reader: Reader) -> Reader:
        service = reader.service and self.change.reversed().service(reader.service)
        return reader._replace(service=service)


def _used(key: ApprovalKey, old: Coordinates, approval: str) -> bytes:
    """Return the key of this fingerprint: in an interrupted change of keys there are two."""
    if key.earlier is not None and fingerprint(key.earlier, old.app, old.stage) == approval:
        return key.earlier
    return key.key


def _values(root: TreeNode, name: str) -> list[TreeNode]:
    section = root.child(name)
    return [member.value for member in section.members] if section is not None else []
