"""Past deliveries: one delivery as a source, and its undoing."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import closing
from datetime import datetime

from coinjar.actions.delivery.records import open_records
from coinjar.actions.delivery.snapshots import Snapshot, SnapshotPlace, open_snapshot
from coinjar.actions.open_jar import OpenJar
from coinjar.core.compare import FlatSide
from coinjar.core.display import Masker
from coinjar.core.errors import UsageError
from coinjar.core.model import Jar
from coinjar.destinations.stage_view import RenderContext, services_for
from coinjar.records.rows import DeliveryRecord, TargetRecord, VariableRecord
from coinjar.records.store import RecordStore


def services_of(jar: Jar, delivery: DeliveryRecord, target: str) -> list[str]:
    """Return the services of a target from its key: `service`, `service@host`, or none for all of the destination's."""
    named = target.partition("@")[0]
    if named:
        return [named] if named in jar.services else []
    destination = jar.destinations.get(delivery.destination)
    return services_for(destination, jar) if destination else list(jar.services)


def snapshots_of(
    opened: OpenJar, jar: Jar, records: RecordStore, number: int
) -> tuple[DeliveryRecord, dict[str, Snapshot], list[VariableRecord]]:
    """Return a delivery with its decrypted snapshots, by target. Raises UsageError, DecryptionError."""
    delivery, parts, written = records.delivery(number)
    key = RenderContext(jar, opened.folder, Masker(), opened.ring, opened.gate).naming_key(delivery.stage)
    result = {}
    for part in parts:
        if part.snapshot is not None:
            place = SnapshotPlace(jar.recorded, delivery.stage, delivery.destination, part.target, number)
            result[part.target] = open_snapshot(opened, jar, key, place, part.snapshot)
    return delivery, result, written


def earlier_values(
    opened: OpenJar, jar: Jar, records: RecordStore, number: int
) -> tuple[DeliveryRecord, dict[str, dict[str, str | None]], list[str]]:
    """Return the changed variables' values before a delivery, by service and name, and what cannot be restored.

    Raises UsageError if there is nothing to restore, DecryptionError if the snapshot is encrypted for others.
    """
    delivery, snapshots, written = snapshots_of(opened, jar, records, number)
    values: dict[str, dict[str, str | None]] = {}
    left: list[str] = []
    for record in written:
        snapshot = snapshots.get(record.target)
        if snapshot is None:
            continue
        why = _cannot(jar, snapshot, record.name)
        if why:
            left.append(f"{record.name}: {why}")
            continue
        for service in services_of(jar, delivery, record.target):
            if jar.variables[record.name].applies_to(service):
                values.setdefault(service, {})[record.name] = snapshot.before.get(record.name)
    if not values:
        message = f": {'; '.join(left)}" if left else ""
        raise UsageError(
            f"delivery {number} changed nothing that can be restored{message}",
            hint="`coinjar deliveries` lists others",
            code="nothing-to-undo",
        )
    return delivery, values, list(dict.fromkeys(left))


def _cannot(jar: Jar, snapshot: Snapshot, name: str) -> str:
    """Return why a variable cannot be restored; "" if it can."""
    if name not in jar.variables:
        return "the jar does not declare it any more"
    if name in snapshot.left_out:
        return "it is secret, and there was no reader to encrypt the snapshot for"
    if name in snapshot.before and snapshot.before[name] is None:
        return "it could not be read back before"
    return ""


def delivery_number(text: str) -> int:
    """Return the number in `delivery:N`. Raises UsageError."""
    number = text.removeprefix("delivery:")
    if not number.isdigit():
        raise UsageError(
            f"'{text}' is not a delivery",
            hint="write delivery:N; `coinjar deliveries` lists them",
            code="unknown-delivery",
        )
    return int(number)


def delivery_side(opened: OpenJar, jar: Jar, number: int) -> FlatSide:
    """Return the values after a delivery, for `compare delivery:N`. Raises UsageError, DecryptionError."""
    with closing(open_records(opened, jar)) as records:
        delivery, snapshots, _ = snapshots_of(opened, jar, records, number)
    values: dict[str | None, dict[str, str | None]] = {}
    secret: set[str] = set()
    for target, snapshot in snapshots.items():
        for service in services_of(jar, delivery, target):
            values.setdefault(service, {}).update(snapshot.after)
        secret |= snapshot.secret
    if not values:
        raise UsageError(
            f"delivery {number} has no snapshot: it changed nothing",
            hint="`coinjar deliveries` lists others",
            code="no-snapshot",
        )
    return FlatSide(f"delivery:{number}", values, secret)


def whole(opened: OpenJar, number: int) -> tuple[DeliveryRecord, list[TargetRecord], list[VariableRecord]]:
    """Return one delivery. Raises UsageError if there is none."""
    with closing(open_records(opened, opened.load([]))) as records:
        return records.delivery(number)


def listed(opened: OpenJar, most: int | None) -> list[tuple[DeliveryRecord, Mapping[str, int]]]:
    """Return the newest deliveries, each with how many variables it added, changed and removed."""
    with closing(open_records(opened, opened.load([]))) as records:
        rows = records.listed(most)
        counts = records.counts(rows)
        return [(record, counts[record.number]) for record in rows]


def forget(opened: OpenJar, before: datetime, *, only_count: bool) -> int:
    """Forget the deliveries that ended before a time (UTC), except the newest of each place; return how many."""
    with closing(open_records(opened, opened.load([]))) as records:
        return records.forget(before, only_count=only_count)
