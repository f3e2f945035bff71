"""How long a request may wait for its next try."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple


def _say_nothing(_: str) -> None:
    """Show no wait."""


class RequestPatience(NamedTuple):
    """`longest`: how long one request may wait, in seconds; `note` shows that it waits longer than a moment."""

    longest: float = 60.0
    note: Callable[[str], None] = _say_nothing
