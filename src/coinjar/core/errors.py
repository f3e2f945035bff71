"""All errors: each has a location, a code, a hint, and the exit code of the program."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable
from functools import lru_cache
from itertools import accumulate
from typing import NamedTuple


class Location(NamedTuple):
    """A position in a file. Line and column count from 1; 0 means the file as a whole."""

    file: str
    line: int = 0
    column: int = 0

    def __str__(self) -> str:
        return f"{self.file}:{self.line}:{self.column}" if self.line else self.file


def location_of(text: str, at: int, file: str) -> Location:
    """Return the location of an offset in a text."""
    starts = _line_starts(text)
    line = bisect_right(starts, at)
    return Location(file, line, at - starts[line - 1] + 1)


@lru_cache(maxsize=4)
def _line_starts(text: str) -> list[int]:
    """Cached: readers ask for the place of each thing that they find in one text."""
    return [0, *accumulate(len(line) + 1 for line in text.split("\n"))]


class CoinJarError(Exception):
    """Anything a user can cause. Never contains a secret's text."""

    exit_code = 3

    def __init__(
        self,
        message: str,
        *,
        hint: str,
        location: Location | None = None,
        code: str = "input",
        subject: str = "",
        of: str = "",
    ) -> None:
        self.message = f"{of}: {message}" if of else message
        super().__init__(self.message)
        self.words = message
        self.of = of
        """The system that the error is about, which `message` names before `words`; "" for none."""
        self.hint = hint
        self.location = location
        self.code = code
        self.subject = subject
        """The name of the variable that the error is about, if any."""

    def __str__(self) -> str:
        where = f"{self.location}: " if self.location else ""
        return f"{where}{self.message}"

    def each(self) -> list[CoinJarError]:
        """Return the single errors in this one."""
        return [self]


class InputError(CoinJarError):
    """The jar or another input is invalid (exit 3)."""


class UsageError(CoinJarError):
    """The command line asks for something impossible (exit 2)."""

    exit_code = 2


class ExternalError(CoinJarError):
    """An external system failed: a file that cannot be written, a command that fails (exit 5)."""

    exit_code = 5


class DecryptionError(CoinJarError):
    """A secret cannot be decrypted: there is no identity, it is encrypted for others, or it was tampered with (exit
    4).
    """

    exit_code = 4


def is_encrypted_for_others(fault: CoinJarError) -> bool:
    """Return whether the value is encrypted for others than whoever runs this, with nothing else wrong."""
    return fault.code in ("no-identity", "identity-open", "not-for-us", "no-consent")


class ErrorGroup(CoinJarError):
    """All errors of one input at once; the exit code is that of the first."""

    def __init__(self, errors: Iterable[CoinJarError]) -> None:
        self.errors = [fault for error in errors for fault in error.each()]
        first = self.errors[0]
        super().__init__(first.message, hint=first.hint, location=first.location, code=first.code)
        self.exit_code = first.exit_code

    def __str__(self) -> str:
        return "\n".join(str(error) for error in self.errors)

    def each(self) -> list[CoinJarError]:
        return self.errors


def raise_all(errors: list[CoinJarError]) -> None:
    """Raise nothing, the only error, or all of them as one ErrorGroup."""
    if len(errors) == 1:
        raise errors[0]
    if errors:
        raise ErrorGroup(errors)
