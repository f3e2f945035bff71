"""How long work tells how far it is."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TypeAlias, TypeVar

T = TypeVar("T")
Progress: TypeAlias = Callable[[str, int, int], None]
"""Takes what is done, how many of it are done, and of how many."""


def told(items: Sequence[T], what: str, progress: Progress | None) -> Iterator[T]:
    """Yield the items, and tell after each how far it is."""
    for done, item in enumerate(items):
        if progress is not None:
            progress(what, done, len(items))
        yield item
    if progress is not None:
        progress(what, len(items), len(items))
