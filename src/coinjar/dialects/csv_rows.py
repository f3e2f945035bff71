"""CSV (RFC 4180): `name,value`, and the wide form with one column per stage, for a spreadsheet."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterator, Sequence

from coinjar.core.errors import InputError, Location
from coinjar.dialects.base import BYTE_ORDER_MARK, Dialect, Entry, FileHeader, ReadItem, ReadRemark, ReadResult, decode
from coinjar.dialects.positioned import carriable

EMPTY, UNSET = "(empty)", "(unset)"
"""Written in a cell of the wide form for an empty value, since an empty cell means no value; these texts themselves get
more parentheses.
"""
_LIKE_THEM = re.compile(r"\(+(?:empty|unset)\)+")
_NEEDS_QUOTES = re.compile(r'[,;\t"\r\n]|^\s|\s$')


class CsvDialect(Dialect):
    """Rows of a name and a value; with several stages one row per name, one column per stage."""

    name = "csv"
    about = "name,value rows; for several stages one column each"
    many_stages = True

    def unsupported_reason(self, name: str, value: str) -> str | None:
        return carriable(name) or carriable(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        del heading
        return _table([["name", "value"], *([entry.name, entry.text] for entry in entries if entry.text is not None)])

    def update(self, old: bytes, file: str, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        header, rows = ["name"], dict[str, dict[str, str]]()
        for _, row in _rows(old, file)[0] if old.strip() else []:
            if header == ["name"] and not rows and row[:1] == ["name"]:
                header = row
            elif row and row[0]:
                rows[row[0]] = dict(zip(header[1:], row[1:], strict=False))
        header = ["name", *[name for name in header[1:] if name != "value"]]
        if heading.stage not in header:
            order = [*self.parse_context.stages, heading.stage]
            header = [
                "name",
                *sorted(
                    [*header[1:], heading.stage], key=lambda stage: order.index(stage) if stage in order else len(order)
                ),
            ]
        for cells in rows.values():
            cells.pop(heading.stage, None)
        for entry in entries:
            rows.setdefault(entry.name, {})[heading.stage] = _cell(entry.text)
        return _table(
            [
                header,
                *(
                    [name, *(cells.get(stage, "") for stage in header[1:])]
                    for name, cells in rows.items()
                    if any(cells.values())
                ),
            ]
        )

    def read(self, data: bytes, file: str) -> ReadResult:
        rows, remarks = _rows(data, file)
        if not rows:
            return ReadResult([], remarks)
        (first, header), *rest = rows
        columns = [cell.strip() for cell in header]
        if [column.lower() for column in columns[:2]] == ["name", "value"]:
            return ReadResult(list(_narrow(rest, file, remarks)), remarks)
        if columns[0].lower() != "name" or len(columns) < 2:
            hint = "the first row must be name,value, or name and one stage per column"
            raise InputError(
                "this table has no header row",
                hint=hint,
                location=Location(file, first, 1),
                code="shape",
            )
        for column in columns[1:]:
            if column and self.parse_context.stages and column not in self.parse_context.stages:
                remarks.append(
                    ReadRemark(Location(file, first, 1), f"ignored: the column '{column}' is not a stage", lost=True)
                )
        stages = [
            column if not self.parse_context.stages or column in self.parse_context.stages else "" for column in columns
        ]
        return ReadResult(list(_wide(rest, stages, file, remarks)), remarks)


def _narrow(rows: list[tuple[int, list[str]]], file: str, remarks: list[ReadRemark]) -> Iterator[ReadItem]:
    for line, row in rows:
        location = Location(file, line, 1)
        if len(row) < 2 or not row[0]:
            remarks.append(ReadRemark(location, "ignored: the row has no name or no value", lost=True))
            continue
        if any(row[2:]):
            remarks.append(ReadRemark(location, f"text after the value of {row[0]} was ignored"))
        yield ReadItem(row[0].strip(), row[1], location)


def _wide(
    rows: list[tuple[int, list[str]]], columns: list[str], file: str, remarks: list[ReadRemark]
) -> Iterator[ReadItem]:
    for line, row in rows:
        location = Location(file, line, 1)
        if not row[0]:
            remarks.append(ReadRemark(location, "ignored: the row has no name", lost=True))
            continue
        for stage, cell in zip(columns[1:], row[1:], strict=False):
            if cell and stage:
                yield ReadItem(row[0].strip(), _meant(cell), location, stage=stage)
        if any(row[len(columns) :]):
            remarks.append(
                ReadRemark(
                    location, f"{row[0]} has more cells than the header has stages; the rest was ignored", lost=True
                )
            )


def _cell(source: str | None) -> str:
    if source is None:
        return UNSET
    return f"({source})" if _LIKE_THEM.fullmatch(source) else source or EMPTY


def _meant(cell: str) -> str | None:
    if cell in (EMPTY, UNSET):
        return None if cell == UNSET else ""
    return cell[1:-1] if _LIKE_THEM.fullmatch(cell) else cell


def _table(rows: Sequence[Sequence[str]]) -> bytes:
    def cell(source: str) -> str:
        return '"' + source.replace('"', '""') + '"' if _NEEDS_QUOTES.search(source) else source

    return "".join(",".join(map(cell, row)) + "\r\n" for row in rows).encode()


def _rows(data: bytes, file: str) -> tuple[list[tuple[int, list[str]]], list[ReadRemark]]:
    """Return the nonempty rows, each with its first line; the header shows `;` and tabs as a spreadsheet may write
    them.
    """
    source, remarks = decode(data, file)
    remarks = [remark for remark in remarks if remark.kind != BYTE_ORDER_MARK]  # spreadsheets write one
    first = source.split("\n", 1)[0]
    delimiter = max(",;\t", key=first.count)
    if delimiter != ",":
        remarks.append(
            ReadRemark(
                Location(file, 1, 1),
                f"read with {'a tab' if delimiter == chr(9) else delimiter!r} between cells, as in the first row",
            )
        )
    csv.field_size_limit(max(csv.field_size_limit(), len(data) + 1))
    reader = csv.reader(re.split(r"(?<=\n)", source), delimiter=delimiter, strict=True)
    rows: list[tuple[int, list[str]]] = []
    before = 0
    try:
        for row in reader:
            if any(row):
                rows.append((before + 1, row))
            before = reader.line_num
    except csv.Error as fault:
        raise InputError(
            f"this is not CSV: {fault}",
            hint="check the quotes there",
            location=Location(file, before + 1, 1),
            code="not-csv",
        ) from None
    return rows, remarks
