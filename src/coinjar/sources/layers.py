"""Several sources as layers, as programs read them that load one file over another: the last one wins."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from coinjar.dialects.base import ReadItem, ReadResult
from coinjar.sources.base import SourceVariables


def parts_of(text: str) -> list[str]:
    """Return the sources of `A,B`: a part without a notation of its own has the one before it (`file+toml:a,b`).

    A file whose name has a comma is one source.
    """
    parts = text.split(",")
    head, _, named = text.partition(":")
    is_one_file = Path(text).exists() or ("," not in head and named != "" and Path(named).exists())
    if len(parts) == 1 or not all(parts) or is_one_file:
        return [text]
    result: list[str] = []
    prefix = ""
    for part in parts:
        head, colon, _ = part.partition(":")
        is_path = "/" in head or "." in head
        if colon and not is_path:
            prefix = f"{head}:"
            result.append(part)
        else:
            result.append(prefix + part)
    return result


def layered(text: str, sources: Sequence[SourceVariables]) -> SourceVariables:
    """Return sources as one: what a later one has replaces what earlier ones have."""
    items: list[ReadItem] = []
    for source in sources:
        over = source.reading.items
        items = [item for item in items if not any(_replaces(other, item) for other in over)] + over
    dialects = list(dict.fromkeys(source.dialect for source in sources))
    return SourceVariables(
        text,
        " and ".join(dialects),
        f"{len(sources)} layers, the last one wins",
        ReadResult(
            items,
            [remark for source in sources for remark in source.reading.remarks],
            frozenset(name for source in sources for name in source.reading.unread),
        ),
        {place: comment for source in sources for place, comment in source.comments.items()},
    )


def _replaces(over: ReadItem, item: ReadItem) -> bool:
    return over.name == item.name and over.service in (None, item.service) and over.stage in (None, item.stage)
