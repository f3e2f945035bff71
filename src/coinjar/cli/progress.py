"""A bar for long work, on a terminal only."""

from __future__ import annotations

import sys
from time import monotonic

from coinjar.cli.tables import error_columns
from coinjar.cli.visible_output import draw
from coinjar.core.display import visible
from coinjar.core.progress import Progress

_SOON = 0.3
"""Seconds of work that nobody needs a bar for."""
_WIDTH = 24
_CLEAR = "\r\x1b[K"


def progress() -> Progress | None:
    """Return what draws a bar with the time left, on stderr; None where stderr is no terminal, as in a log."""
    return ProgressBar().show if sys.stderr.isatty() else None


class ProgressBar:
    """Draws one line, which is gone at the end. The time left is that of what was done so far."""

    def __init__(self) -> None:
        self._began = monotonic()
        self._drawn = False

    def show(self, what: str, done: int, of: int) -> None:
        """Show how far the work is; `done` is at most `of`."""
        elapsed = monotonic() - self._began
        if done >= of:
            if self._drawn:
                draw(_CLEAR)
            self._drawn = False
            self._began = monotonic()  # of what may follow
            return
        if elapsed < _SOON:
            return
        self._drawn = True
        filled = _WIDTH * done // of
        left = f", about {_time(elapsed / done * (of - done))} left" if done else ""
        line = f"{visible(what)} {'━' * filled}{'─' * (_WIDTH - filled)} {done} of {of}{left}"
        draw(f"{_CLEAR}{line[: error_columns() - 1]}")


def _time(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 100 else f"{seconds / 60:.0f} min"
