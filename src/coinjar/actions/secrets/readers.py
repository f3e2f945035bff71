"""Manage readers: add, remove, list, change keys."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from coinjar.actions.open_jar import OpenJar
from coinjar.actions.secrets.transaction import SealedTransaction
from coinjar.core.definition import SealedDefinition
from coinjar.core.errors import DecryptionError, Location, UsageError
from coinjar.core.model import Jar
from coinjar.core.names import ALL, SHARED, SMALL_NAME
from coinjar.crypto.age import recipient_fault, without_comment
from coinjar.jarfile.keyring import KeyRing, scopes
from coinjar.jarfile.local_folder import locked
from coinjar.jarfile.readers import Reader, Readers, label_suggestion, load_readers

VOUCHED, NOT_VOUCHED, UNKNOWN = "approved", "not approved", "unknown"


class ReaderGrant(NamedTuple):
    """What a new reader can decrypt: stages, and their present number of values."""

    reader: Reader
    stages: list[str]
    values: int


def chains_of(jar: Jar, stages: Iterable[str]) -> list[str]:
    """Return these stages with `shared` and those they follow: what is needed to read all of their values."""
    return list(dict.fromkeys([SHARED, *(name for stage in stages if stage != SHARED for name in jar.chain(stage))]))


def plan_adding(
    opened: OpenJar, recipient: str, label: str, stages: Sequence[str], *, service: str | None, offline: bool
) -> ReaderGrant:
    """Return what adding a reader would grant. Raises UsageError for an invalid reader."""
    if why := recipient_fault(recipient):
        raise UsageError(
            f"this is not a recipient: {why}",
            hint="`coinjar identity show` prints one, or use a line of an SSH .pub file (ed25519)",
        )
    if not re.fullmatch(SMALL_NAME, label):
        raise UsageError(
            f"'{label}' is not a valid label: 1 to 63 of a-z, 0-9, '-' and '_'", hint="name the person or the machine"
        )
    jar = opened.load([stage for stage in stages if stage != SHARED])
    if service:
        jar.service(service)
    if service and offline:
        raise UsageError("a recovery recipient is for whole stages", hint="omit --service")
    reader = Reader(
        label=label,
        recipient=without_comment(recipient),
        location=Location(""),
        opens=(),
        service=service,
        offline=offline,
    )
    known = load_readers(opened.folder).readers
    same = next((other_reader for other_reader in known.values() if other_reader.recipient == reader.recipient), None)
    if label in known and known[label].row != reader.row:
        raise UsageError(f"'{label}' is already another reader", hint="choose another label, or remove that one first")
    if same and same.label != label:
        raise UsageError(f"this recipient is already '{same.label}'", hint=f"use that label: --label {same.label}")
    wanted = chains_of(jar, stages)
    parts = {
        stage: [scope for scope in scopes(opened.folder, stage) or [ALL] if reader.reads(scope)] for stage in wanted
    }
    values = {
        (stage, name)
        for stage in wanted
        for scope in jar.plain.get(stage, {}).values()
        for name, definition in scope.items()
        if isinstance(definition, SealedDefinition) and definition.scope in parts[stage]
    }
    return ReaderGrant(known.get(label, reader), wanted, len(values))


def add(opened: OpenJar, adding: ReaderGrant) -> list[str]:
    """Add a reader: the keys are wrapped for it too.

    Return remarks. Raises DecryptionError for a stage that is not ours.
    """
    with locked(opened.folder):
        change = SealedTransaction(opened, opened.load(_stages(adding.stages)))
        for stage in adding.stages:
            if change.scopes(stage):
                change.verify(stage, change.scopes(stage))
            else:
                change.begin(stage, is_reported=False)
        if adding.reader.label not in change.readers.readers:
            change.add_reader(adding.reader)
        change.grant(adding.reader.label, adding.stages)
        change.commit()
    return change.notes


def _stages(layers: Iterable[str]) -> list[str]:
    return [layer for layer in layers if layer != SHARED]


class RemovedReader(NamedTuple):
    """What a removed reader could have decrypted, by stage; of those, what was generated again, and what still must be
    replaced.
    """

    could_open: dict[str, list[str]]
    generated: dict[str, list[str]]
    still_opens: list[str]


def stages_of_reader(opened: OpenJar, label: str, named: Sequence[str] | None) -> list[str]:
    """Return the named stages (None: all of the reader's).

    Raises UsageError for an unknown reader, for a stage that it cannot decrypt, and for a stage without another reader.
    """
    readers = load_readers(opened.folder)
    reader = _reader(readers, label)
    if named is not None and (idle := [stage for stage in named if stage not in reader.opens]):
        raise UsageError(f"{label} cannot decrypt {', '.join(idle)}", hint=f"{label} opens {', '.join(reader.opens)}")
    stages = list(reader.opens) if named is None else list(named)
    for stage in stages:
        if reader.service is None and not [reader for reader in readers.people(stage) if reader.label != label]:
            hint = f"add another reader first: `coinjar readers add RECIPIENT --label LABEL --stage {stage}`"
            raise UsageError(f"{label} is the only reader of {stage}: its secrets would be lost", hint=hint)
    return stages


def remove(opened: OpenJar, label: str, stages: Sequence[str] | None, *, generate: bool) -> RemovedReader:
    """Remove stages (None: all) from a reader: replace the keys, and encrypt again every value that it could decrypt.

    `generate` also replaces those values that jar.yaml says how to generate. Raises UsageError, DecryptionError,
    InputError, with nothing written.
    """
    with locked(opened.folder):
        jar = opened.load()
        chosen = stages_of_reader(opened, label, stages)
        reader = _reader(load_readers(opened.folder), label)
        change = SealedTransaction(opened, jar)
        could: dict[str, list[str]] = {}
        made: dict[str, list[str]] = {}
        for stage in chosen:
            change.verify(stage, change.scopes(stage))
            lines = [entry.entry for entry in change.opened(stage) if reader.reads(entry.entry.scope)]
            could[stage] = list(dict.fromkeys(entry.name for entry in lines))
            change.revoke(label, stage)
            if generate:
                made[stage] = _generate_again(change, stage, [entry.slot for entry in lines])
        change.commit()
        left = change.readers.readers.get(label)
    return RemovedReader(could, made, list(left.opens) if left else [])


def _generate_again(change: SealedTransaction, stage: str, slots: list[tuple[str, str]]) -> list[str]:
    """Replace the values that jar.yaml says how to generate: one for all scopes that had the same."""
    from coinjar.core.generators import make, recipe_of

    created = []
    for name in dict.fromkeys(name for _, name in slots):
        variable = change.jar.variables[name]
        if not variable.generate:
            continue
        new: dict[object, str] = {}
        if any(entry.entry.name == name and entry.value.other for entry in change.opened(stage)):
            continue  # it is being rotated: listed as to be replaced by hand
        for entry in change.opened(stage):
            if entry.entry.name == name and isinstance(entry.value.content, str):
                text = new.setdefault(entry.value.content, make(recipe_of(variable), variable))
                change.put(stage, entry.entry.scope, name, text)
        created.append(name)
    return created


def _reader(readers: Readers, label: str) -> Reader:
    if label not in readers.readers:
        raise UsageError(f"there is no reader '{label}'", hint=label_suggestion(label, readers))
    return readers.readers[label]


def rekey(opened: OpenJar, stages: Sequence[str]) -> dict[str, int]:
    """Replace the keys of these stages and encrypt every value again; return how many each has."""
    with locked(opened.folder):
        change = SealedTransaction(opened, opened.load())
        counts = {}
        for stage in stages:
            there = _keys_of(change, stage)
            change.verify(stage, there)
            change.rekey(stage, there)
            counts[stage] = len(change.lines(stage))
        change.commit()
    return counts


def _keys_of(change: SealedTransaction, stage: str) -> list[str]:
    if stage != SHARED:
        change.jar.stage(stage)
    there = change.scopes(stage)
    if not there:
        raise UsageError(
            f"{stage} has no key yet", hint=f"its first secret creates one: `coinjar put NAME --stage {stage}`"
        )
    return there


def vouch(opened: OpenJar, stages: Sequence[str]) -> list[str]:
    """Approve the readers in readers.yaml, and wrap the keys for them: after a review. Return remarks."""
    with locked(opened.folder):
        change = SealedTransaction(opened, opened.load())
        for stage in stages:
            for scope in _keys_of(change, stage):
                change.ring.key(stage, scope)
            change.opened(stage)  # an exchanged key decrypts nothing
            change.renew_unused(stage)
            if not change.readers.people(stage):
                raise UsageError(f"readers.yaml lists nobody who can decrypt all of {stage}", hint="correct it first")
            change.approve_after_review(stage)
        change.commit()
    return change.notes


class ReaderRow(NamedTuple):
    """One reader, for a list. `opens` has the scopes of each stage that it has a key for."""

    reader: Reader
    opens: dict[str, list[str]]


class ReaderList(NamedTuple):
    """All readers, and for each stage whether its list is approved."""

    rows: list[ReaderRow]
    stages: dict[str, str]


def listing(opened: OpenJar) -> ReaderList:
    """Return the readers. Works without an identity: then the approval is unknown."""
    jar = opened.load([])
    readers = load_readers(opened.folder)
    order = [SHARED, *jar.stage_names()]
    named = {stage for reader in readers.readers.values() for stage in reader.opens}
    stages = sorted(named, key=lambda stage: (order.index(stage) if stage in order else len(order), stage))
    rows = [
        ReaderRow(
            reader,
            {stage: [scope for scope in scopes(opened.folder, stage) if reader.reads(scope)] for stage in reader.opens},
        )
        for reader in readers.readers.values()
    ]
    ring = opened.ring()
    return ReaderList(rows, {stage: vouching(jar, ring, readers, stage) for stage in stages})


def vouching(jar: Jar, ring: KeyRing, readers: Readers, stage: str) -> str:
    """Return whether a reader of all of a stage approved its readers, as far as this identity can verify it."""
    try:
        return VOUCHED if ring.approval_of(jar.app, readers, stage) else NOT_VOUCHED
    except DecryptionError:
        return UNKNOWN


def stages_of(opened: OpenJar, named: Sequence[str] | None) -> list[str]:
    """Return the named stages; if none is named, every stage that has a key."""
    if named:
        jar = opened.load([])
        for stage in named:
            if stage != SHARED:
                jar.stage(stage)
        return list(dict.fromkeys(named))
    result = [stage for stage in [SHARED, *opened.load().stage_names()] if scopes(opened.folder, stage)]
    if not result:
        raise UsageError(
            "no stage has a key yet", hint="the first secret creates one: `coinjar put NAME --stage STAGE`"
        )
    return result
