"""The rows of `coinjar grid --json`."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from coinjar.cli.common import json_encoder

if TYPE_CHECKING:
    from coinjar.core.display import Masker
    from coinjar.core.grid import GridRow


def print_rows(columns: Sequence[str], across: str, chunks: Iterable[Sequence[str]]) -> None:
    """Print the document whose rows are these texts, as they come: all of a large grid would take a gigabyte."""
    head, _, foot = json_encoder().encode({"columns": columns, "across": across, "rows": []}).rpartition("]")
    print(head, end="")
    separator = ""
    for rows in chunks:
        for row in rows:
            print(separator, row.replace("\n", "\n    "), sep="\n    ", end="")
            separator = ","
    print("\n  ]" if separator else "]", foot, sep="")


def json_row(row: GridRow, columns: Sequence[str], masker: Masker) -> dict[str, Any]:
    """Return a row as JSON data."""
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
