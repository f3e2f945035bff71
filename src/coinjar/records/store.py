"""The records of deliveries: created at the start, updated during a delivery, queried later."""

from __future__ import annotations

import contextlib
import getpass
import os
import socket
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from coinjar.core.delivery import DeliveryChange, LastApplied
from coinjar.core.errors import CoinJarError, ExternalError, InputError, Location, UsageError
from coinjar.core.recorded_names import RecordedNames
from coinjar.core.secret import reveal
from coinjar.records.database import Database, DatabaseError, PostgresDatabase, SqliteDatabase, Transaction, Values
from coinjar.records.rows import DeliveryRecord, TargetRecord, VariableDelivery, VariableRecord
from coinjar.system.files import display_path

RUNNING, DONE, FAILED, INTERRUPTED = "running", "done", "failed", "interrupted"
ASKED, RESTARTED, WAITS = "asked", "done", "waits"
"""A target's restart: requested and not confirmed yet, done, or still needed."""


def now() -> datetime:
    """Return UTC as stored: without a zone, to the second."""
    return datetime.now(UTC).replace(tzinfo=None, microsecond=0)


def who() -> str:
    """Return who delivers, for display: user and machine."""
    try:
        user = getpass.getuser()
    except (KeyError, OSError):
        user = str(os.getuid())
    return f"{user} on {socket.gethostname()}"


class RecordStore:
    """The records of one application, at a path (SQLite), at an address (PostgreSQL), or None: then there are none yet.

    Methods take and return the present names of stages and targets; stored are those of `names`.

    Raises ExternalError if they cannot be accessed.
    """

    def __init__(
        self,
        names: RecordedNames,
        place: Path | str | None,
        *,
        password: str | None = None,
        origin: Location | None = None,
    ) -> None:
        self.names = names
        self.app = names.app
        self.origin = origin
        self.shown = display_path(place) if isinstance(place, Path) else "the records' database"
        self.database = self._shared(place, password) if isinstance(place, str) else _sqlite(place)
        try:
            self._make_tables()
        except ExternalError:  # another process created them at the same time; any other failure appears again
            self._make_tables()

    def _make_tables(self) -> None:
        with self._told():
            self.database.make_tables()

    def _shared(self, address: str, password: str | None) -> Database:
        try:
            scheme, has_password = urlsplit(address).scheme, urlsplit(address).password is not None
        except ValueError:
            raise self._wrong("it is not an address") from None
        if scheme and scheme not in ("postgresql", "postgres"):
            raise self._wrong("only PostgreSQL can be shared")
        if not scheme:
            raise self._wrong("it is not an address")
        if has_password:
            raise self._wrong("it contains a password, and others can read jar.yaml")
        try:
            return PostgresDatabase(address, reveal(password) if password else None)
        except ValueError:
            raise self._wrong("it is not an address") from None
        except ModuleNotFoundError:
            raise InputError(
                "records in PostgreSQL need a driver",
                hint="pip install 'coinjar[postgresql]'",
                location=self.origin,
                code="no-driver",
            ) from None

    def _wrong(self, words: str) -> CoinJarError:
        hint = "write postgresql://USER@HOST/DATABASE, and password: {from_env: NAME}"
        return InputError(f"the address of the records: {words}", hint=hint, location=self.origin, code="records")

    @contextlib.contextmanager
    def _told(self) -> Iterator[None]:
        """Raise ExternalError for a failure of the database."""
        try:
            yield
        except DatabaseError as fault:
            hint = (
                "check the file and the free space"
                if self.database.system == "sqlite"
                else "check that it is running, and the address and password"
            )
            raise ExternalError(f"{self.shown}: {fault}", hint=hint, location=self.origin, code="records") from None

    @contextlib.contextmanager
    def connected(self) -> Iterator[Transaction]:
        """Run one transaction. Raises ExternalError."""
        with self._told(), self.database.transaction() as transaction:
            yield transaction

    def close(self) -> None:
        """Close the connection."""
        self.database.close()

    # -- writing

    def begin(self, stage: str, destination: str, undoes: int | None = None) -> int:
        """Return a new delivery's number. Unfinished ones (their lock is ours now) are marked as interrupted."""
        self.mark_interrupted(stage, destination)
        values: Values = self._of(stage, destination) | {
            "who": who(),
            "started": now(),
            "state": RUNNING,
            "undoes": undoes,
        }
        with self.connected() as transaction:
            (row,) = transaction.rows(
                "INSERT INTO coinjar_deliveries (app, stage, destination, who, started, state, undoes)"
                " VALUES (:app, :stage, :destination, :who, :started, :state, :undoes) RETURNING number",
                values,
            )
            return int(row[0])

    def mark_interrupted(self, stage: str, destination: str) -> None:
        """Mark running deliveries as interrupted: the caller holds the lock, or knows that nobody does."""
        with self.connected() as transaction:
            transaction.execute(
                "UPDATE coinjar_deliveries SET state = :new WHERE app = :app AND stage = :stage"
                " AND destination = :destination AND state = :old",
                self._of(stage, destination) | {"new": INTERRUPTED, "old": RUNNING},
            )

    def begin_part(
        self, number: int, target: str, label: str, snapshot: bytes | None, planned: Iterable[DeliveryChange]
    ) -> None:
        """Record, before the first write to a target, what will change and what was there before."""
        of: dict[str, Any] = {"delivery": number, "target": self.names.target(target)}
        with self.connected() as transaction:
            transaction.execute(
                "INSERT INTO coinjar_parts (delivery, target, label, state, restart, notes, snapshot)"
                " VALUES (:delivery, :target, :label, :state, '', '', :snapshot)",
                of | {"label": label, "state": RUNNING, "snapshot": snapshot},
            )
            transaction.execute_each(
                "INSERT INTO coinjar_changes (delivery, target, name, action, secret)"
                " VALUES (:delivery, :target, :name, :action, :secret)",
                [of | {"name": change.name, "action": change.action, "secret": change.secret} for change in planned],
            )

    def set_part(
        self,
        number: int,
        target: str,
        *,
        state: str | None = None,
        restart: str | None = None,
        notes: str | None = None,
    ) -> None:
        """Update a target's state, restart, notes; None leaves one as it is."""
        with self.connected() as transaction:
            transaction.execute(
                "UPDATE coinjar_parts SET state = coalesce(:state, state), restart = coalesce(:restart, restart),"
                " notes = coalesce(:notes, notes) WHERE delivery = :delivery AND target = :target",
                {
                    "delivery": number,
                    "target": self.names.target(target),
                    "state": state,
                    "restart": restart,
                    "notes": notes,
                },
            )

    def end(self, number: int, state: str) -> None:
        """Record the end of a delivery."""
        with self.connected() as transaction:
            transaction.execute(
                "UPDATE coinjar_deliveries SET state = :state, ended = :ended WHERE number = :number",
                {"number": number, "state": state, "ended": now()},
            )

    def remember(
        self,
        number: int,
        stage: str,
        destination: str,
        target: str,
        delivered: Mapping[str, LastApplied],
        gone: Sequence[str],
    ) -> None:
        """Record what a target has now, variable by variable."""
        of = self._of(stage, destination, target)
        with self.connected() as transaction:
            transaction.execute_each(
                f"DELETE FROM coinjar_last WHERE {_TARGET} AND name = :name",  # noqa: S608 - a constant
                [of | {"name": name} for name in (*delivered, *gone)],
            )
            transaction.execute_each(
                "INSERT INTO coinjar_last (app, stage, destination, target, name, fingerprint, mark, in_effect,"
                " delivery) VALUES (:app, :stage, :destination, :target, :name, :fingerprint, :mark, :in_effect,"
                " :delivery)",
                [
                    of
                    | {
                        "delivery": number,
                        "name": name,
                        "fingerprint": applied.fingerprint,
                        "mark": applied.version,
                        "in_effect": applied.in_effect,
                    }
                    for name, applied in delivered.items()
                ],
            )

    def took_effect(self, stage: str, destination: str, target: str) -> None:
        """Record that everything delivered to a target is in use; removed variables are forgotten."""
        of = self._of(stage, destination, target)
        with self.connected() as transaction:
            transaction.execute(
                f"DELETE FROM coinjar_last WHERE {_TARGET} AND fingerprint = ''",  # noqa: S608 - a constant
                of,
            )
            transaction.execute(
                f"UPDATE coinjar_last SET in_effect = :yes WHERE {_TARGET}",  # noqa: S608 - a constant
                of | {"yes": True},
            )

    def _of(self, stage: str, destination: str, target: str | None = None) -> dict[str, Any]:
        of = {"app": self.app, "stage": self.names.stage(stage), "destination": destination}
        return of if target is None else of | {"target": self.names.target(target)}

    # -- reading

    def last(self, stage: str, destination: str, target: str) -> dict[str, LastApplied]:
        """Return what was delivered last to a target, by name."""
        with self.connected() as transaction:
            rows = transaction.rows(
                f"SELECT name, fingerprint, mark, in_effect FROM coinjar_last WHERE {_TARGET}",  # noqa: S608 - constant
                self._of(stage, destination, target),
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

    def counts(self) -> dict[int, dict[str, int]]:
        """Return how many variables each delivery added, changed and removed."""
        result: dict[int, dict[str, int]] = {}
        with self.connected() as transaction:
            for number, action, count in transaction.rows(
                "SELECT delivery, action, count(*) FROM coinjar_changes GROUP BY delivery, action"
            ):
                result.setdefault(number, {})[action] = count
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
                " ORDER BY coinjar_parts.delivery DESC LIMIT 1",
                self._of(stage, destination, target),
            )
            return row is not None and row[0] == ASKED

    def _delivery(self, row: tuple[Any, ...]) -> DeliveryRecord:
        number, stage, destination, whose, started, ended, state, undoes = row
        began = as_time(started)
        assert began, "a column that is never null"
        present = self.names.present_stage(stage)
        return DeliveryRecord(number, present, destination, whose, began, as_time(ended), state, undoes)


_TARGET = "app = :app AND stage = :stage AND destination = :destination AND target = :target"
_DELIVERIES = f"SELECT {', '.join(DeliveryRecord._fields)} FROM coinjar_deliveries"  # noqa: S608 - a constant


def as_time(value: str | datetime | None) -> datetime | None:
    """Return a time of a row: SQLite returns texts."""
    return datetime.fromisoformat(value) if isinstance(value, str) else value


def _sqlite(path: Path | None) -> Database:
    """Return a file that only its owner can read; for None a database in memory."""
    if path is None:
        return SqliteDatabase(None)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        os.close(os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600))
    except OSError as fault:
        if path.is_file() and os.access(path, os.R_OK):
            return SqliteDatabase(str(path), readonly=True)
        message = f"cannot write it: {(fault.strerror or 'unknown error').lower()}"
        raise ExternalError(
            message, hint="check the folder's permissions", location=Location(display_path(path)), code="records"
        ) from None
    return SqliteDatabase(str(path))
