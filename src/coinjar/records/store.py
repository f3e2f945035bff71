"""The records of deliveries: created at the start, updated during a delivery, queried later."""

from __future__ import annotations

import contextlib
import getpass
import os
import socket
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import quote

from sqlalchemy import URL, Engine, create_engine, event, func, make_url, select
from sqlalchemy.engine import Connection
from sqlalchemy.exc import ArgumentError, SQLAlchemyError

from coinjar.core.delivery import DeliveryChange, LastApplied
from coinjar.core.errors import CoinJarError, ExternalError, InputError, Location, UsageError
from coinjar.core.secret import reveal
from coinjar.records.tables import changes, deliveries, last, metadata, parts
from coinjar.system.files import display_path

RUNNING, DONE, FAILED, INTERRUPTED = "running", "done", "failed", "interrupted"
ASKED, RESTARTED, WAITS = "asked", "done", "waits"
"""A target's restart: requested and not confirmed yet, done, or still needed."""
_PATIENCE = 30
"""Seconds to wait for a busy database."""


_PROVEN = {"sslmode": "verify-full", "sslrootcert": "system", "require_auth": "scram-sha-256"}
"""What a database on another machine must prove (libpq's options), unless its address sets something else: its
certificate, and that it knows the password without receiving it.
"""


def _is_local(host: str | None) -> bool:
    """Return whether a database is on this machine: a socket's folder, or a loopback address."""
    return not host or host.startswith("/") or host in ("localhost", "127.0.0.1", "::1")


class DeliveryRecord(NamedTuple):
    """One delivery to a destination. Times are UTC."""

    number: int
    stage: str
    destination: str
    who: str
    started: datetime
    ended: datetime | None
    state: str
    undoes: int | None


class TargetRecord(NamedTuple):
    """What a delivery did to one target. `snapshot` is encrypted: the values before, and after."""

    target: str
    label: str
    state: str
    restart: str
    notes: str
    snapshot: bytes | None


class VariableRecord(NamedTuple):
    """One variable that was changed."""

    target: str
    name: str
    action: str
    secret: bool


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

    Raises ExternalError if they cannot be accessed.
    """

    def __init__(
        self, app: str, place: Path | str | None, *, password: str | None = None, origin: Location | None = None
    ) -> None:
        self.app = app
        self.origin = origin
        self.shown = display_path(place) if isinstance(place, Path) else "the records' database"
        self.engine = self._shared(place, password) if isinstance(place, str) else _sqlite(place)
        try:
            self._make_tables()
        except ExternalError:  # another process created them at the same time; any other failure appears again
            self._make_tables()

    def _make_tables(self) -> None:
        with self.connected() as connection:
            metadata.create_all(connection)

    def _shared(self, address: str, password: str | None) -> Engine:
        try:
            url = make_url(address)
        except ArgumentError:
            raise self._wrong("it is not an address") from None
        if url.get_backend_name() != "postgresql":
            raise self._wrong("only PostgreSQL can be shared")
        if url.password:
            raise self._wrong("it contains a password, and others can read jar.yaml")
        url = URL.create(
            "postgresql+psycopg",
            url.username,
            reveal(password) if password else None,
            url.host,
            url.port,
            url.database,
            url.query,
        )
        safe = {} if _is_local(url.host) else {name: word for name, word in _PROVEN.items() if name not in url.query}
        try:
            return create_engine(url, pool_pre_ping=True, connect_args={"connect_timeout": 10} | safe)
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
    def connected(self) -> Iterator[Connection]:
        """Run one transaction."""
        try:
            with self.engine.begin() as connection:
                yield connection
        except SQLAlchemyError as fault:
            raise self.failed(fault) from None

    def failed(self, fault: SQLAlchemyError) -> ExternalError:
        """Return the error, without the statement and its parameters."""
        message = str(getattr(fault, "orig", None) or type(fault).__name__).strip().splitlines()[0][:200]
        hint = (
            "check the file and the free space"
            if self.engine.name == "sqlite"
            else "check that it is running, and the address and password"
        )
        return ExternalError(f"{self.shown}: {message}", hint=hint, location=self.origin, code="records")

    def close(self) -> None:
        """Close the connections."""
        self.engine.dispose()

    # -- writing

    def begin(self, stage: str, destination: str, undoes: int | None = None) -> int:
        """Return a new delivery's number. Unfinished ones (their lock is ours now) are marked as interrupted."""
        self.mark_interrupted(stage, destination)
        with self.connected() as connection:
            values = {
                "app": self.app,
                "stage": stage,
                "destination": destination,
                "who": who(),
                "started": now(),
                "state": RUNNING,
                "undoes": undoes,
            }
            key = connection.execute(deliveries.insert().values(values)).inserted_primary_key
            assert key, "a row was inserted"
            return int(key[0])

    def mark_interrupted(self, stage: str, destination: str) -> None:
        """Mark running deliveries as interrupted: the caller holds the lock, or knows that nobody does."""
        mine = (
            (deliveries.c.app == self.app) & (deliveries.c.stage == stage) & (deliveries.c.destination == destination)
        )
        with self.connected() as connection:
            connection.execute(
                deliveries.update().where(mine & (deliveries.c.state == RUNNING)).values(state=INTERRUPTED)
            )

    def begin_part(
        self, number: int, target: str, label: str, snapshot: bytes | None, planned: Iterable[DeliveryChange]
    ) -> None:
        """Record, before the first write to a target, what will change and what was there before."""
        with self.connected() as connection:
            connection.execute(
                parts.insert().values(
                    delivery=number, target=target, label=label, state=RUNNING, restart="", notes="", snapshot=snapshot
                )
            )
            rows = [
                {
                    "delivery": number,
                    "target": target,
                    "name": change.name,
                    "action": change.action,
                    "secret": change.secret,
                }
                for change in planned
            ]
            if rows:
                connection.execute(changes.insert(), rows)

    def set_part(self, number: int, target: str, **values: Any) -> None:  # noqa: ANN401 - columns of several types
        """Update a target's state, restart, notes."""
        with self.connected() as connection:
            connection.execute(
                parts.update().where((parts.c.delivery == number) & (parts.c.target == target)).values(**values)
            )

    def end(self, number: int, state: str) -> None:
        """Record the end of a delivery."""
        with self.connected() as connection:
            connection.execute(
                deliveries.update().where(deliveries.c.number == number).values(state=state, ended=now())
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
        mine = self._of(stage, destination, target)
        names = [*delivered, *gone]
        with self.connected() as connection:
            for start in range(0, len(names), 500):
                connection.execute(last.delete().where(mine & last.c.name.in_(names[start : start + 500])))
            fixed = {"app": self.app, "stage": stage, "destination": destination, "target": target, "delivery": number}
            rows = [
                fixed
                | {
                    "name": name,
                    "fingerprint": applied.fingerprint,
                    "mark": applied.version,
                    "in_effect": applied.in_effect,
                }
                for name, applied in delivered.items()
            ]
            if rows:
                connection.execute(last.insert(), rows)

    def took_effect(self, stage: str, destination: str, target: str) -> None:
        """Record that everything delivered to a target is in use; removed variables are forgotten."""
        with self.connected() as connection:
            connection.execute(last.delete().where(self._of(stage, destination, target) & (last.c.fingerprint == "")))
            connection.execute(last.update().where(self._of(stage, destination, target)).values(in_effect=True))

    def _of(self, stage: str, destination: str, target: str) -> Any:  # noqa: ANN401 - an SQL expression
        return (
            (last.c.app == self.app)
            & (last.c.stage == stage)
            & (last.c.destination == destination)
            & (last.c.target == target)
        )

    # -- reading

    def last(self, stage: str, destination: str, target: str) -> dict[str, LastApplied]:
        """Return what was delivered last to a target, by name."""
        with self.connected() as connection:
            rows = connection.execute(
                select(last.c.name, last.c.fingerprint, last.c.mark, last.c.in_effect).where(
                    self._of(stage, destination, target)
                )
            )
            return {name: LastApplied(*rest) for name, *rest in rows}

    def every_last(self) -> list[tuple[str, str, str, str, str]]:
        """Return stage, destination, target, name and fingerprint of everything that was delivered last."""
        with self.connected() as connection:
            found = select(last.c.stage, last.c.destination, last.c.target, last.c.name, last.c.fingerprint).where(
                last.c.app == self.app
            )
            return [(row[0], row[1], row[2], row[3], row[4]) for row in connection.execute(found)]

    def listed(self, most: int | None = None) -> list[DeliveryRecord]:
        """Return the deliveries, newest first."""
        with self.connected() as connection:
            wanted = (
                select(*_DELIVERY).where(deliveries.c.app == self.app).order_by(deliveries.c.number.desc()).limit(most)
            )
            return [DeliveryRecord(*row) for row in connection.execute(wanted)]

    def counts(self) -> dict[int, dict[str, int]]:
        """Return how many variables each delivery added, changed and removed."""
        result: dict[int, dict[str, int]] = {}
        with self.connected() as connection:
            grouped = select(changes.c.delivery, changes.c.action, func.count()).group_by(
                changes.c.delivery, changes.c.action
            )
            for number, action, count in connection.execute(grouped):
                result.setdefault(number, {})[action] = count
        return result

    def delivery(self, number: int) -> tuple[DeliveryRecord, list[TargetRecord], list[VariableRecord]]:
        """Return one delivery with all details. Raises UsageError if there is none."""
        with self.connected() as connection:
            found = connection.execute(
                select(*_DELIVERY).where((deliveries.c.app == self.app) & (deliveries.c.number == number))
            ).first()
            if found is None:
                raise UsageError(
                    f"there is no delivery {number}",
                    hint="list them with `coinjar deliveries`",
                    code="unknown-delivery",
                )
            wanted = select(
                parts.c.target, parts.c.label, parts.c.state, parts.c.restart, parts.c.notes, parts.c.snapshot
            )
            mine = [
                TargetRecord(*row)
                for row in connection.execute(wanted.where(parts.c.delivery == number).order_by(parts.c.target))
            ]
            query = (
                select(changes.c.target, changes.c.name, changes.c.action, changes.c.secret)
                .where(changes.c.delivery == number)
                .order_by(changes.c.id)
            )
            return DeliveryRecord(*found), mine, [VariableRecord(*row) for row in connection.execute(query)]

    def unanswered(self, stage: str, destination: str, target: str) -> bool:
        """Return whether the newest delivery to a target requested a restart without a confirmation."""
        with self.connected() as connection:
            joined = parts.join(deliveries, parts.c.delivery == deliveries.c.number)
            mine = (
                (deliveries.c.app == self.app)
                & (deliveries.c.stage == stage)
                & (deliveries.c.destination == destination)
                & (parts.c.target == target)
            )
            row = connection.execute(
                select(parts.c.restart).select_from(joined).where(mine).order_by(parts.c.delivery.desc()).limit(1)
            ).first()
            return row is not None and row[0] == ASKED


_DELIVERY = [deliveries.c[name] for name in DeliveryRecord._fields]


def _sqlite(path: Path | None) -> Engine:
    """Return the engine of a file that only its owner can read; for None of one in memory."""
    if path is None:
        return create_engine("sqlite://")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        os.close(os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600))
    except OSError as fault:
        if path.is_file() and os.access(path, os.R_OK):
            return create_engine(
                URL.create("sqlite", database=f"file:{quote(str(path))}", query={"mode": "ro", "uri": "true"})
            )
        message = f"cannot write it: {(fault.strerror or 'unknown error').lower()}"
        raise ExternalError(
            message, hint="check the folder's permissions", location=Location(display_path(path)), code="records"
        ) from None
    engine = create_engine(URL.create("sqlite", database=str(path)), connect_args={"timeout": _PATIENCE})

    @event.listens_for(engine, "connect")
    def _keep_links(connection: Any, record: object) -> None:  # noqa: ANN401 - the driver's own
        del record
        connection.execute("PRAGMA foreign_keys=ON")

    return engine
