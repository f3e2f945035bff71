"""Regular expressions that a jar declares: compared with a time limit, because some take longer than a life. The limit
is for other work on foreign text as well.
"""

from __future__ import annotations

import re
import signal
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from coinjar.core.errors import InputError

LONGEST = 1.0
"""Seconds of processor time for one comparison: a busy machine makes no pattern slow."""
_AGAIN = 0.5
"""Seconds after which the exception is raised again, where the work did not end with it."""


_slow: set[str] = set()


class TooSlow(InputError):
    """A pattern that takes too long on a text."""

    def __init__(self, pattern: str) -> None:
        super().__init__(
            f"a text takes too long to compare with the pattern {pattern}",
            hint="write it without a repetition inside of a repetition",
            code="pattern",
        )


def check_pattern(pattern: str) -> None:
    """Raise re.error for a text that is not a regular expression; a warning of Python is not a fault."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", FutureWarning)
        re.compile(pattern)


def fullmatch(pattern: str, text: str) -> re.Match[str] | None:
    """Return the match of a whole text. Raises TooSlow."""
    with limited(pattern):
        return re.fullmatch(pattern, text)


def search(pattern: str, text: str) -> re.Match[str] | None:
    """Return the first match in a text. Raises TooSlow."""
    with limited(pattern):
        return re.search(pattern, text)


def find_all(pattern: str, text: str) -> list[re.Match[str]]:
    """Return every match in a text, `^` and `$` at every line. Raises TooSlow."""
    with limited(pattern):
        return list(re.finditer(pattern, text, re.MULTILINE))


@contextmanager
def limited(pattern: str) -> Iterator[None]:
    """Limit the time of a comparison. A pattern that was too slow once is not tried again. Raises TooSlow."""
    if pattern in _slow:
        raise TooSlow(pattern)

    def exceeded() -> TooSlow:
        _slow.add(pattern)
        return TooSlow(pattern)

    with time_limit(LONGEST, exceeded):
        yield


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
