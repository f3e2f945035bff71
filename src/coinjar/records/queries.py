"""What is asked of the records: each question has an index, so that a million deliveries are no obstacle."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Sequence
from contextlib import AbstractContextManager
from datetime import datetime
from typing import Any

from coinjar.core.delivery import LastApplied
from coinjar.core.errors import UsageError
from coinjar.core.recorded_names import RecordedNames
from coinjar.records.database import Transaction
from coinjar.records.rows import DeliveryRecord, TargetRecord, VariableDelivery, VariableRecord

ASKED, RESTARTED, WAITS = "asked", "done", "waits"
"""A target's restart: requested and not confirmed yet, done, or still needed."""
THIS_TARGET = "app = :app AND stage = :stage AND destination = :destination AND target = :target"
_DELIVERIES = f"SELECT {', '.join(DeliveryRecord._fields)} FROM coinjar_deliveries"


class RecordQueries(ABC):
    """The questions. Methods take and return the present names of stages and targets; stored are those of `names`."""

    names: RecordedNames
    app: str

    @abstractmethod
    def connected(self) -> AbstractContextManager[Transaction]:
        """Run one transaction. Raises ExternalError."""

    def of(self, stage: str, destination: str, target: str | None = None) -> dict[str, Any]:
        of = {"app": self.app, "stage": self.names.stage(stage), "destination": destination}
        return of if target is None else of | {"target": self.names.target(target)}

    def last(self, stage: str, destination: str, target: str) -> dict[str, LastApplied]:
        """Return what was delivered last to a target, by name."""
        with self.connected() as transaction:
            rows = transaction.rows(
                f"SELECT name, fingerprint, mark, in_effect FROM coinjar_last WHERE {THIS_TARGET}",
                self.of(stage, destination, target),
            )
            return {name: LastApplied(fingerprint, mark, bool(used)) for name, fingerprint, mark, used in rows}

    def every_last(self) -> list[tuple[str, str, str, str, str]]:
        """Return stage, destination, target, name and fingerprint of everything that was delivered last."""
        with self.connected() as transaction:
            rows = transaction.rows(
                "SELECT stage, destination, target, name, fingerprint FROM coinjar_last WHERE app = :app",
                {"app": self.app},
            )
            names = self.names
            return [(names.present_stage(row[0]), row[1], names.present_target(row[2]), row[3], row[4]) for row in rows]

    def listed(self, most: int | None = None) -> list[DeliveryRecord]:
        """Return the deliveries, newest first."""
        with self.connected() as transaction:
            rows = transaction.rows(
                f"{_DELIVERIES} WHERE app = :app ORDER BY number DESC" + (" LIMIT :most" if most is not None else ""),
                {"app": self.app} | ({"most": most} if most is not None else {}),
            )
            return [self._delivery(row) for row in rows]

    def counts(self, deliveries: Sequence[DeliveryRecord]) -> dict[int, dict[str, int]]:
        """Return how many variables each of these deliveries added, changed and removed."""
        numbers = [delivery.number for delivery in deliveries]
        result: dict[int, dict[str, int]] = {number: {} for number in numbers}
        if not numbers:
            return result
        with self.connected() as transaction:
            for number, action, count in transaction.rows(
                "SELECT delivery, action, count(*) FROM coinjar_changes WHERE delivery BETWEEN :first AND :last"
                " GROUP BY delivery, action",
                {"first": min(numbers), "last": max(numbers)},
            ):
                if number in result:
                    result[number][action] = count
        return result

    def newest(self, stages: Iterable[str]) -> dict[str, DeliveryRecord]:
        """Return the newest delivery of each of these stages that has one."""
        result = {}
        with self.connected() as transaction:
            for stage in stages:
                row = transaction.first(
                    f"{_DELIVERIES} WHERE app = :app AND stage = :stage ORDER BY number DESC LIMIT 1",
                    {"app": self.app, "stage": self.names.stage(stage)},
                )
                if row is not None:
                    result[stage] = self._delivery(row)
        return result

    def delivery(self, number: int) -> tuple[DeliveryRecord, list[TargetRecord], list[VariableRecord]]:
        """Return one delivery with all details. Raises UsageError if there is none."""
        with self.connected() as transaction:
            found = transaction.first(
                f"{_DELIVERIES} WHERE app = :app AND number = :number", {"app": self.app, "number": number}
            )
            if found is None:
                raise UsageError(
                    f"there is no delivery {number}",
                    hint="list them with `coinjar deliveries`",
                    code="unknown-delivery",
                )
            targets = transaction.rows(
                "SELECT target, label, state, restart, notes, snapshot FROM coinjar_parts"
                " WHERE delivery = :number ORDER BY target",
                {"number": number},
            )
            variables = transaction.rows(
                "SELECT target, name, action, secret FROM coinjar_changes WHERE delivery = :number ORDER BY id",
                {"number": number},
            )
            return (
                self._delivery(found),
                [TargetRecord(self.names.present_target(row[0]), *row[1:]) for row in targets],
                [
                    VariableRecord(self.names.present_target(target), name, action, bool(secret))
                    for target, name, action, secret in variables
                ],
            )

    def of_variable(self, names: Sequence[str]) -> list[VariableDelivery]:
        """Return the deliveries that changed a variable, under any of its names, oldest first."""
        result = []
        with self.connected() as transaction:
            for name in names:
                rows = transaction.rows(
                    "SELECT number, stage, destination, who, started, target, action, secret FROM coinjar_changes"
                    " JOIN coinjar_deliveries ON coinjar_changes.delivery = coinjar_deliveries.number"
                    " WHERE app = :app AND name = :name",
                    {"app": self.app, "name": name},
                )
                for number, stage, destination, whose, started, target, action, secret in rows:
                    when = as_time(started)
                    assert when, "a column that is never null"
                    place = self.names.present_stage(stage), destination, whose, when
                    named = self.names.present_target(target)
                    result.append(VariableDelivery(number, *place, named, action, bool(secret)))
        return sorted(result)

    def unanswered(self, stage: str, destination: str, target: str) -> bool:
        """Return whether the newest delivery to a target requested a restart without a confirmation."""
        with self.connected() as transaction:
            row = transaction.first(
                "SELECT coinjar_parts.restart FROM coinjar_parts"
                " JOIN coinjar_deliveries ON coinjar_parts.delivery = coinjar_deliveries.number"
                " WHERE app = :app AND stage = :stage AND destination = :destination AND target = :target"
                " ORDER BY number DESC LIMIT 1",
                self.of(stage, destination, target),
            )
            return row is not None and row[0] == ASKED

    def _delivery(self, row: tuple[Any, ...]) -> DeliveryRecord:
        number, stage, destination, whose, started, ended, state, undoes = row
        began = as_time(started)
        assert began, "a column that is never null"
        present = self.names.present_stage(stage)
        return DeliveryRecord(number, present, destination, whose, began, as_time(ended), state, undoes)


def as_time(value: str | datetime | None) -> datetime | None:
    """Return a time of a row: SQLite returns texts."""
    return datetime.fromisoformat(value) if isinstance(value, str) else value
