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
from coinjar.core.errors import CoinJarError, ExternalError, InputError, Location
from coinjar.core.recorded_names import RecordedNames
from coinjar.core.secret import reveal
from coinjar.records.database import Database, DatabaseError, PostgresDatabase, SqliteDatabase, Transaction, Values
from coinjar.records.queries import THIS_TARGET, RecordQueries
from coinjar.system.files import display_path

RUNNING, DONE, FAILED, INTERRUPTED = "running", "done", "failed", "interrupted"


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


class RecordStore(RecordQueries):
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
            try:
                self._make_tables()
            except ExternalError:
                self.close()
                raise

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
        values: Values = self.of(stage, destination) | {
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
                " AND destination = :destination AND state = 'running'",  # as its index says
                self.of(stage, destination) | {"new": INTERRUPTED},
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
        of = self.of(stage, destination, target)
        with self.connected() as transaction:
            transaction.execute_each(
                f"DELETE FROM coinjar_last WHERE {THIS_TARGET} AND name = :name",
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
        of = self.of(stage, destination, target)
        with self.connected() as transaction:
            transaction.execute(
                f"DELETE FROM coinjar_last WHERE {THIS_TARGET} AND fingerprint = ''",
                of,
            )
            transaction.execute(
                f"UPDATE coinjar_last SET in_effect = :yes WHERE {THIS_TARGET}",
                of | {"yes": True},
            )

    def forget(self, before: datetime, *, only_count: bool = False) -> int:
        """Forget deliveries that ended before a time (UTC), or were interrupted, except the newest of each place, which
        says what is there; return how many they are. What was delivered last to a target stays known.
        """
        old = (
            "app = :app AND coalesce(ended, started) < :before AND state <> 'running' AND number NOT IN"
            " (SELECT max(number) FROM coinjar_deliveries WHERE app = :app GROUP BY stage, destination)"
        )
        values: Values = {"app": self.app, "before": before}
        with self.connected() as transaction:
            count = transaction.first(f"SELECT count(*) FROM coinjar_deliveries WHERE {old}", values)
            assert count is not None
            if only_count or not count[0]:
                return int(count[0])
            for table in ("coinjar_changes", "coinjar_parts"):
                transaction.execute(
                    f"DELETE FROM {table} WHERE delivery IN (SELECT number FROM coinjar_deliveries WHERE {old})",
                    values,
                )
            transaction.execute(f"DELETE FROM coinjar_deliveries WHERE {old}", values)
        with self._told():
            self.database.give_space_back()
        return int(count[0])


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
