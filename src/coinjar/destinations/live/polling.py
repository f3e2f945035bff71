"""Poll what was started on a platform: a restart, or a pipeline's run."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Mapping
from typing import NamedTuple, TypeVar

from coinjar.core.errors import CoinJarError
from coinjar.documents.json_data import MISSING, Data, as_text, resolve_pointer
from coinjar.platforms.requests import WaitCondition

T = TypeVar("T")
PASSED, STILL_RUNS, AWAITS_APPROVAL = "passed", "still running", "waiting for approval"


class PipelineRun(NamedTuple):
    """A pipeline's run when last polled: its state, and its log so far."""

    state: str
    log: str


async def poll(
    ask: Callable[[], Awaitable[T]], is_done: Callable[[T], bool], patience: float, *, longest: float = 2.0
) -> T:
    """Return the first answer that `is_done`, or the last one before `patience` seconds are over.

    The pauses between two questions grow from 0.05 s to `longest` seconds.
    """
    end = time.monotonic() + patience
    pause = 0.05
    while not is_done(answer := await ask()) and time.monotonic() + pause <= end:
        await asyncio.sleep(pause)
        pause = min(pause * 1.5, longest)
    return answer


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

    def is_done(data: Data) -> bool:
        ended = _holds(data, waiting.until) or _holds(data, waiting.fails)
        return ended or (to_approval and _holds(data, waiting.approval))

    data = await poll(ask, is_done, patience)
    if _holds(data, waiting.until):
        return PASSED, data
    if _holds(data, waiting.fails):
        answers = [(pointer[1:], resolve_pointer(data, pointer)) for pointer in waiting.fails]
        raise failed(", ".join(f"{name} is {as_text(answer)}" for name, answer in answers if answer is not MISSING))
    return AWAITS_APPROVAL if _holds(data, waiting.approval) else STILL_RUNS, data


def _holds(data: Data, tests: Mapping[str, tuple[str, ...]]) -> bool:
    return any(
        as_text(result) in texts
        for pointer, texts in tests.items()
        if (result := resolve_pointer(data, pointer)) is not MISSING
    )
