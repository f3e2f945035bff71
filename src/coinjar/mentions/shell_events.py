"""What happens to names in a shell script, in the order in which it runs."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

ASSIGNS, EXPORTS, CHILD, UNSET, READS, ASKS, INDIRECT, CALLS = range(8)
NAME = re.compile(rb"[A-Za-z_]\w*")


class NameEvent(NamedTuple):
    """An event of a name: a variable's, or with CALLS a command's."""

    what: int
    name: str
    start: int
    end: int
    default: str | None = None

    def moved(self, by: int) -> NameEvent:
        """Return the event of a text that begins so many bytes later."""
        return self._replace(start=self.start + by, end=self.end + by)


def as_run(written: Iterable[NameEvent], functions: Mapping[str, Iterable[NameEvent]]) -> Iterator[NameEvent]:
    """Yield the events as a script runs them: those of a function where it is called first; at the end if never."""
    waiting = dict(functions)
    running = [iter(written)]
    while running or waiting:
        if not running:
            running.append(iter(waiting.pop(next(iter(waiting)))))
        event = next(running[-1], None)
        if event is None:
            running.pop()
        elif event.what != CALLS:
            yield event
        elif event.name in waiting:
            running.append(iter(waiting.pop(event.name)))
