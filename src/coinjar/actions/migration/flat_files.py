"""A file in a dialect as the new place of a migration: written whole, and read back by its own reader."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from coinjar.actions.migration.endpoints import file_target
from coinjar.core.dispositions import SourceValue
from coinjar.core.errors import InputError, Location
from coinjar.core.secret import reveal
from coinjar.dialects import get
from coinjar.dialects.base import Entry, FileHeader, render
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import display_path, replace_file


def write_flat(target: str, result: Mapping[str, list[SourceValue]]) -> None:
    """Write each name's single value.

    Raises InputError for what the dialect cannot carry, a name with several values, a file with other content.
    """
    dialect, path = file_target(target)
    for name, places in result.items():
        if len({source_value.text for source_value in places}) > 1:
            message = (
                f"{name} has different values in {', '.join(source_value.where for source_value in places)}, but a "
                "file contains one"
            )
            raise InputError(
                message,
                hint="move one service and stage at a time (--service, --stage)",
                location=Location(display_path(path)),
                code="services-differ",
            )
    entries = [Entry(name, reveal(places[0].text or ""), secret=places[0].secret) for name, places in result.items()]
    data = render(get(dialect), entries, FileHeader(path.stem, "moved", "all"))
    if path.exists() and read_bytes(path) != data:
        raise InputError(
            "the file already exists, with different content",
            hint="move it away, or name another",
            location=Location(display_path(path)),
            code="exists",
        )
    replace_file(path, data, mode=0o600 if any(entry.secret for entry in entries) else 0o644)


def read_flat(target: str) -> dict[str, str | None]:
    """Return the file as its own reader reads it."""
    dialect, path = file_target(target)
    return {item.name: item.text for item in get(dialect).read(read_bytes(Path(path)), display_path(path)).items}
