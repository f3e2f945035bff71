"""A transaction on SQLite (the standard library's driver) or PostgreSQL (psycopg), in the same words for both."""

from __future__ import annotations

import contextlib
import re
import sqlite3
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime
from types import MappingProxyType
from typing import Any, NamedTuple, TypeAlias
from urllib.parse import quote

from coinjar.records.migrations import VERSION, VERSION_TABLE, statements
from coinjar.records.tables import FIRST_TABLES

Values: TypeAlias = Mapping[str, str | int | bytes | datetime | None]
"""What the `:name` placeholders of a statement stand for."""
_NOTHING: Values = MappingProxyType({})
_PATIENCE = 30
"""Seconds to wait for a busy database."""
_PLACEHOLDER = re.compile(r":([a-z_]+)\b")
_PROVEN = {"sslmode": "verify-full", "sslrootcert": "system", "require_auth": "scram-sha-256"}
"""What a database on another machine must prove (libpq's options), unless its address sets something else: its
certificate, and that it knows the password without receiving it.
"""


class DatabaseError(Exception):
    """A statement failed, or nobody answers: the first line of the driver's message, without the statement."""


class Transaction(NamedTuple):
    """Runs the statements of one transaction."""

    database: Database
    connection: Any

    def execute(self, statement: str, values: Values = _NOTHING) -> int:
        """Run a statement; return how many rows it changed."""
        count: int = self._run(statement, values).rowcount
        return count

    def execute_each(self, statement: str, rows: Iterable[Values]) -> None:
        """Run a statement for each row."""
        given = [self.database.adapted(row) for row in rows]
        if given:
            self.connection.cursor().executemany(self.database.spelled(statement), given)

    def rows(self, statement: str, values: Values = _NOTHING) -> list[tuple[Any, ...]]:
        """Return the rows of a query."""
        found: list[tuple[Any, ...]] = self._run(statement, values).fetchall()
        return found

    def first(self, statement: str, values: Values = _NOTHING) -> tuple[Any, ...] | None:
        """Return the first row of a query, if there is one."""
        return next(iter(self.rows(statement, values)), None)

    def _run(self, statement: str, values: Values) -> Any:  # noqa: ANN401 - a cursor of either driver
        return self.connection.execute(self.database.spelled(statement), self.database.adapted(values))


class Database(ABC):
    """One database, connected to when it is first asked."""

    system: str
    clock: str
    """The expression of the present time, UTC."""
    failures: tuple[type[Exception], ...]
    is_readonly = False

    def __init__(self) -> None:
        self._connection: Any = None

    @abstractmethod
    def connect(self) -> Any:  # noqa: ANN401 - of either driver
        """Return a new connection."""

    @abstractmethod
    def is_alive(self) -> bool:
        """Return whether the connection can be used again."""

    @abstractmethod
    def table_names(self, transaction: Transaction) -> set[str]:
        """Return the tables that exist."""

    def spelled(self, statement: str) -> str:
        """Return a statement with the driver's placeholders."""
        return statement

    def adapted(self, values: Values) -> dict[str, Any]:
        """Return the values as the driver takes them."""
        return {**values}

    @contextlib.contextmanager
    def transaction(self) -> Iterator[Transaction]:
        """Run one transaction: committed at the end, rolled back after an exception. Raises DatabaseError."""
        try:
            if self._connection is None or not self.is_alive():
                self.close()
                self._connection = self.connect()
            try:
                yield Transaction(self, self._connection)
                self._connection.commit()
            except BaseException:
                with contextlib.suppress(*self.failures):
                    self._connection.rollback()
                raise
        except self.failures as fault:
            lines = str(fault).strip().splitlines() or [type(fault).__name__]
            raise DatabaseError(lines[0][:200]) from None

    def make_tables(self) -> None:
        """Create what is missing, all or nothing; a database that may only be read is left alone if no table is.

        Raises DatabaseError for one that a newer Coin Jar made.
        """
        with self.transaction() as transaction:
            names = self.table_names(transaction)
            version = self._version(transaction, names)
            if version > VERSION:
                raise DatabaseError(f"a newer Coin Jar made it (version {version} of its tables): upgrade this one")
            if version < VERSION and not (version and self.is_readonly):
                for statement in statements(self.system, version):
                    transaction.execute(statement)

    def _version(self, transaction: Transaction, names: set[str]) -> int:
        """Return the version of the tables; 0 if some are missing."""
        if not set(FIRST_TABLES) <= names:
            return 0
        if VERSION_TABLE not in names:
            return 1
        row = transaction.first(f"SELECT version FROM {VERSION_TABLE}")
        return int(row[0]) if row else 1

    @abstractmethod
    def give_space_back(self) -> None:
        """Make the database as small as what is in it. Raises DatabaseError."""

    def close(self) -> None:
        """Close the connection."""
        if self._connection is not None:
            with contextlib.suppress(*self.failures):
                self._connection.close()
            self._connection = None


class SqliteDatabase(Database):
    """A file, or a database in memory for None."""

    system = "sqlite"
    clock = "strftime('%Y-%m-%d %H:%M:%S', 'now')"
    failures = (sqlite3.Error,)

    def __init__(self, path: str | None, *, readonly: bool = False) -> None:
        super().__init__()
        self.address = f"file:{quote(path)}{'?mode=ro' if readonly else ''}" if path is not None else ":memory:"
        self.is_readonly = readonly

    def connect(self) -> sqlite3.Connection:
        connection = sqlite3.connect(self.address, timeout=_PATIENCE, uri=True)
        connection.execute("PRAGMA foreign_keys=ON")
        return connection

    def is_alive(self) -> bool:
        return True

    def table_names(self, transaction: Transaction) -> set[str]:
        return {row[0] for row in transaction.rows("SELECT name FROM sqlite_master WHERE type = 'table'")}

    def give_space_back(self) -> None:
        with self.transaction() as transaction:
            transaction.execute("VACUUM")

    def adapted(self, values: Values) -> dict[str, Any]:
        return {name: value.isoformat(" ") if isinstance(value, datetime) else value for name, value in values.items()}


class PostgresDatabase(Database):
    """A PostgreSQL, by an address without a password. Raises ModuleNotFoundError without psycopg, ValueError for what
    is not an address.
    """

    system = "postgresql"
    clock = "timezone('utc', clock_timestamp())"

    def __init__(self, address: str, password: str | None) -> None:
        super().__init__()
        import psycopg
        from psycopg.conninfo import conninfo_to_dict

        self.failures = (psycopg.Error,)
        try:
            self.options: dict[str, Any] = conninfo_to_dict(address)
        except psycopg.ProgrammingError:
            raise ValueError(address) from None
        if not _is_local(str(self.options.get("host") or "")):
            self.options = _PROVEN | self.options
        self.options = {"connect_timeout": 10, **self.options}
        if password is not None:
            self.options["password"] = password

    def connect(self) -> Any:  # noqa: ANN401 - psycopg's, which is not imported for SQLite
        import psycopg

        return psycopg.connect(**self.options)

    def is_alive(self) -> bool:
        if self._connection.closed or self._connection.broken:
            return False
        try:
            self._connection.execute("SELECT 1")
        except self.failures:
            return False
        return True

    def table_names(self, transaction: Transaction) -> set[str]:
        return {
            name
            for name in (*FIRST_TABLES, VERSION_TABLE)
            if transaction.rows("SELECT to_regclass(:name)", {"name": name})[0][0]
        }

    def give_space_back(self) -> None:
        """Nothing: PostgreSQL does it in the background (autovacuum)."""

    def spelled(self, statement: str) -> str:
        return _PLACEHOLDER.sub(r"%(\1)s", statement)


def _is_local(host: str) -> bool:
    """Return whether a database is on this machine: a socket's folder, or a loopback address."""
    return not host or host.startswith("/") or host in ("localhost", "127.0.0.1", "::1")
