"""A limit of processor time for work on foreign text: a busy machine makes nothing slow."""

from __future__ import annotations

import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager

_AGAIN = 0.5
"""Seconds after which the exception is raised again, where the work did not end with it."""


@contextmanager
def time_limit(seconds: float, exceeded: Callable[[], Exception]) -> Iterator[None]:
    """Raise `exceeded()` inside of the block after so much processor time of this process.

    It uses the process's timer, which only the main thread can: in another thread there is no limit.
    """

    def expired(_number: int, _frame: object) -> None:
        raise exceeded()

    try:
        before = signal.signal(signal.SIGVTALRM, expired)
    except ValueError:
        yield
        return
    try:
        signal.setitimer(signal.ITIMER_VIRTUAL, seconds, _AGAIN)
        yield
    finally:
        signal.setitimer(signal.ITIMER_VIRTUAL, 0)
        signal.signal(signal.SIGVTALRM, before)
