"""The last step of everything that is printed: no character of a name, a path or an answer acts on the terminal."""

from __future__ import annotations

import errno
import io
import os
import re
import sys
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, TextIO

from coinjar.core.display import escaped

if TYPE_CHECKING:
    from typing_extensions import Buffer

_OWN = r"(\x1b\[(?:[0-2]|3[1-6]|1;31)m)"
"""The styles of our own tables; a name that contains one of them changes a colour, and nothing else."""
_PLAIN = r"[\n\t\x20-\x7e\xa1-\xac\xae-\u034e\u2010-\u2027\u2030-\u205f\u2070-\u2bff]*"
"""Most of what is printed, at once: Latin letters, digits, signs also of our tables, tabs and line ends."""


def printable(text: str) -> str:
    """Return a text as it may be printed: control, direction-changing and invisible characters are escaped, except line
    ends, tabs and our own styles.
    """
    if re.fullmatch(_PLAIN, text):  # compiled at first use: `within` prints nothing
        return text
    parts = re.split(_OWN, text)
    return "".join(part if at % 2 else escaped(part, keep="\n\t") for at, part in enumerate(parts))


class VisibleText(io.TextIOWrapper):
    """A text stream that writes only what `printable` returns. Bytes written to its buffer are as they are."""

    def write(self, text: str) -> int:
        """Write a text; return the number of its characters."""
        super().write(printable(text))
        return len(text)


def draw(text: str) -> None:
    """Write control sequences of our own to stderr, which is a terminal. Nothing foreign may be part of the text."""
    sys.stderr.flush()
    sys.stderr.buffer.write(text.encode(sys.stderr.encoding, "replace"))
    sys.stderr.buffer.flush()


class _ClosedOutput(io.RawIOBase):
    """Stands for an output that was closed before we began: what is written is lost, which is an error until
    that `is_reported`.
    """

    is_reported = False

    def writable(self) -> bool:
        return True

    def write(self, data: Buffer) -> int:
        if self.is_reported:
            return memoryview(data).nbytes
        raise OSError(errno.EBADF, os.strerror(errno.EBADF))


def drop_output() -> None:
    """Give up what cannot be written to stdout, so that the end of the process does not try again."""
    raw = getattr(getattr(sys.stdout, "buffer", None), "raw", None)
    if isinstance(raw, _ClosedOutput):
        raw.is_reported = True
    with suppress(OSError, ValueError):
        null = os.open(os.devnull, os.O_WRONLY)
        os.dup2(null, sys.stdout.fileno())
        os.close(null)
    with suppress(OSError, ValueError):
        sys.stdout.flush()


def _open_missing() -> None:
    """Open the standard streams that were closed: otherwise the next file that is opened would get their number, and
    what is printed would be written into it.
    """
    if sys.stdin is None or sys.stdout is None or sys.stderr is None:
        for number, flag in ((0, os.O_RDONLY), (1, os.O_WRONLY), (2, os.O_WRONLY)):
            try:
                os.fstat(number)
            except OSError:
                os.open(os.devnull, flag)  # takes the lowest free number
    if sys.stdin is None:
        sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115 - a standard stream
    if sys.stdout is None:
        sys.stdout = io.TextIOWrapper(io.BufferedWriter(_ClosedOutput()), encoding="utf-8")
    if sys.stderr is None:
        sys.stderr = open(2, "w", encoding="utf-8", errors="backslashreplace", closefd=False)  # noqa: SIM115 - as above


@contextmanager
def visible_output() -> Iterator[None]:
    """Print only visible characters to stdout and stderr."""
    _open_missing()
    before = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = (_visible(stream) for stream in before)
    try:
        yield
    finally:
        streams = sys.stdout, sys.stderr
        sys.stdout, sys.stderr = before
        for stream, old in zip(streams, before, strict=True):
            if stream is not old and not stream.closed:
                with suppress(OSError):  # reported before, or the reader is gone
                    stream.flush()
                with suppress(OSError):
                    # A TextIOWrapper of ours; the buffer is the old stream's.
                    stream.detach()  # type: ignore[attr-defined]


def _visible(stream: TextIO) -> TextIO:
    if isinstance(stream, VisibleText) or not isinstance(stream, io.TextIOWrapper):
        return stream  # closed by the caller, or something of a program that uses this one as a library
    stream.flush()
    return VisibleText(
        stream.buffer,
        encoding=stream.encoding,
        errors=stream.errors,
        line_buffering=stream.line_buffering,
        write_through=stream.write_through,
    )
