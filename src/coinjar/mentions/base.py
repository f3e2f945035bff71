"""What is found: mentions, and places whose name is known only when the program runs."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

READ, SET, PRESENCE = "read", "set", "presence"
"""How a variable is used: its value; given a value, or taken away; taken for true if it is there, whatever it says."""
VARIABLE, EXPRESSION, MISPLACED = "variable", "expression", "misplaced"
"""How a place refers: as a program or a shell does; replaced by the pipeline service before any shell sees it; in a way that nothing looks at there."""


class Mention(NamedTuple):
    """A variable's name in a text: bytes `start` to `end`. `default` is what the code falls back to.

    `renamed` is what stands there under another name (`{}`), where more than the name must change; `service` is the document's own service.
    """

    name: str
    start: int
    end: int
    access: str = READ
    default: str | None = None
    way: str = VARIABLE
    renamed: str = "{}"
    service: str | None = None


class ComputedName(NamedTuple):
    """A name that only the running program knows: bytes `start` to `end` of the expression that makes it."""

    start: int
    end: int


class UnreadPart(NamedTuple):
    """Why a text could not be read, and where (from 1; 0: no place is known): what it mentions is not known."""

    line: int
    column: int
    message: str


class TextMentions(NamedTuple):
    """What one text mentions, in the order of its places; what was found so far of one that could not be read as a whole."""

    mentions: list[Mention]
    unknown: list[ComputedName]
    unread: UnreadPart | None = None


def in_order(mentions: Iterable[Mention], unknown: Iterable[ComputedName] = ()) -> TextMentions:
    """One mention a place: the first that knows a default, else the first."""
    best: dict[int, Mention] = {}
    for mention in mentions:
        known = best.get(mention.start)
        if known is None or (known.default is None and mention.default is not None and known.access == mention.access):
            best[mention.start] = mention
    return TextMentions(sorted(best.values(), key=lambda mention: mention.start), sorted(set(unknown)))
