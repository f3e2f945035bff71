"""Regular expressions that a jar declares: compared with a time limit, because some take longer than a life."""

from __future__ import annotations

import re
import warnings
from collections.abc import Iterator
from contextlib import contextmanager

from coinjar.core.errors import InputError
from coinjar.core.time_limit import time_limit

LONGEST = 1.0
"""Seconds of processor time for one comparison: a busy machine makes no pattern slow."""


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
