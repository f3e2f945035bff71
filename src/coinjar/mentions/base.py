"""Results of a search: mentions, and expressions whose name is known only at run time."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

READ, SET, PRESENCE = "read", "set", "presence"
"""How a variable is used: `read` for its value; `set` or removed; `presence` if only its existence is tested."""
VARIABLE, EXPRESSION, MISPLACED = "variable", "expression", "misplaced"
"""How a reference is written: for a program or a shell; for the pipeline service, which replaces it before a shell
runs; misplaced, where nothing expands it.
"""


class Mention(NamedTuple):
    """A variable's name in a text: bytes `start` to `end`. `default` is what the code falls back to.

    `renamed` is the replacement under another name (`{}`), where more than the name must change; `local` is the name
    behind it (`{NAME: local}`), which is dropped where both are the same; `service` is the document's own service.

    `probable`: the helper or form by which it is taken for a variable, where nothing else shows it; "" if it is one.
    `kind`: what the code says of its kind. The text at its place may be another spelling of the name.
    """

    name: str
    start: int
    end: int
    access: str = READ
    default: str | None = None
    way: str = VARIABLE
    renamed: str = "{}"
    service: str | None = None
    local: str = ""
    probable: str = ""
    kind: str = ""


class ComputedName(NamedTuple):
    """A name that is known only at run time: bytes `start` to `end` of the expression that computes it."""

    start: int
    end: int


class UnreadPart(NamedTuple):
    """Why a text could not be read, and where (from 1; 0: unknown): its mentions are not known."""

    line: int
    column: int
    message: str


class TooLongToRead(Exception):
    """A text takes more time, or more steps from name to name, than its size explains."""


class TextMentions(NamedTuple):
    """The mentions of one text, in order of position; for a text that could not be read as a whole, those found up to
    there.
    """

    mentions: list[Mention]
    unknown: list[ComputedName]
    unread: UnreadPart | None = None


def in_order(mentions: Iterable[Mention], unknown: Iterable[ComputedName] = ()) -> TextMentions:
    """Return one mention per position: a certain one, then the first with a default, else the first."""
    best: dict[int, Mention] = {}
    for mention in mentions:
        known = best.get(mention.start)
        if known is not None and bool(known.probable) != bool(mention.probable):
            best[mention.start] = mention if known.probable else known
        elif known is None or (
            known.default is None and mention.default is not None and known.access == mention.access
        ):
            best[mention.start] = mention
    return TextMentions(sorted(best.values(), key=lambda mention: mention.start), sorted(set(unknown)))
