"""Locks on a stage of a destination: held by one deliverer, visible to all, and taken over when the holder is dead.

The holder renews its lock every few seconds. It is dead when its process is gone from this machine, or when it has not
renewed the lock for `LEASE` seconds by the database's own clock.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import secrets
import socket
import time
from collections.abc import AsyncIterator
from datetime import datetime
from pathlib import Path
from typing import Any, NamedTuple

from coinjar.core.errors import ExternalError
from coinjar.records.database import Transaction
from coinjar.records.queries import as_time
from coinjar.records.store import RecordStore, who

LEASE = 60.0
"""Seconds without renewal after which a holder counts as dead."""
_AGAIN = 15.0
"""Seconds between renewals."""
_RETRY = 2.0
"""Seconds between retries where the database failed."""


class LockHolder(NamedTuple):
    """Who holds a lock."""

    token: str
    holder: str
    process: str
    since: datetime
    seen: datetime


class LockLost(ExternalError):
    """Somebody else took the lock over."""


class DeliveryLock:
    """One lock that this process holds, or waits for."""

    def __init__(self, records: RecordStore, name: str) -> None:
        self.records = records
        self.name = f"{records.app}/{name}"
        self.shown = name
        self.token = secrets.token_hex(8)
        self.taken_from = ""
        self.lost: ExternalError | None = None
        self._renewed = time.monotonic()

    def take(self) -> LockHolder | None:
        """Take the lock; if a live process holds it, return its holder."""
        with self.records.connected() as transaction:
            clock = _clock(transaction)
            mine: dict[str, Any] = {
                "name": self.name,
                "token": self.token,
                "holder": who(),
                "process": _this_process(),
                "clock": clock,
            }
            if transaction.execute(
                "INSERT INTO coinjar_locks (name, token, holder, process, since, seen)"
                " VALUES (:name, :token, :holder, :process, :clock, :clock) ON CONFLICT (name) DO NOTHING",
                mine,
            ):
                return None
            lock_holder = _there(transaction, self.name)
            if lock_holder is None:
                return self._gone(clock)
            if not _is_dead(lock_holder, clock):
                return lock_holder
            if not transaction.execute(
                "UPDATE coinjar_locks SET token = :token, holder = :holder, process = :process, since = :clock,"
                " seen = :clock WHERE name = :name AND token = :old",
                mine | {"old": lock_holder.token},
            ):
                return lock_holder._replace(holder="another process")
            self.taken_from = lock_holder.holder
            return None

    def _gone(self, clock: datetime) -> LockHolder:
        """The lock was released between two checks: the next try gets it."""
        return LockHolder("", "a process that just ended", "", clock, clock)

    def heartbeat(self) -> None:
        """Renew the lock. Raises LockLost."""
        with self.records.connected() as transaction:
            if not transaction.execute(
                "UPDATE coinjar_locks SET seen = :clock WHERE name = :name AND token = :token",
                self._mine() | {"clock": _clock(transaction)},
            ):
                hint = "run it again: it checks what is there"
                raise LockLost(
                    f"the lock on {self.shown} was taken over by another process", hint=hint, code="lock-lost"
                )
        self._renewed = time.monotonic()

    def renew(self) -> bool:
        """Renew the lock; return False if the database failed and can be retried.

        Raises ExternalError if the lock is lost, or was not renewed in time.
        """
        self.check()
        try:
            self.heartbeat()
        except LockLost as fault:
            self.lost = fault
            raise
        except ExternalError as fault:
            if time.monotonic() - self._renewed > LEASE - _AGAIN:
                message = f"the lock on {self.shown} could not be renewed: {fault.message}"
                self.lost = ExternalError(
                    message, hint="run it again: it checks what is there", location=fault.location, code="lock-lost"
                )
                raise self.lost from None
            return False
        return True

    def check(self) -> None:
        """Called before each write. Raises ExternalError if the lock is lost."""
        if self.lost is not None:
            raise self.lost

    def release(self) -> None:
        """Release the lock."""
        with self.records.connected() as transaction:
            transaction.execute(_DELETE, self._mine())

    def _mine(self) -> dict[str, Any]:
        return {"name": self.name, "token": self.token}


_DELETE = "DELETE FROM coinjar_locks WHERE name = :name AND token = :token"


def clear_dead(records: RecordStore, name: str) -> str:
    """Remove the lock of a dead holder; return who that was, "" if there is none."""
    lock = DeliveryLock(records, name)
    with records.connected() as transaction:
        lock_holder = _there(transaction, lock.name)
        if lock_holder is None or not _is_dead(lock_holder, _clock(transaction)):
            return ""
        transaction.execute(_DELETE, {"name": lock.name, "token": lock_holder.token})
        return lock_holder.holder


def _there(transaction: Transaction, name: str) -> LockHolder | None:
    row = transaction.first(
        "SELECT token, holder, process, since, seen FROM coinjar_locks WHERE name = :name", {"name": name}
    )
    if row is None:
        return None
    since, seen = as_time(row[3]), as_time(row[4])
    assert since, "a column that is never null"
    assert seen, "a column that is never null"
    return LockHolder(row[0], row[1], row[2], since, seen)


@contextlib.asynccontextmanager
async def held(records: RecordStore, name: str, patience: float) -> AsyncIterator[DeliveryLock]:
    """Hold a lock, waiting up to `patience` seconds for its holder.

    Raises ExternalError with the holder and the time of the lock.
    """
    lock = DeliveryLock(records, name)
    end = time.monotonic() + patience
    while (lock_holder := lock.take()) is not None:
        if time.monotonic() >= end:
            message = (
                f"{lock_holder.holder} has been delivering to {name} since {lock_holder.since:%Y-%m-%d %H:%M:%S} UTC"
            )
            hint = (
                f"wait for it (--wait SECONDS); a holder that does not renew its lock for {LEASE:.0f} s is "
                "considered dead"
            )
            raise ExternalError(message, hint=hint, code="locked")
        await asyncio.sleep(0.2)
    alive = asyncio.create_task(_keep_alive(lock))
    try:
        yield lock
    finally:
        alive.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await alive
        lock.release()


async def _keep_alive(lock: DeliveryLock) -> None:
    """Renew the lock until it is lost: the next writer sees that in `lock.check`."""
    pause = _AGAIN
    with contextlib.suppress(ExternalError):  # kept in `lock.lost`
        while True:
            await asyncio.sleep(pause)
            pause = _AGAIN if lock.renew() else _RETRY


def _clock(transaction: Transaction) -> datetime:
    """Return the database's time, UTC."""
    ((value,),) = transaction.rows(f"SELECT {transaction.database.clock}")
    clock = as_time(value)
    assert clock, "a time"
    return clock.replace(tzinfo=None)


def _this_process() -> str:
    return f"{_machine()} {os.getpid()} {_start(os.getpid())}"


def _machine() -> str:
    """Return this machine, its boot, and its process namespace: process numbers have no meaning elsewhere."""
    try:
        return Path("/proc/sys/kernel/random/boot_id").read_text().strip() + Path("/proc/self/ns/pid").readlink().name
    except OSError:
        return socket.gethostname()


def _start(pid: int) -> str:
    """Return when a process started, in ticks, to detect a reused number. Empty if there is none, or only a zombie."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return ""
    return "" if fields[0] in ("Z", "X") else fields[19]


def _is_dead(lock_holder: LockHolder, clock: datetime) -> bool:
    if (clock - lock_holder.seen).total_seconds() > LEASE:
        return True
    machine, _, rest = lock_holder.process.partition(" ")
    pid, _, start = rest.partition(" ")
    return machine == _machine() and pid.isdigit() and _start(int(pid)) != start
