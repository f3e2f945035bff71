"""The tables of the first version; records/migrations.py has what came later.

They contain no values: only fingerprints with the stage's key, and snapshots that are encrypted for its readers.
"""

from __future__ import annotations

FIRST_TABLES = {
    "coinjar_deliveries": """
        number {number},
        app VARCHAR(64) NOT NULL,
        stage VARCHAR(64) NOT NULL,
        destination VARCHAR(64) NOT NULL,
        who TEXT NOT NULL,
        started {time} NOT NULL,
        ended {time},
        state VARCHAR(16) NOT NULL,
        undoes INTEGER""",
    "coinjar_parts": """
        delivery INTEGER NOT NULL REFERENCES coinjar_deliveries (number),
        target VARCHAR(255) NOT NULL,
        label TEXT NOT NULL,
        state VARCHAR(16) NOT NULL,
        restart VARCHAR(16) NOT NULL,
        notes TEXT NOT NULL,
        snapshot {bytes},
        PRIMARY KEY (delivery, target)""",
    "coinjar_changes": """
        id {number},
        delivery INTEGER NOT NULL REFERENCES coinjar_deliveries (number),
        target VARCHAR(255) NOT NULL,
        name TEXT NOT NULL,
        action VARCHAR(16) NOT NULL,
        secret BOOLEAN NOT NULL""",
    "coinjar_last": """
        id {number},
        app VARCHAR(64) NOT NULL,
        stage VARCHAR(64) NOT NULL,
        destination VARCHAR(64) NOT NULL,
        target VARCHAR(255) NOT NULL,
        name TEXT NOT NULL,
        fingerprint VARCHAR(64) NOT NULL,
        mark TEXT NOT NULL,
        in_effect BOOLEAN NOT NULL,
        delivery INTEGER NOT NULL,
        UNIQUE (app, stage, destination, target, name)""",
    "coinjar_locks": """
        name VARCHAR(255) PRIMARY KEY,
        token VARCHAR(64) NOT NULL,
        holder TEXT NOT NULL,
        process TEXT NOT NULL,
        since {time} NOT NULL,
        seen {time} NOT NULL""",
}
"""The columns of each table; `{number}`, `{time}` and `{bytes}` are types that each database names in its own way."""
FIRST_INDEXES = {"ix_coinjar_changes_delivery": "coinjar_changes (delivery)"}
TYPES = {
    "sqlite": {"number": "INTEGER PRIMARY KEY", "time": "DATETIME", "bytes": "BLOB"},
    "postgresql": {"number": "SERIAL PRIMARY KEY", "time": "TIMESTAMP WITHOUT TIME ZONE", "bytes": "BYTEA"},
}
