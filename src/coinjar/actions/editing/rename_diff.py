"""The diff of a rename, with secrets masked."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path

from coinjar.actions.comparing.file_diffs import FileChange, difference
from coinjar.actions.editing.rename_edits import RenameEdits
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.secrets.known_secrets import own_layers, secret_texts, secrets_read
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError, Location
from coinjar.core.masking import SHORTEST
from coinjar.core.model import Jar
from coinjar.core.redaction import Redactor
from coinjar.core.references import Template, own_text, parse_template
from coinjar.core.rules.secrets import in_plain_text
from coinjar.core.secret_detection import SURE, credentials_in, detect_secret
from coinjar.destinations.hidden_lines import hidden_lines
from coinjar.dialects.base import ParseContext, ReadItem, ReadResult
from coinjar.mentions.languages import by_first_line, language_of, look
from coinjar.system.files import display_path

_TEXT = "text"
"""The key of a text with references in the jar's files."""


def shown_differences(opened: OpenJar, shown: RenameEdits) -> Iterator[str]:
    """Yield the diff of every changed file except encrypted values, with every secret masked that is known or found by
    the file's own reader, before and after.
    """
    jar = opened.load()
    secrets = secret_texts(opened, jar)
    files = [file for file in shown.files if file.path.suffix != ".coins"]
    templates = _secret_templates(opened, jar)
    for file in files:
        for data in (file.old, file.new):
            entries = _entries(jar, file.path, data)
            if file.path.is_relative_to(opened.folder):
                entries = [entry for entry in entries if entry.name != _TEXT]
            secrets = secrets_read(jar, entries) | secrets
    redactor = Redactor(secrets)
    for file in files:
        name = display_path(file.path)

        def hidden(data: bytes, path: Path = file.path) -> dict[int, str]:
            entries = _entries(jar, path, data)
            result = _credentials(data, redactor) | _short_secrets(jar, shown.renames, entries)
            return result | _templates(entries, data, templates) if path.is_relative_to(opened.folder) else result

        yield from difference(FileChange(file.old, file.new, name, name), hidden, redactor, context=0)


def _entries(jar: Jar, path: Path, data: bytes) -> list[ReadItem]:
    """Return names with values in a file of any format, as its own reader finds them: in code, the variables with what
    it falls back to.
    """
    from coinjar.destinations.workloads import every_entry_of
    from coinjar.dialects import reader
    from coinjar.dialects.detection import recognise

    try:
        if path.suffix in (".yaml", ".yml", ".json"):
            return list(every_entry_of(data, display_path(path)).items)
        if language := language_of(path.name) or by_first_line(data):
            return [
                ReadItem(each.name, each.default, Location(display_path(path), data.count(b"\n", 0, each.start) + 1))
                for each in look(language, data).mentions
                if each.default
            ]
        dialect = reader(recognise(data, path.name).dialect)
        dialect.parse_context = ParseContext(jar.stage_names(), jar.variables)
        return list(dialect.read(data, display_path(path)).items)
    except CoinJarError:
        return []


def _short_secrets(jar: Jar, renames: Mapping[str, str], entries: list[ReadItem]) -> dict[int, str]:
    """Return lines with secrets that are too short to be found by value."""
    names = {
        name
        for old, new in renames.items()
        for name in (old, new)
        if old in jar.secret_names or new in jar.secret_names
    } | jar.secret_names
    return {
        item.location.line: f"•••• (a line that contains {item.name})"
        for item in entries
        if item.name in names and item.text and len(item.text) < SHORTEST
    }


def _credentials(data: bytes, redactor: Redactor) -> dict[int, str]:
    """Return the lines with credentials that are not the jar's, as in code."""
    lines = redactor.lines(data.decode(errors="replace").split("\n"))
    return {
        number: f"•••• (a line that {why})" for number, line in enumerate(lines, 1) if (why := credentials_in(line))
    }


def _secret_templates(opened: OpenJar, jar: Jar) -> set[str]:
    """Return the own text of every text with references that is a secret without them; a rename does not change it."""
    layers = [{"all": jar.defaults}, *jar.plain.values(), *own_layers(opened, jar)]
    return {
        own
        for layer in layers
        for scope in layer.values()
        for name, definition in scope.items()
        if isinstance(content := definition.content, Template)
        and jar.variables[name].secret
        and in_plain_text(jar, content)
        and (own := own_text(content.parts)).strip()
    }


def _templates(entries: list[ReadItem], data: bytes, templates: set[str]) -> dict[int, str]:
    """Return the lines of the jar's texts with references that are secrets themselves, or contain one."""

    def is_secret(item: ReadItem) -> bool:
        if item.name != _TEXT or not item.text:
            return False
        try:
            own = own_text(parse_template(item.text).parts)
        except CoinJarError:  # not a text of ours
            return True
        return own in templates or (detect_secret("", own) or ("",))[0] == SURE

    reading = ReadResult(entries, [])
    return hidden_lines(reading, data.decode(errors="replace").split("\n"), is_secret, Masker())
