"""A dialect whose consumer writes the names of variables in its own way."""

from __future__ import annotations

from collections.abc import Sequence

from coinjar.core.name_spelling import NameSpelling
from coinjar.dialects.base import Dialect, Entry, FileHeader, ReadResult

NOT_SPELLED = ("settings", "exec-script", "example", "stage-prefixed", "containerfile")
"""Dialects whose names are those of the environment, or that join them with other words by a rule of their own."""


class SpelledDialect(Dialect):
    """Writes with another dialect under the consumer's names, and reads them back as those of the jar.

    A name there that none of the jar is written as is marked, so that it is never taken for one of the jar.
    """

    def __init__(self, inner: Dialect, spelling: NameSpelling) -> None:
        self.inner = inner
        self.spelling = spelling
        self.name = inner.name
        self.about = inner.about
        self.reads = inner.reads
        self.many_stages = inner.many_stages

    def _spelled(self, entries: Sequence[Entry]) -> list[Entry]:
        return [entry._replace(name=self.spelling.there(entry.name)) for entry in entries]

    def unsupported_reason(self, name: str, value: str) -> str | None:
        return self.inner.unsupported_reason(self.spelling.there(name), value)

    def clash(self, entries: Sequence[Entry]) -> str | None:
        return self.inner.clash(self._spelled(entries))

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        return self.inner.write(self._spelled(entries), heading)

    def update(self, old: bytes, file: str, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        return self.inner.update(old, file, self._spelled(entries), heading)

    def read(self, data: bytes, file: str) -> ReadResult:
        reading = self.inner.read(data, file)
        return reading._replace(
            items=[item._replace(name=self.spelling.read_as(item.name)) for item in reading.items],
            unread=frozenset(self.spelling.here(name) or name for name in reading.unread),
        )
