"""Tables for people: aligned, never wider than the terminal, coloured only on one.

Rich's tables take seconds for 5,000 rows of 40 columns; this module has only what is needed.
"""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterable, Sequence
from functools import cache
from typing import NamedTuple, TextIO
from unicodedata import combining, east_asian_width

from coinjar.core.errors import UsageError

_COMMAND = re.compile(r"`[^`\n]*`")
_JOINED = "\0"
"""Stands for a space that a line is not broken at."""
_STYLES = {
    "bold": "1",
    "dim": "2",
    "red": "31",
    "green": "32",
    "yellow": "33",
    "blue": "34",
    "cyan": "36",
    "bold red": "1;31",
    "": "",
}
_PLAIN = str.maketrans(
    {
        "●": "+",
        "↑": "^",
        "○": "o",
        "·": ".",
        "◆": "@",
        "□": "%",
        "◐": "o",
        "×": "x",
        "ƒ": "f",
        "‼": "!!",
        "…": "~",
        "•": "*",
        "≠": "#",
        "→": "->",
        "└": "`",
        "✓": ">",
        "–": "-",
    }
)
UNLIMITED = sys.maxsize
"""The width if stdout is not a terminal: nothing is truncated."""
_USUAL_WIDTH = 100
_NARROWEST = 4
# Latin letters and the signs of the tables: by far the most, so checked first.
_ONE_COLUMN_EACH = re.compile(r"[\x20-\u02ff●◐↑○◆□‼–•…≠→└✓]*").fullmatch


class StyledText(NamedTuple):
    """A text in one style."""

    text: str
    style: str = ""


ALWAYS, NEVER, AUTO = "always", "never", "auto"
_chosen = AUTO


def choose_colours(when: str) -> None:
    """Decide about colours for this run: always, never, or auto. Raises UsageError for another word."""
    global _chosen  # noqa: PLW0603 - one decision of a process, made before anything is printed
    if when not in (ALWAYS, NEVER, AUTO):
        raise UsageError(f"--color does not know '{when}'", hint="it accepts always, never, auto", code="usage")
    _chosen = when
    colours.cache_clear()


@cache
def colours() -> bool:
    """Return whether to print colours: as chosen, else if stdout is a terminal (NO_COLOR and TERM are respected)."""
    if _chosen != AUTO:
        return _chosen == ALWAYS
    return sys.stdout.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"


def terminal_width() -> int:
    """Return the columns of the terminal, or of COLUMNS; UNLIMITED if stdout is not a terminal."""
    return _columns_of(sys.stdout) if sys.stdout.isatty() else UNLIMITED


def error_columns() -> int:
    """Return the columns of the terminal that stderr is."""
    return _columns_of(sys.stderr)


def _columns_of(stream: TextIO) -> int:
    given = os.environ.get("COLUMNS", "")
    if given.isdigit() and int(given) > 0:
        return int(given)
    try:
        return os.get_terminal_size(stream.fileno()).columns or _USUAL_WIDTH
    except (OSError, ValueError):
        return _USUAL_WIDTH


def terminal_height() -> int:
    """Return the rows of the terminal; without one, no limit."""
    try:
        return os.get_terminal_size(sys.stdout.fileno()).lines or sys.maxsize
    except (OSError, ValueError):
        return sys.maxsize


def width_of(text: str) -> int:
    """Return the columns that a text takes."""
    if text.isascii() or _ONE_COLUMN_EACH(text):
        return len(text)
    return sum(0 if combining(letter) else 2 if east_asian_width(letter) in "WF" else 1 for letter in text)


def widest(texts: Sequence[str]) -> int:
    """Return the columns of the widest of many texts; 0 for none."""
    return max(map(len if is_simple(texts) else width_of, texts), default=0)


def is_simple(texts: Iterable[str]) -> bool:
    """Return whether every character takes one column."""
    return _ONE_COLUMN_EACH("".join(texts)) is not None


def aligned(rows: Sequence[tuple[str, ...]], widths: Sequence[int], *, is_simple: bool) -> list[str]:
    """Return the lines of rows whose texts are no wider than their columns; `is_simple`: one column a character."""
    if is_simple:
        form = "  ".join(f"%-{width}s" for width in widths)
        return [(form % row).rstrip() for row in rows]
    return [
        "  ".join(text + " " * (width - width_of(text)) for text, width in zip(row, widths, strict=True)).rstrip()
        for row in rows
    ]


def cut(text: str, width: int) -> str:
    """Return the text in at most this many columns, with an ellipsis where it is truncated."""
    if width_of(text) <= width:
        return text
    kept = text[: max(width - 1, 0)]
    while kept and width_of(kept) > width - 1:
        kept = kept[:-1]
    return kept + "…" if width > 0 else ""


def fit(natural: Sequence[int], least: Sequence[int], room: int) -> list[int]:
    """Return widths that together take at most `room`, if `least` allows: the widest shrink first, equally."""
    for cap in range(max(natural, default=0), 0, -1):
        widths = [max(min(width, cap), low) for width, low in zip(natural, least, strict=True)]
        if sum(widths) <= room:
            break
    else:
        return (
            list(least)
            if max(least, default=0) <= _NARROWEST
            else fit(least, [min(low, _NARROWEST) for low in least], room)
        )
    for place, width in enumerate(natural):
        if widths[place] < width and sum(widths) < room:
            widths[place] += 1  # what the common cap left over
    return widths


def line(cells: Sequence[StyledText], widths: Sequence[int], gap: str = "  ") -> str:
    """Return one row. The last cell is not padded."""
    colour = colours()
    parts = []
    for number, (cell, width) in enumerate(zip(cells, widths, strict=True)):
        text, used = cell.text, width_of(cell.text)
        if used > width:
            text = cut(text, width)
            used = width_of(text)
        padding = "" if number == len(cells) - 1 else " " * (width - used)
        parts.append((_styled(text, cell.style, True) if colour else text) + padding)
    return gap.join(parts).rstrip()


def _styled(text: str, style: str, colour: bool) -> str:
    return f"\x1b[{_STYLES[style]}m{text}\x1b[0m" if colour and style and text else text


def styled(text: str, style: str) -> str:
    """Return a text in a style, where stdout has colours."""
    return _styled(text, style, colours())


def show(text: str) -> None:
    """Print to stdout; in an encoding without these signs, their nearest plain ones."""
    encoding = (sys.stdout.encoding or "ascii").lower().replace("-", "")
    if not encoding.startswith("utf"):
        text = text.translate(_PLAIN).encode("ascii", "backslashreplace").decode()
    print(text)


def table(
    titles: Sequence[str], rows: Sequence[Sequence[StyledText]], *, least: Sequence[int], width: int
) -> list[str]:
    """Return the lines of a table. `least` is the minimum width of each column."""
    texts = [tuple(titles), *(tuple([cell.text for cell in row]) for row in rows)]
    natural = list(map(widest, zip(*texts, strict=True)))
    if width == UNLIMITED and not colours():  # nothing is truncated or coloured
        lines = aligned(texts, natural, is_simple=all(map(is_simple, texts)))
        return lines if any(titles) else lines[1:]
    widths = fit(
        natural,
        [min(number, other) for number, other in zip(least, natural, strict=True)],
        width - 2 * (len(titles) - 1),
    )
    head = line([StyledText(title, "dim") for title in titles], widths)
    return ([head] if any(titles) else []) + [line(row, widths) for row in rows]


def wrapped_words(text: str, indent: str, room: int | None) -> list[str]:
    """Return the text's lines: broken between words at a terminal's `room` (None: one line). A command in backticks
    stays on one line, to be copied.
    """
    if room is None or width_of(text) <= room:
        return [text]
    from textwrap import wrap

    whole = _COMMAND.sub(lambda match: match[0].replace(" ", _JOINED), text)
    lines = wrap(whole, max(room, 40), subsequent_indent=indent, break_long_words=False, break_on_hyphens=False)
    return [line.replace(_JOINED, " ") for line in lines]
