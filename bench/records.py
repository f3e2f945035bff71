"""Questions to the records of a million deliveries: milliseconds, each within a budget."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path

from coinjar.core.recorded_names import RecordedNames
from coinjar.records.store import RecordStore

DELIVERIES, STAGES, DESTINATIONS, NAMES = 1_000_000, 40, 10, 500
BUDGET = 100
"""Milliseconds."""
_START = datetime(2024, 1, 1)


def filled(path: Path, deliveries: int = DELIVERIES) -> RecordStore:
    """Records of one application, one target and one changed variable for each delivery."""
    store = RecordStore(RecordedNames("bench"), path)
    with store.connected() as transaction:
        for first in range(1, deliveries + 1, 100_000):
            numbers = range(first, min(first + 100_000, deliveries + 1))
            transaction.execute_each(
                "INSERT INTO coinjar_deliveries VALUES (:n, 'bench', :stage, :place, 'anna', :at, :at, 'done', NULL)",
                [
                    {
                        "n": number,
                        "stage": f"stage{number % STAGES}",
                        "place": f"place{number % DESTINATIONS}",
                        "at": _START + timedelta(minutes=number),
                    }
                    for number in numbers
                ],
            )
            transaction.execute_each(
                "INSERT INTO coinjar_parts VALUES (:n, 'web', 'web', 'done', 'done', '', NULL)",
                [{"n": number} for number in numbers],
            )
            transaction.execute_each(
                "INSERT INTO coinjar_changes VALUES (:n, :n, 'web', :name, 'changed', 0)",
                [{"n": number, "name": f"NAME_{number % NAMES}"} for number in numbers],
            )
    return store


def questions(store: RecordStore) -> dict[str, Callable[[], object]]:
    """What commands ask: `deliveries`, `deliveries N`, `stages list`, `history NAME`, and before each delivery."""
    stages = [f"stage{number}" for number in range(STAGES)]
    return {
        "the newest 20": lambda: store.counts(store.listed(20)),
        "one delivery": lambda: store.delivery(DELIVERIES // 2),
        "the newest of each stage": lambda: store.newest(stages),
        "those of one variable": lambda: store.of_variable(["NAME_7"]),
        "an unanswered restart": lambda: store.unanswered("stage7", "place7", "web"),
        "unfinished ones": lambda: store.mark_interrupted("stage7", "place7"),
    }


def record_times(folder: Path, runs: int, deliveries: int = DELIVERIES) -> dict[str, float]:
    """Median milliseconds of each question."""
    store = filled(folder / "records.sqlite", deliveries)
    result = {}
    for name, ask in questions(store).items():
        taken = []
        for _ in range(runs):
            start = time.perf_counter()
            ask()
            taken.append((time.perf_counter() - start) * 1000)
        result[name] = statistics.median(taken)
    store.close()
    return result
