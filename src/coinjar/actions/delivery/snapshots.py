"""Snapshots of a target before and after a delivery: encrypted for the stage's readers, to undo and compare."""

from __future__ import annotations

import hmac
import json
from collections.abc import Mapping
from typing import NamedTuple

from coinjar.actions.open_jar import OpenJar
from coinjar.core.consent import encrypting
from coinjar.core.delivery import DesiredValue, LiveValue
from coinjar.core.errors import DecryptionError
from coinjar.core.model import Jar
from coinjar.core.names import SHARED
from coinjar.core.recorded_names import RecordedNames
from coinjar.core.secret import Secret, reveal

_PLAIN = b"plain\n"
_SEALED = b"sealed\n"
_SIGNED = "snapshot "


class SnapshotPlace(NamedTuple):
    """Which delivery to which target a snapshot belongs to."""

    names: RecordedNames
    stage: str
    destination: str
    target: str
    number: int


class Snapshot(NamedTuple):
    """The values before, and after: texts by name, None for one that could not be read.

    `left_out`: secrets without a reader to encrypt for.
    """

    before: dict[str, str | None]
    after: dict[str, str | None]
    secret: frozenset[str]
    left_out: frozenset[str]


def recipients(opened: OpenJar, jar: Jar, stage: str) -> list[str]:
    """Return the recipients of a stage's snapshots: the approved readers of all of it, or of the nearest stage that it
    follows.

    Never those of `shared`: they are more, and a place may contain secrets of the stage alone.
    """
    from coinjar.jarfile.readers import load_readers

    readers = load_readers(opened.folder)
    ring = opened.ring()
    for layer in reversed(jar.chain(stage)) if stage != SHARED else [SHARED]:
        people = readers.people(layer)
        if not people:
            continue
        try:
            approval = ring.approval_of(jar.app, readers, layer)
        except DecryptionError as fault:
            if fault.code != "not-for-us":
                raise
            return list(opened.identity().recipients)  # of one service, which cannot verify who else may read it
        if approval is None:
            raise DecryptionError(
                f"the readers of {layer} are not approved, so no snapshot is encrypted for them",
                hint="review them with `coinjar readers list`, then run `coinjar readers vouch`",
                code="not-vouched",
            )
        opened.gate.require(encrypting(layer, approval))
        return [reader.recipient for reader in people]
    return []


def take(to: list[str], live: Mapping[str, LiveValue], desired_values: Mapping[str, DesiredValue]) -> bytes:
    """Return a snapshot in stored form. Without recipients, secrets are omitted."""
    secret = {name for name, live_value in live.items() if live_value.secret and not live_value.supplied} | {
        name for name, desired in desired_values.items() if desired.secret
    }
    left_out = secret if not to else set[str]()
    before = {
        name: reveal(live_value.text) if live_value.text is not None else None
        for name, live_value in live.items()
        if not live_value.supplied and not live_value.inherited
    }
    after: dict[str, str | None] = {name: reveal(desired.text) for name, desired in desired_values.items()}
    data = {
        "before": {name: value for name, value in before.items() if name not in left_out},
        "after": {name: value for name, value in after.items() if name not in left_out},
        "secret": sorted(secret),
        "left_out": sorted(left_out),
    }
    value = json.dumps(data, ensure_ascii=True).encode()
    if not to:
        return _PLAIN + value
    from coinjar.crypto.age import wrap

    return _SEALED + wrap(value, to)


def signed(key: bytes, place: SnapshotPlace, stored: bytes) -> bytes:
    """Return a stored form with the code of whoever made it: nobody without the stage's key can put another snapshot,
    or this one elsewhere, into the records.
    """
    return f"{_SIGNED}{_code(key, place, stored)}\n".encode() + stored


def _code(key: bytes, place: SnapshotPlace, stored: bytes) -> str:
    """Return the HMAC-SHA-256, under a key derived from the stage's naming key (HKDF, RFC 5869)."""
    from cryptography.hazmat.primitives.hashes import SHA256
    from cryptography.hazmat.primitives.kdf.hkdf import HKDF

    derived = HKDF(SHA256(), 32, salt=None, info=b"coinjar snapshot 1").derive(key)
    names = place.names
    recorded = names.app, names.stage(place.stage), place.destination, names.target(place.target)
    where = "\0".join((*recorded, str(place.number)))
    return hmac.digest(derived, where.encode() + b"\0" + stored, "sha256").hex()


def open_snapshot(opened: OpenJar, jar: Jar, key: bytes, place: SnapshotPlace, kept: bytes) -> Snapshot:
    """Return the snapshot of a stored form. Raises DecryptionError, also for one that nobody with the key made."""
    head, _, stored = kept.partition(b"\n")
    code = head.decode("ascii", "replace").removeprefix(_SIGNED)
    if not hmac.compare_digest(_code(key, place, stored).encode(), code.encode()):
        raise _foreign(place, "was not made by a reader of the stage, for this delivery")
    if not stored.startswith(_SEALED) and _has_people(opened, jar, place.stage):
        raise _foreign(place, f"is not encrypted, although {place.stage} has readers")
    value = stored.removeprefix(_PLAIN)
    if stored.startswith(_SEALED):
        from coinjar.crypto.age import DamagedFile, NotARecipient

        try:
            value = opened.identity().unwrap(stored.removeprefix(_SEALED))
        except (NotARecipient, DamagedFile):
            hint = "ask somebody who could read all of the stage at the time of the delivery"
            raise DecryptionError(
                f"the snapshot of delivery {place.number} is not encrypted for you", hint=hint, code="not-for-us"
            ) from None
    data = json.loads(value)
    secret = frozenset(data["secret"])

    def hidden(texts: Mapping[str, str | None]) -> dict[str, str | None]:
        return {
            name: Secret(other_name) if other_name is not None and name in secret else other_name
            for name, other_name in texts.items()
        }

    return Snapshot(hidden(data["before"]), hidden(data["after"]), secret, frozenset(data["left_out"]))


def _foreign(place: SnapshotPlace, words: str) -> DecryptionError:
    return DecryptionError(
        f"the snapshot of delivery {place.number} to {place.destination} {words}, so it is not used",
        hint="restore the records, or set the values by hand",
        code="tampered",
    )


def _has_people(opened: OpenJar, jar: Jar, stage: str) -> bool:
    from coinjar.jarfile.readers import load_readers

    readers = load_readers(opened.folder)
    return any(readers.people(layer) for layer in (jar.chain(stage) if stage != SHARED else [SHARED]))
