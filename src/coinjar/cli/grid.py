"""`coinjar grid`."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from operator import itemgetter
from os.path import commonprefix
from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    NamePatterns,
    SecretsOption,
    ServicesOption,
    fits,
    open_here,
    print_json,
    stage_names,
    warn_no_match,
)
from coinjar.core.display import visible
from coinjar.core.errors import UsageError
from coinjar.core.grid_signs import AGREEMENT, LEGEND, SIGNS

if TYPE_CHECKING:
    from coinjar.core.display import Masker
    from coinjar.core.grid import Cell, GridRow
    from coinjar.core.layers import Resolver


def run(
    ctx: typer.Context,
    stages: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[STAGE...]", autocompletion=stage_names, help="Only these stages, in this order. Default: all."
        ),
    ] = None,
    across: Annotated[
        bool, typer.Option("--by-service", help="Show the services of one stage as columns, instead of stages.")
    ] = False,
    service: ServicesOption = None,
    name: NamePatterns = None,
    different: Annotated[bool, typer.Option("--different", help="Only variables whose columns differ.")] = False,
    missing: Annotated[
        bool, typer.Option("--missing", help="Only variables without a required value, or that cannot be computed.")
    ] = False,
    by_default: Annotated[
        bool, typer.Option("--by-default", help="Only variables that no layer sets, so that they take their default.")
    ] = False,
    ages: Annotated[
        bool, typer.Option("--ages", help="Only secrets, with their ages in days instead of their values.")
    ] = False,
    mine: Annotated[bool, typer.Option("--mine", help="Include your own values. Default: exclude them.")] = False,
    show_secrets: SecretsOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Show the grid: one row per variable, one column per stage; with --by-service one column per service of one
    stage.
    """
    from coinjar.core.display import Masker
    from coinjar.core.grid import DIFFERENT, by_service, by_stage

    if across and len(stages or []) != 1:
        raise UsageError(
            "--by-service shows the services of one stage", hint="name one: `coinjar grid STAGE --by-service`"
        )
    stage = stages[0] if across and stages else None
    opened = open_here(ctx, jar)
    whole = opened.load(stages or None)
    services = [str(whole.service(name).name) for name in dict.fromkeys(service or [])] or [
        str(service) for service in whole.services
    ]
    columns = list(dict.fromkeys(stages or [])) or whole.stage_names()
    if not columns:
        raise UsageError("there are no stages to show", hint="add one: `coinjar stages add STAGE`")

    def resolver(column: str) -> Resolver:
        return opened.resolver(column, jar=opened.load([column], mine=column) if mine else whole, mine=mine)

    stages_shown = columns
    if stage:
        rows, columns = by_service(whole, resolver(stage), services), list(services)
    else:
        rows = by_stage(whole, map(resolver, columns), services)
    total = len(rows)
    warn_no_match(name, [row.variable.name for row in rows])
    rows = [
        row
        for row in rows
        if fits(row.variable.name, name)
        and (not different or row.agreement == DIFFERENT)
        and (not missing or row.is_missing)
        and (not by_default or row.by_default)
    ]
    if ages:
        from datetime import UTC, datetime

        from coinjar.core.grid import with_ages

        resolvers = list(map(resolver, stages_shown))
        places = [(resolvers[0], [column]) for column in columns] if stage else [(one, services) for one in resolvers]
        rows = with_ages(rows, places, datetime.now(UTC).date())
    masker = Masker(show_secrets=show_secrets)
    if as_json:
        print_json(
            {
                "columns": columns,
                "across": "services" if stage else "stages",
                "rows": [_json_row(row, columns, masker) for row in rows],
            }
        )
        return
    what = f"{whole.app}, {stage}" if stage else whole.app
    _show(what, rows, columns, total, masker)


def _json_row(row: GridRow, columns: list[str], masker: Masker) -> dict[str, Any]:
    cells = {}
    for column, cell in zip(columns, row.cells, strict=True):
        hidden = cell.secret and not masker.show_secrets
        result: dict[str, Any] = {
            "state": cell.state,
            "value": None if hidden else cell.text,
            "secret": cell.secret,
            "derived": cell.derived,
        }
        if hidden and cell.text is not None:
            result["masked"] = masker.mask(cell.text)
        if cell.variants > 1:
            result["variants"] = cell.variants
        if cell.fault:
            result["fault"] = cell.fault
        cells[column] = result
    return {"name": row.variable.name, "agreement": row.agreement, "cells": cells}


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


_SECRET_OF = itemgetter(2)
"""Of a cell, for hot loops."""


def _cell_texts(cells: Iterable[Cell], masker: Masker) -> Iterator[str]:
    """Yield the text of each cell. A hot loop: most are plain texts that every terminal shows as they are."""
    for cell in cells:
        state, text, secret, derived, _, _ = cell
        if text and not secret and not derived and text.isascii() and text.isprintable():
            yield f"{SIGNS[state]} {text}"
        else:
            yield cell_text(cell, masker)


def _apart(row: GridRow, texts: Sequence[str], widths: list[int]) -> Sequence[str]:
    """Return a row's texts so that they stay distinguishable: if truncation makes different ones equal, their common
    beginning is cut.
    """
    from coinjar.cli.tables import cut, width_of

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


def _show(what: str, rows: list[GridRow], columns: list[str], total: int, masker: Masker) -> None:
    from coinjar.cli.common import counted
    from coinjar.cli.tables import (
        UNLIMITED,
        StyledText,
        aligned,
        colours,
        is_simple,
        line,
        show,
        styled,
        terminal_height,
        terminal_width,
        width_of,
    )

    width = terminal_width()
    shown = f"{len(rows)} of {counted(total, 'variable')}" if len(rows) != total else counted(total, "variable")
    if not rows:
        show(f"{what}: {shown}")
        return
    name_width = min(max(len(row.variable.name) for row in rows), max(16, width * 3 // 10))
    room = width - name_width - 5  # after the name, the sign and the two gaps between
    texts, natural = _columns_that_may_fit(
        rows, columns, masker, room, UNLIMITED if width == UNLIMITED else _WIDEST_COLUMN
    )
    widths = _share(natural, room)
    kept = len(widths)
    head = [StyledText(f"{what}: {shown}", "bold"), StyledText("")]
    if width_of(head[0].text) > name_width:  # too long for the corner: a line of its own
        show(styled(head[0].text, "bold"))
        head[0] = StyledText("")
    all_widths = [name_width, 1, *widths]
    titles = line([*head, *(StyledText(column, "bold") for column in columns[:kept])], all_widths)
    show(titles)
    is_plain = width == UNLIMITED and not colours()  # nothing is truncated or coloured
    are_simple = is_plain and is_simple(texts.values()) and is_simple(row.variable.name for row in rows)
    for start in range(0, len(rows), _AT_ONCE):
        batch = rows[start : start + _AT_ONCE]
        of_cells = [list(map(texts.__getitem__, map(id, row.cells[:kept]))) for row in batch]
        if is_plain:
            whole = [
                (row.variable.name, AGREEMENT[row.agreement], *cells)
                for row, cells in zip(batch, of_cells, strict=True)
            ]
            show("\n".join(aligned(whole, all_widths, is_simple=are_simple)))
        else:
            show("\n".join(_styled_line(row, cells, all_widths) for row, cells in zip(batch, of_cells, strict=True)))
    if len(rows) + 1 > terminal_height() - 3:
        show(titles)  # the first line has scrolled away
    _show_legend(rows, width)
    if kept < len(columns):
        rest = columns[kept:]
        for part in _wrapped(f"not shown, too wide: {counted(len(rest), 'column')}: {', '.join(rest)}", width):
            show(styled(part, "yellow"))


def _styled_line(row: GridRow, texts: Sequence[str], widths: list[int]) -> str:
    from coinjar.cli.tables import StyledText, line

    apart = _apart(row, texts, widths[2:])
    cells = [StyledText(text, _STYLES[cell.state]) for text, cell in zip(apart, row.cells, strict=False)]
    agreement = StyledText(AGREEMENT[row.agreement], "yellow" if row.agreement == "different" else "dim")
    return line([StyledText(row.variable.name), agreement, *cells], widths)


_AT_ONCE = 500
"""Rows that are made into text together: a large grid has a hundred megabytes of it."""
_LEAST_COLUMN, _WIDEST_COLUMN = 13, 40


def _columns_that_may_fit(
    rows: list[GridRow], columns: list[str], masker: Masker, room: int, most: int
) -> tuple[dict[int, str], list[int]]:
    """Return the texts of their cells by the cell's id, and their natural widths: no more columns than could fit side
    by side, since a large jar has many.
    """
    from coinjar.cli.tables import widest

    texts: dict[int, str] = {}  # columns share most of their cells
    natural: list[int] = []
    for title, column in zip(columns, zip(*(row.cells for row in rows), strict=True), strict=True):
        own = dict(zip(map(id, column), column, strict=True))
        new: Collection[int] = own.keys() - texts.keys()
        if any(map(_SECRET_OF, map(own.__getitem__, new))):
            new = [key for key in own if key in new]  # their tags are numbered in order of appearance
        texts.update(zip(new, _cell_texts(map(own.__getitem__, new), masker), strict=True))
        natural.append(min(widest([title, *map(texts.__getitem__, own)]), most))
        if sum(min(number, _LEAST_COLUMN) + 2 for number in natural) - 2 > room:
            break
    return texts, natural


def _share(natural: list[int], room: int) -> list[int]:
    """Return widths for as many columns as fit, two spaces between them."""
    from coinjar.cli.tables import fit

    least = [min(number, _LEAST_COLUMN) for number in natural]
    kept = 0
    while kept < len(natural) and sum(least[: kept + 1]) + 2 * kept <= room:
        kept += 1
    kept = max(kept, 1)
    return fit(natural[:kept], least[:kept], room - 2 * (kept - 1))


def _show_legend(rows: list[GridRow], width: int) -> None:
    from coinjar.cli.tables import show, styled

    cells: dict[int, Cell] = {}
    for row in rows:
        cells.update(zip(map(id, row.cells), row.cells, strict=True))
    kinds = {(cell.state, cell.derived) for cell in cells.values()}
    parts = [words for state, words in LEGEND.items() if any(kind[0] == state for kind in kinds)]
    parts += ["ƒ computed from others"] if any(kind[1] for kind in kinds) else []
    parts += [
        f"{sign} {words}"
        for kind, sign, words in (
            ("same", "=", "same in all columns"),
            ("different", "≠", "differs"),
            ("unknown", "?", "cannot be compared"),
        )
        if any(row.agreement == kind for row in rows)
    ]
    for part in _wrapped("   ".join(parts), width, "   "):
        show(styled(part, "dim"))


def _wrapped(text: str, width: int, gap: str = " ") -> list[str]:
    """Return lines of at most `width`, broken at gaps."""
    from coinjar.cli.tables import cut, width_of

    lines = [""]
    for part in text.split(gap):
        longer = f"{lines[-1]}{gap}{part}" if lines[-1] else part
        if width_of(longer) <= width:
            lines[-1] = longer
        else:
            lines.append(part)
    return [cut(line, width) for line in lines if line]
