"""The table of `coinjar grid`: what it shows of a cell, how wide its columns are, and its lines."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from os.path import commonprefix
from typing import TYPE_CHECKING, NamedTuple

from coinjar.cli.tables import UNLIMITED, StyledText, aligned, colours, cut, fit, is_simple, line, width_of
from coinjar.core.display import Masker, visible
from coinjar.core.grid_signs import AGREEMENT, LEGEND, SIGNS

if TYPE_CHECKING:
    from coinjar.core.grid import Cell, GridRow

_WORDS = {
    "missing": "missing",
    "fault": "cannot be computed",
    "sealed": "encrypted",
    "unset": "unset",
    "none": "",
    "not here": "not here",
}
_STYLES = {
    "own": "bold",
    "inherited": "",
    "shared": "",
    "default": "dim",
    "mine": "yellow",
    "missing": "bold red",
    "fault": "bold red",
    "sealed": "cyan",
    "varies": "cyan",
    "unset": "dim",
    "none": "dim",
    "not here": "dim",
}


def cell_text(cell: Cell, masker: Masker) -> str:
    """Return a cell's sign and words; distinguishable without colour."""
    state, text, secret, derived, variants, _ = cell
    if text is None:
        return f"* {variants} values" if state == "varies" else f"{SIGNS[state]} {_WORDS[state]}".strip()
    return f"{SIGNS[state]} {'ƒ ' if derived else ''}{masker.show(text, secret=secret, short=True)}"


_BEGINNINGS = {state: f"{sign} " for state, sign in SIGNS.items()}


class CellTexts:
    """Makes cells into texts, and remembers which signs these have."""

    def __init__(self, masker: Masker) -> None:
        self.masker = masker
        self.states: set[str] = set()
        self.has_computed = False

    def of(self, cells: Iterable[Cell]) -> list[str]:
        """Return the text of each cell. A hot loop: neighbours often share a cell, and most are plain texts that every
        terminal shows unchanged.
        """
        texts = []
        last, shown, states = None, "", self.states
        for cell in cells:
            if cell is not last:
                state, text, secret, derived, _, _ = last = cell
                states.add(state)
                if text and not secret and not derived and text.isascii() and text.isprintable():
                    shown = _BEGINNINGS[state] + text
                else:
                    shown = cell_text(cell, self.masker)
                    self.has_computed = self.has_computed or (derived and text is not None)
            texts.append(shown)
        return texts


class TableFacts(NamedTuple):
    """What must be known of all rows before the first one is shown.

    `natural` are the widths of the columns that may fit; `are_simple`: every character takes one column.
    """

    rows: int
    name_width: int
    natural: list[int]
    are_simple: bool
    states: set[str]
    has_computed: bool
    agreements: set[str]

    def beside(self, other: TableFacts) -> TableFacts:
        """Return the facts of both together."""
        return TableFacts(
            self.rows + other.rows,
            max(self.name_width, other.name_width),
            list(map(max, self.natural, other.natural)),
            self.are_simple and other.are_simple,
            self.states | other.states,
            self.has_computed or other.has_computed,
            self.agreements | other.agreements,
        )


class TableShape(NamedTuple):
    """How a table is shown: the widths of its columns, the name's and the sign's first."""

    widths: list[int]
    are_simple: bool
    is_plain: bool
    """Nothing is truncated or coloured."""

    @property
    def kept(self) -> int:
        """How many of the grid's columns are shown."""
        return len(self.widths) - 2

    @classmethod
    def of(cls, facts: TableFacts, width: int) -> TableShape:
        """Return the shape in which these rows fit in a terminal's width."""
        name_width = min(facts.name_width, max(16, width * 3 // 10))
        room = width - name_width - 5  # after the name, the sign and the two gaps between
        is_plain = width == UNLIMITED and not colours()
        return cls([name_width, 1, *_share(facts.natural, room)], facts.are_simple, is_plain)


_AT_ONCE = 500
"""Rows that are made into text together: a large grid has a hundred megabytes of it."""
_LEAST_COLUMN, _WIDEST_COLUMN = 13, 40


def facts_of(rows: Sequence[GridRow], titles: Sequence[str], width: int, masker: Masker) -> TableFacts:
    """Return the facts of rows under these titles, for a terminal's width."""
    most = len(titles) if width == UNLIMITED else min(len(titles), max(width // 3, 1))
    cell_texts = CellTexts(masker)
    natural = [width_of(title) for title in titles[:most]]
    are_simple = is_simple(row.variable.name for row in rows)
    for start in range(0, len(rows), _AT_ONCE):
        batch = [cell_texts.of(row.cells[:most]) for row in rows[start : start + _AT_ONCE]]
        is_batch_simple = is_simple("".join(texts) for texts in batch)
        are_simple = are_simple and is_batch_simple
        measure = len if is_batch_simple else width_of
        columns = zip(*batch, strict=True)
        natural = [max(known, *map(measure, texts)) for known, texts in zip(natural, columns, strict=True)]
    return TableFacts(
        len(rows),
        max((len(row.variable.name) for row in rows), default=0),
        natural if width == UNLIMITED else [min(one, _WIDEST_COLUMN) for one in natural],
        are_simple,
        cell_texts.states,
        cell_texts.has_computed,
        {row.agreement for row in rows},
    )


def lines_of(rows: Sequence[GridRow], shape: TableShape, cell_texts: CellTexts) -> list[str]:
    """Return the lines of rows."""
    texts = [cell_texts.of(row.cells[: shape.kept]) for row in rows]
    if shape.is_plain:
        whole = [(row.variable.name, AGREEMENT[row.agreement], *cells) for row, cells in zip(rows, texts, strict=True)]
        return aligned(whole, shape.widths, is_simple=shape.are_simple)
    return [_styled_line(row, cells, shape.widths) for row, cells in zip(rows, texts, strict=True)]


def _apart(row: GridRow, texts: Sequence[str], widths: list[int]) -> Sequence[str]:
    """Return a row's texts so that they stay distinguishable: if truncation makes different ones equal, their common
    beginning is cut.
    """
    if all(width_of(text) <= width for text, width in zip(texts, widths, strict=True)):
        return texts
    shown = [visible(cell.text) for cell in row.cells[: len(texts)] if cell.text is not None and not cell.secret]
    visited = {
        cut(text, width)
        for text, width, cell in zip(texts, widths, row.cells, strict=False)
        if cell.text is not None and not cell.secret
    }
    shared = len(commonprefix(shown)) - 2  # noqa: RUF071 - characters are meant, not paths
    if shared < 4 or len(visited) >= len(set(shown)):
        return texts
    return [
        text
        if cell.text is None or cell.secret
        else text.replace(visible(cell.text), "…" + visible(cell.text)[shared:])
        for text, cell in zip(texts, row.cells, strict=False)
    ]


def _styled_line(row: GridRow, texts: Sequence[str], widths: list[int]) -> str:
    apart = _apart(row, texts, widths[2:])
    cells = [StyledText(text, _STYLES[cell.state]) for text, cell in zip(apart, row.cells, strict=False)]
    agreement = StyledText(AGREEMENT[row.agreement], "yellow" if row.agreement == "different" else "dim")
    return line([StyledText(row.variable.name), agreement, *cells], widths)


def _share(natural: list[int], room: int) -> list[int]:
    """Return widths for as many columns as fit, two spaces between them."""
    least = [min(number, _LEAST_COLUMN) for number in natural]
    kept = 0
    while kept < len(natural) and sum(least[: kept + 1]) + 2 * kept <= room:
        kept += 1
    kept = max(kept, 1)
    return fit(natural[:kept], least[:kept], room - 2 * (kept - 1))


def legend(facts: TableFacts, width: int) -> list[str]:
    """Return the lines that say what the signs mean."""
    parts = [words for state, words in LEGEND.items() if state in facts.states]
    parts += ["ƒ computed from others"] if facts.has_computed else []
    parts += [
        f"{sign} {words}"
        for kind, sign, words in (
            ("same", "=", "same in all columns"),
            ("different", "≠", "differs"),
            ("unknown", "?", "cannot be compared"),
        )
        if kind in facts.agreements
    ]
    return wrapped("   ".join(parts), width, "   ")


def wrapped(text: str, width: int, gap: str = " ") -> list[str]:
    """Return lines of at most `width`, broken at gaps."""
    lines = [""]
    for part in text.split(gap):
        longer = f"{lines[-1]}{gap}{part}" if lines[-1] else part
        if width_of(longer) <= width:
            lines[-1] = longer
        else:
            lines.append(part)
    return [cut(line, width) for line in lines if line]
