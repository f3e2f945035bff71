"""Poll what was started on a platform: a restart, or a pipeline's run."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Mapping
from typing import NamedTuple

from coinjar.core.errors import CoinJarError
from coinjar.documents.json_data import NOTHING, Data, as_text, look
from coinjar.platforms.requests import WaitCondition

PASSED, STILL_RUNS, AWAITS_APPROVAL = "passed", "still running", "waiting for approval"


class PipelineRun(NamedTuple):
    """A pipeline's run when last polled: its state, and its log so far."""

    state: str
    log: str


async def watched(
    ask: Callable[[], Awaitable[Data]],
    waiting: WaitCondition,
    patience: float,
    failed: Callable[[str], CoinJarError],
    *,
    to_approval: bool = False,
) -> tuple[str, Data]:
    """Return the state and the last response, once it has finished or `patience` seconds are over.

    With `to_approval` also once it waits for approval. Raises `failed` of the words that describe the failure.
    """
    end = time.monotonic() + patience
    pause = 0.05
    while True:
        data = await ask()
        if _holds(data, waiting.until):
            return PASSED, data
        if _holds(data, waiting.fails):
            raise failed(
                ", ".join(
                    f"{pointer[1:]} is {as_text(look(data, pointer))}"
                    for pointer in waiting.fails
                    if look(data, pointer) is not NOTHING
                )
            )
        awaits = _holds(data, waiting.approval)
        if (awaits and to_approval) or time.monotonic() + pause > end:
            return AWAITS_APPROVAL if awaits else STILL_RUNS, data
        await asyncio.sleep(pause)
        pause = min(pause * 1.5, 2.0)


def _holds(data: Data, tests: Mapping[str, tuple[str, ...]]) -> bool:
    return any(
        as_text(result) in texts for pointer, texts in tests.items() if (result := look(data, pointer)) is not NOTHING
    )
