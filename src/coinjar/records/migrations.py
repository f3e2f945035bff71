"""The schema of the records by versions: what a database of an earlier version lacks, and how it gets it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

from coinjar.records.tables import FIRST_INDEXES, FIRST_TABLES, TYPES

VERSION_TABLE: Final = "coinjar_schema"
"""One row: the version. Records that were made before it existed have version 1."""
_RECENT: Final = (
    "CREATE INDEX IF NOT EXISTS ix_coinjar_deliveries_app ON coinjar_deliveries (app, number)",
    "CREATE INDEX IF NOT EXISTS ix_coinjar_deliveries_stage ON coinjar_deliveries (app, stage, number)",
    "CREATE INDEX IF NOT EXISTS ix_coinjar_deliveries_place ON coinjar_deliveries (app, stage, destination, number)",
    (
        "CREATE INDEX IF NOT EXISTS ix_coinjar_deliveries_running ON coinjar_deliveries (app, stage, destination)"
        " WHERE state = 'running'"
    ),
    "CREATE INDEX IF NOT EXISTS ix_coinjar_changes_name ON coinjar_changes (name, delivery)",
    f"CREATE TABLE IF NOT EXISTS {VERSION_TABLE} (version INTEGER NOT NULL)",
)


def _first(system: str) -> list[str]:
    types = TYPES[system]
    return [
        *(f"CREATE TABLE IF NOT EXISTS {name} ({columns.format(**types)})" for name, columns in FIRST_TABLES.items()),
        *(f"CREATE INDEX IF NOT EXISTS {name} ON {where}" for name, where in FIRST_INDEXES.items()),
    ]


VERSION: Final = 2
"""1: the tables. 2: indexes for what is asked of a million deliveries, and the version itself."""


def statements(system: str, version: int) -> Sequence[str]:
    """Return what raises a database of a version (0: an empty one) to the present one; nothing for the present one."""
    steps = (_first(system), _RECENT)
    return [statement for step in steps[version:] for statement in step] + (
        [f"DELETE FROM {VERSION_TABLE}", f"INSERT INTO {VERSION_TABLE} (version) VALUES ({VERSION})"]
        if version < VERSION
        else []
    )
