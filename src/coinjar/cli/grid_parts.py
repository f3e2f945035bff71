"""The rows of a grid, in parts: two processes share those of a large one."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, nullcontext
from typing import TYPE_CHECKING, Concatenate, ParamSpec

from coinjar.cli.common import json_encoder
from coinjar.cli.grid_json import json_row
from coinjar.cli.grid_table import CellTexts, TableFacts, TableShape, facts_of, lines_of
from coinjar.core.display import Masker
from coinjar.system.second_process import Assistant

if TYPE_CHECKING:
    from coinjar.core.grid import GridRow

P = ParamSpec("P")
CHUNK = 500
"""Variables whose rows are made into text together: a large grid has a hundred megabytes of it."""
_LARGE = 40_000
"""Cells."""


class GridPart:
    """Some rows of a grid, each with its place among all variables that were asked for."""

    def __init__(self, rows: Sequence[tuple[int, GridRow]], columns: Sequence[str], masker: Masker) -> None:
        self.rows = [row for _, row in rows]
        self.columns = columns
        self.masker = masker
        self._chunks: dict[int, list[tuple[int, GridRow]]] = {}
        for place, row in rows:
            self._chunks.setdefault(place // CHUNK, []).append((place, row))
        self._shown = CellTexts(Masker(show_secrets=masker.show_secrets))  # numbered without what is not shown

    def facts(self, width: int) -> TableFacts:
        """Return what must be known before the first line."""
        return facts_of(self.rows, self.columns, width, self.masker)

    def lines(self, chunk: int, shape: TableShape) -> list[tuple[int, str]]:
        """Return the places and lines of a chunk."""
        rows = self._chunks.get(chunk, [])
        lines = lines_of([row for _, row in rows], shape, self._shown)
        return [(place, line) for (place, _), line in zip(rows, lines, strict=True)]

    def json_rows(self, chunk: int) -> list[tuple[int, str]]:
        """Return the places and JSON texts of a chunk."""
        encoder = json_encoder()
        return [
            (place, encoder.encode(json_row(row, self.columns, self.masker)))
            for place, row in self._chunks.get(chunk, [])
        ]


class GridRows:
    """All rows of a grid: a part here, and perhaps another one in a second process."""

    def __init__(self, here: GridPart, variables: int, assistant: Assistant[GridPart] | None = None) -> None:
        self.here = here
        self.chunks = range(-(-variables // CHUNK))
        self._assistant = assistant

    def facts(self, width: int) -> TableFacts:
        """Return what must be known before the first line."""
        if self._assistant is None:
            return self.here.facts(width)
        theirs = self._assistant.ask(GridPart.facts, width)
        return self.here.facts(width).beside(theirs())

    def lines(self, shape: TableShape) -> Iterator[list[str]]:
        """Yield the lines of each chunk."""
        return self._together(GridPart.lines, shape)

    def json_rows(self) -> Iterator[list[str]]:
        """Yield the JSON texts of each chunk."""
        return self._together(GridPart.json_rows)

    def _together(
        self, texts_of: Callable[Concatenate[GridPart, int, P], list[tuple[int, str]]], *how: P.args, **named: P.kwargs
    ) -> Iterator[list[str]]:
        """Yield the texts of both parts for each chunk, in order."""
        ask = self._assistant.ask if self._assistant is not None else None
        theirs = ask(texts_of, 0, *how, **named) if ask else None
        for chunk in self.chunks:
            texts = texts_of(self.here, chunk, *how, **named)
            if ask and theirs:
                texts = sorted([*texts, *theirs()])
                theirs = ask(texts_of, chunk + 1, *how, **named)  # made while these are printed
            yield [text for _, text in texts]


def is_large(names: Sequence[str], columns: Sequence[str]) -> bool:
    """Return whether a second process pays."""
    return len(names) * len(columns) >= _LARGE


@contextmanager
def shared_rows(
    names: Sequence[str],
    columns: Sequence[str],
    masker: Masker,
    made: Callable[[Sequence[str]], Sequence[GridRow]],
    is_plain: Callable[[str], bool] | None,
) -> Iterator[GridRows]:
    """Make the rows of these variables with `made`, those of a large grid in two processes; the second one has nothing
    but variables that are plain (`is_plain`; None: share nothing), so that it reads, asks and numbers nothing.
    """
    places = {name: place for place, name in enumerate(names)}

    def part(some: Sequence[str]) -> GridPart:
        return GridPart([(places[row.variable.name], row) for row in made(some)], columns, masker)

    others = _for_another(names, is_plain) if is_plain else []
    with nullcontext() if len(others) < len(names) // 4 else Assistant.started(lambda: part(others)) as assistant:
        if assistant is None:
            yield GridRows(part(names), len(names))
        else:
            theirs = set(others)
            yield GridRows(part([name for name in names if name not in theirs]), len(names), assistant)


def _for_another(names: Sequence[str], is_plain: Callable[[str], bool]) -> list[str]:
    """Return plain variables, at most half of each chunk."""
    result = []
    for start in range(0, len(names), CHUNK):
        chunk = names[start : start + CHUNK]
        result += list(filter(is_plain, chunk))[-(len(chunk) // 2) :]
    return result
