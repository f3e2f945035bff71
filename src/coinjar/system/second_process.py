"""Work in a second process while this one goes on, where there is a second processor."""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from types import TracebackType
from typing import Any, Concatenate, Generic, NoReturn, ParamSpec, Self, TypeVar

T = TypeVar("T")
R = TypeVar("R")
P = ParamSpec("P")


class CopyFailed(Exception):
    """The other process ended before it sent what was waited for."""


class Line:
    """What goes to and fro between a process and its copy: all that pickle takes."""

    def __init__(self, incoming: int, outgoing: int) -> None:
        self._incoming = os.fdopen(incoming, "rb")
        self._outgoing = os.fdopen(outgoing, "wb")

    def send(self, data: object) -> None:
        """Send data; waits where the other one is not ready for much of it. Raises CopyFailed."""
        import pickle  # only large jars need a copy

        try:
            pickle.dump(data, self._outgoing, protocol=pickle.HIGHEST_PROTOCOL)
            self._outgoing.flush()
        except BrokenPipeError:
            raise CopyFailed from None

    def receive(self) -> Any:  # noqa: ANN401 - whatever the other one sent
        """Wait for data. Raises CopyFailed."""
        import pickle

        try:
            return pickle.load(self._incoming)  # noqa: S301 - written by our own copy, through a pipe nobody else has
        except (EOFError, pickle.UnpicklingError):
            raise CopyFailed from None

    def close(self) -> None:
        """Close both directions, whatever has not been sent yet."""
        self._incoming.close()
        with suppress(BrokenPipeError):
            self._outgoing.close()


class Copy(Line):
    """A copy of this process that works beside it; it is ended with the block that it is used in."""

    def __init__(self, process: int, incoming: int, outgoing: int) -> None:
        super().__init__(incoming, outgoing)
        self._process = process

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, fault: BaseException | None, traceback: TracebackType | None
    ) -> None:
        self.end()

    def end(self) -> None:
        """End the copy, whatever it is doing."""
        self.close()
        os.kill(self._process, signal.SIGKILL)
        os.waitpid(self._process, 0)


def started(work: Callable[[Line], None]) -> Copy | None:
    """Start `work` in a copy of this process; None where there is no second processor, or no copy can be made safely.

    The work must not print, ask, or change anything. Whatever fails in it is to be done here again, where its error is
    raised as usual.
    """
    # With other threads a copy may wait for a lock for ever.
    if len(os.sched_getaffinity(0)) < 2 or threading.active_count() > 1:
        return None
    to_starter, to_copy = os.pipe(), os.pipe()
    try:
        process = os.fork()
    except OSError:  # a limit on processes, as in a container
        for end in (*to_starter, *to_copy):
            os.close(end)
        return None
    if process == 0:
        os.close(to_starter[0])
        os.close(to_copy[1])
        _serve(work, to_copy[0], to_starter[1])
    os.close(to_starter[1])
    os.close(to_copy[0])
    return Copy(process, to_starter[0], to_copy[1])


def _serve(work: Callable[[Line], None], incoming: int, outgoing: int) -> NoReturn:
    """Do the work; never returns. An error only ends it, as the starter does the work again."""
    try:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
        work(Line(incoming, outgoing))
    finally:
        os._exit(0)


class Assistant(Generic[T]):
    """An object in a copy of this process, whose methods are called while this process goes on; no call changes it.

    Where the copy fails, the object is made here, and its methods are called when their results are waited for. Read
    the last result before the next call if both may be large: a pipe holds 64 KiB, and both processes would wait.
    """

    def __init__(self, make: Callable[[], T], copy: Copy) -> None:
        self._make = make
        self._copy = copy
        self._here: T | None = None

    @classmethod
    @contextmanager
    def started(cls, make: Callable[[], T]) -> Iterator[Assistant[T] | None]:
        """Start making the object; None where there can be no copy. It is ended with the block."""

        def serve(line: Line) -> None:
            made = make()
            while True:
                method, arguments, named = line.receive()
                line.send(getattr(made, method)(*arguments, **named))

        copy = started(serve)
        if copy is None:
            yield None
            return
        with copy:
            yield cls(make, copy)

    def ask(self, method: Callable[Concatenate[T, P], R], *arguments: P.args, **named: P.kwargs) -> Callable[[], R]:
        """Call a method; return what waits for its result. Results must be waited for in the order of the calls."""
        with suppress(CopyFailed):  # noticed when the result is waited for
            self._copy.send((method.__name__, arguments, named))

        def result() -> R:
            if self._here is None:
                try:
                    done: R = self._copy.receive()
                except CopyFailed:
                    self._here = self._make()
                else:
                    return done
            return method(self._here, *arguments, **named)

        return result


def beside(work: Callable[[], T]) -> Callable[[], T]:
    """Start `work` in a copy of this process; return what waits for its result, which must be what pickle takes.

    If the copy cannot do it, whatever the reason, the work is done here when its result is asked for.
    """
    copy = started(lambda line: line.send(work()))
    if copy is None:
        return work

    def result() -> T:
        with copy:
            try:
                done: T = copy.receive()
            except CopyFailed:
                return work()
            return done

    return result
