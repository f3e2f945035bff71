"""Work on many files in processes that may die of one: a grammar's library cannot be interrupted from inside."""

from __future__ import annotations

import json
import mmap
import os
import resource
import select
import signal
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack, suppress
from typing import Any, BinaryIO

from coinjar.core.errors import ExternalError

_LONGEST = 2
"""Whole seconds of processor time after which the kernel ends a worker, at the next one: a reader is given as many, and
ends itself where it can.
"""
_POSITION = 4
"""Bytes of a worker's position in its part."""

Work = Callable[[str], list[Any]]
"""What is done with a file: its result is JSON."""


def in_workers(
    parts: Iterable[list[str]], work: Work, ended: Callable[[int], list[Any]], most: int
) -> Iterator[list[tuple[str, list[Any]]]]:
    """Yield the results of each part, in any order, of at most `most` processes, which work while more parts come.

    `ended` gives the result for a file at which a process ended, by its signal (SIGXCPU: it took too long); its other
    files are not affected. Raises ExternalError if not even one process can be started.
    """
    coming, is_all = iter(parts), False
    waiting: deque[list[str]] = deque()
    workers: dict[int, _Worker] = {}
    idle: list[_Worker] = []
    try:
        while not is_all or waiting or len(workers) > len(idle):
            if not is_all:
                part = next(coming, None)
                is_all = part is None
                waiting.extend([part] if part else [])
            while waiting and (idle or len(workers) < most):
                if not idle:
                    new = _started(work, [*workers.values()])
                    if new is None:
                        most = len(workers)
                        break
                    idle.append(new)
                    workers[new.results.fileno()] = new
                idle.pop().send(waiting.popleft())
            busy = [number for number, worker in workers.items() if worker not in idle]
            for number in _ready(busy, wait=is_all):
                worker = workers[number]
                results = worker.received()
                if results is None:
                    del workers[number]
                    path, rest = worker.lost()
                    yield [(path, ended(worker.end()))]
                    waiting.extend(part for part in rest if part)
                    continue
                if waiting:
                    worker.send(waiting.popleft())
                else:
                    idle.append(worker)
                yield results
    finally:
        for worker in workers.values():
            worker.end()


def _started(work: Work, others: Sequence[_Worker]) -> _Worker | None:
    """Start a process; None if only the others can be had (a limit on processes, as in a container).

    Raises ExternalError if there are no others.
    """
    try:
        return _Worker(work, others)
    except OSError as fault:
        if others:
            return None
        raise ExternalError(
            f"cannot start the process that reads files: {(fault.strerror or '').lower()}",
            hint="allow this user, or this container, more processes, open files or memory",
            code="process",
        ) from None


def _ready(numbers: Iterable[int], *, wait: bool) -> list[int]:
    """Return which of the descriptors can be read; if none can, wait for one, or return none."""
    poll = select.poll()
    for number in numbers:
        poll.register(number, select.POLLIN)
    return [number for number, _ in poll.poll(None if wait else 0)]


def _pipe(opened: ExitStack) -> tuple[int, int]:
    """Open a pipe, whose ends are closed with `opened`."""
    out, into = os.pipe()
    opened.callback(os.close, out)
    opened.callback(os.close, into)
    return out, into


class _Worker:
    """A process that works on parts, one after the other; it ends with the process that started it.

    `others` are those started before: what leads to them is not inherited, so that they end when it is closed here.
    """

    def __init__(self, work: Work, others: Sequence[_Worker]) -> None:
        self.requests: int
        self.results: BinaryIO
        starter = os.getpid()
        with ExitStack() as opened:
            ends = [*_pipe(opened), *_pipe(opened)]
            self._position = mmap.mmap(-1, _POSITION)
            self.process = os.fork()
            opened.pop_all()
        requests_out, requests_in, results_out, results_in = ends
        self._part: list[str] = []
        if self.process == 0:
            for number in (
                requests_in,
                results_out,
                *(end for other in others for end in (other.requests, other.results.fileno())),
            ):
                os.close(number)
            self._serve(work, requests_out, results_in, starter)
        os.close(requests_out)
        os.close(results_in)
        self.requests = requests_in
        self.results = os.fdopen(results_out, "rb")

    def send(self, part: list[str]) -> None:
        """Give it a part."""
        self._part = part
        self._position[:] = bytes(_POSITION)
        with suppress(BrokenPipeError):  # it has ended, which `received` finds
            os.write(self.requests, json.dumps(part).encode() + b"\n")

    def received(self) -> list[tuple[str, list[Any]]] | None:
        """Return the results of its part; None if it has ended."""
        line = self.results.readline()
        return list(zip(self._part, json.loads(line), strict=True)) if line.endswith(b"\n") else None

    def lost(self) -> tuple[str, list[list[str]]]:
        """Return the file at which it ended, and the parts that are left of its part."""
        at = int.from_bytes(self._position[:], "little")
        return self._part[at], [self._part[:at], self._part[at + 1 :]]

    def end(self) -> int:
        """End it, and return the signal that it ended with, or 0."""
        os.close(self.requests)
        self.results.close()
        os.kill(self.process, signal.SIGKILL)  # one that has ended is still there, until it is waited for
        _, status = os.waitpid(self.process, 0)
        self._position.close()
        return os.WTERMSIG(status) if os.WIFSIGNALED(status) else 0

    def _serve(self, work: Work, requests_out: int, results_in: int, starter: int) -> None:
        """Work until nothing more comes, or the process `starter` has ended; never returns."""
        code = 1
        try:
            signal.signal(signal.SIGINT, signal.SIG_DFL)
            signal.signal(signal.SIGXCPU, signal.SIG_DFL)
            resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
            with os.fdopen(requests_out, "rb") as lines:
                for line in lines:
                    results = []
                    for number, path in enumerate(json.loads(line)):
                        if os.getppid() != starter:
                            return
                        self._position[:] = number.to_bytes(_POSITION, "little")
                        _limit()
                        results.append(work(path))
                    data = memoryview(json.dumps(results, separators=(",", ":")).encode() + b"\n")
                    while data:
                        data = data[os.write(results_in, data) :]
            code = 0
        finally:
            os._exit(code)


def _limit() -> None:
    """Let the kernel end this process after so much more processor time."""
    _, most = resource.getrlimit(resource.RLIMIT_CPU)
    soft = int(time.process_time()) + 1 + _LONGEST
    resource.setrlimit(resource.RLIMIT_CPU, (soft if most == resource.RLIM_INFINITY else min(soft, most), most))
