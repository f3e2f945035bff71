"""The diff of a rename, with secrets masked."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.actions.comparing.file_diffs import FileChange, difference
from coinjar.actions.editing.rename_edits import RenameEdits
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.secrets.known_secrets import secret_texts, secrets_read
from coinjar.core.errors import CoinJarError
from coinjar.core.masking import SHORTEST
from coinjar.core.model import Jar
from coinjar.core.redaction import Redactor
from coinjar.dialects.base import ParseContext, ReadItem
from coinjar.mentions.languages import by_first_line, language_of
from coinjar.system.files import display_path

if TYPE_CHECKING:
    pass


def shown_differences(opened: OpenJar, shown: RenameEdits) -> Iterator[str]:
    """Yield the diff of every changed file except encrypted values, with every secret masked that is known or found by
    the file's own reader.
    """
    jar = opened.load()
    secrets = secret_texts(opened, jar)
    files = [file for file in shown.files if file.path.suffix != ".coins"]
    for file in files:
        secrets = secrets_read(jar, _entries(jar, file.path, file.old)) | secrets
    redactor = Redactor(secrets)
    for file in files:
        name = display_path(file.path)

        def hidden(data: bytes, path: Path = file.path) -> dict[int, str]:
            return _short_secrets(jar, shown.renames, path, data)

        yield from difference(FileChange(file.old, file.new, name, name), hidden, redactor, context=0)


def _entries(jar: Jar, path: Path, data: bytes) -> list[ReadItem]:
    """Return names with values in a file of any format, as its own reader finds them; none for a file without a reader,
    such as code.
    """
    from coinjar.destinations.workloads import every_entry_of
    from coinjar.dialects import reader
    from coinjar.dialects.detection import recognise

    try:
        if path.suffix in (".yaml", ".yml", ".json"):
            return list(every_entry_of(data, display_path(path)).items)
        if language_of(path.name) is not None or by_first_line(data):
            return []
        dialect = reader(recognise(data, path.name).dialect)
        dialect.parse_context = ParseContext(jar.stage_names(), jar.variables)
        return list(dialect.read(data, display_path(path)).items)
    except CoinJarError:
        return []


def _short_secrets(jar: Jar, renames: Mapping[str, str], path: Path, data: bytes) -> dict[int, str]:
    """Return lines with secrets that are too short to be found by value."""
    names = {
        name
        for old, new in renames.items()
        for name in (old, new)
        if old in jar.secret_names or new in jar.secret_names
    } | jar.secret_names
    return {
        item.location.line: f"•••• (a line that contains {item.name})"
        for item in _entries(jar, path, data)
        if item.name in names and item.text and len(item.text) < SHORTEST
    }
