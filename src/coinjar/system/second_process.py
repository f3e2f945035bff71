"""Work in a second process while this one goes on, where there is a second processor."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable
from typing import TypeVar

T = TypeVar("T")


def beside(work: Callable[[], T]) -> Callable[[], T]:
    """Start `work` in a copy of this process; return what waits for its result, which must be what pickle takes.

    If the copy cannot do it, whatever the reason, or there is no second processor, the work is done here when its
    result is asked for: so errors are raised as usual. The work must not print, ask, or change anything.
    """
    # With other threads a copy may wait for a lock for ever.
    if len(os.sched_getaffinity(0)) < 2 or threading.active_count() > 1:
        return work
    results, into = os.pipe()
    process = os.fork()
    if process == 0:
        os.close(results)
        _serve(work, into)
    os.close(into)

    def result() -> T:
        import pickle

        with os.fdopen(results, "rb") as file:
            data = file.read()
        _, status = os.waitpid(process, 0)
        if status:
            return work()
        done: T = pickle.loads(data)  # noqa: S301 - written by our own copy, through a pipe that nobody else has
        return done

    return result


def _serve(work: Callable[[], T], into: int) -> None:
    """Write the result; never returns. An error ends it with 1, and the starter does the work, where it is raised."""
    code = 1
    try:
        import pickle
        import signal

        signal.signal(signal.SIGINT, signal.SIG_DFL)
        data = memoryview(pickle.dumps(work(), protocol=pickle.HIGHEST_PROTOCOL))
        while data:
            data = data[os.write(into, data) :]
        code = 0
    finally:
        os._exit(code)
