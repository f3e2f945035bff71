"""The tables.

They contain no values: only fingerprints with the stage's key, and snapshots that are encrypted for its readers.
"""

from __future__ import annotations

from sqlalchemy import (
    Boolean,
    Column,
    DateTime,
    ForeignKey,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    Text,
    UniqueConstraint,
)

metadata = MetaData()

deliveries = Table(
    "coinjar_deliveries",
    metadata,
    Column("number", Integer, primary_key=True, autoincrement=True),
    Column("app", String(64), nullable=False),
    Column("stage", String(64), nullable=False),
    Column("destination", String(64), nullable=False),
    Column("who", Text, nullable=False),
    Column("started", DateTime, nullable=False),
    Column("ended", DateTime),
    Column("state", String(16), nullable=False),
    Column("undoes", Integer),
)
parts = Table(
    "coinjar_parts",
    metadata,
    Column("delivery", ForeignKey(deliveries.c.number), primary_key=True),
    Column("target", String(255), primary_key=True),
    Column("label", Text, nullable=False),
    Column("state", String(16), nullable=False),
    Column("restart", String(16), nullable=False, default=""),
    Column("notes", Text, nullable=False, default=""),
    Column("snapshot", LargeBinary),
)
changes = Table(
    "coinjar_changes",
    metadata,
    Column("id", Integer, primary_key=True, autoincrement=True),
    Column("delivery", ForeignKey(deliveries.c.number), nullable=False, index=True),
    Column("target", String(255), nullable=False),
    Column("name", Text, nullable=False),
    Column("action", String(16), nullable=False),
    Column("secret", Boolean, nullable=False),
)
last = Table(
    "coinjar_last",
    metadata,
    Column("id", Integer, primary_key=True, autoincrement=True),
    Column("app", String(64), nullable=False),
    Column("stage", String(64), nullable=False),
    Column("destination", String(64), nullable=False),
    Column("target", String(255), nullable=False),
    Column("name", Text, nullable=False),
    Column("fingerprint", String(64), nullable=False),
    Column("mark", Text, nullable=False, default=""),
    Column("in_effect", Boolean, nullable=False),
    Column("delivery", Integer, nullable=False),
    UniqueConstraint("app", "stage", "destination", "target", "name"),
)
locks = Table(
    "coinjar_locks",
    metadata,
    Column("name", String(255), primary_key=True),
    Column("token", String(64), nullable=False),
    Column("holder", Text, nullable=False),
    Column("process", Text, nullable=False),
    Column("since", DateTime, nullable=False),
    Column("seen", DateTime, nullable=False),
)
