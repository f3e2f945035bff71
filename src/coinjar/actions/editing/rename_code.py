"""Rename variables in documents, templates and code."""

from __future__ import annotations

import os
import re
from collections.abc import Collection, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from yaml.nodes import ScalarNode

from coinjar.actions.editing.rename_edits import (
    EditedFile,
    PlacedEdits,
    RenameOptions,
    UnchangedUse,
)
from coinjar.actions.mentions.search import code_paths, find, unreadable
from coinjar.actions.open_jar import OpenJar
from coinjar.core.code_uses import has_code
from coinjar.core.errors import InputError, Location, raise_all
from coinjar.core.model import Jar
from coinjar.destinations import file_class_of, is_live
from coinjar.jarfile.renaming import in_environments
from coinjar.mentions.languages import by_first_line, language_of, look
from coinjar.system.files import display_path, read_file

if TYPE_CHECKING:
    from coinjar.mentions.base import Mention
    from coinjar.scanning.scan import FileMentions, LocatedMention


def edits_of_code(opened: OpenJar, jar: Jar, renames: Mapping[str, str], options: RenameOptions) -> PlacedEdits:
    """Return the edits of code, and of the input files of destinations. Raises InputError for unreadable files."""
    base = opened.folder.resolve().parent
    paths = [*options.paths, *(code_paths(jar, base) if has_code(jar) else ()), *_destination_paths(jar, base)]
    if not paths:
        return PlacedEdits([], [])
    files, left = list[EditedFile](), list[UnchangedUse]()
    report = find(opened, jar, list(dict.fromkeys(paths)), cached=False)
    raise_all(
        [
            fault
            for fault, path in zip(unreadable(report), report.scanned.unreadable, strict=True)
            if _may_mention(Path(path.path), renames)
        ]
    )
    places = _environments(jar, base)
    for file in report.scanned.files:
        path = Path(file.path)
        data = read_file(path)
        known = _Uses(file, data, renames, options)
        new = _in_text(path, data, known.renamed, renames)
        files.append(EditedFile(path, data, new))
        left += [
            UnchangedUse(
                Location(display_path(path), located.line, located.column),
                f"{located.text} is known only at run time: it may be an old name",
            )
            for located in file.mentions
            if located.mention is None
        ]
        left += known.left(path)
        left += _still_there(path, new, renames, known.left_lines)
    for path, pointers in places.items():
        edited = next((file for file in files if file.path == path), None)
        data = read_file(path)
        new = in_environments(edited.new if edited else data, display_path(path), pointers, renames)
        files = [file for file in files if file.path != path] + [EditedFile(path, data, new)]
    return PlacedEdits(files, left)


def _may_mention(path: Path, renames: Mapping[str, str]) -> bool:
    """Return whether a file that cannot be parsed may contain one of the names: then nothing is renamed, since the
    result would be incomplete.
    """
    try:
        data = read_file(path)
    except (OSError, InputError):
        return True
    return any(old.encode() in data for old in renames)


class _Uses:
    """The uses of the names in one file: those that are renamed, and those that are left."""

    def __init__(self, file: FileMentions, data: bytes, renames: Mapping[str, str], options: RenameOptions) -> None:
        self.renamed: list[Mention] = []
        self._left: list[tuple[LocatedMention, str]] = []
        for located in file.mentions:
            mention = located.mention
            if mention is None or mention.name not in renames:
                continue
            text = data[mention.start : mention.end].decode(errors="replace")
            if text != mention.name:
                self._left.append((located, f"{text} probably is {mention.name} (by {mention.probable or 'its form'})"))
            elif mention.probable and not options.probable:
                why = (
                    f"{mention.name} is only probably this variable (by {mention.probable}): --probable renames it too"
                )
                self._left.append((located, why))
            else:
                self.renamed.append(mention)

    @property
    def left_lines(self) -> set[int]:
        """The lines of uses that are left."""
        return {located.line for located, _ in self._left}

    def left(self, path: Path) -> Iterator[UnchangedUse]:
        """Yield the uses that are left, with their lines."""
        for located, reason in self._left:
            where = Location(display_path(path), located.line, located.column)
            yield UnchangedUse(where, f"{reason}; left unchanged")


def _in_text(path: Path, data: bytes, mentions: list[Mention], renames: Mapping[str, str]) -> bytes:
    """Return the text with every mention renamed.

    Raises InputError if the result would not mention the new names in the same places.
    """
    new = data
    for mention in sorted(mentions, key=lambda other_mention: other_mention.start, reverse=True):
        name, end = renames[mention.name], mention.end
        if mention.local == name and (behind := re.compile(rb"\s*:\s*" + re.escape(name).encode()).match(new, end)):
            end = behind.end()
        new = new[: mention.start] + mention.renamed.format(name).encode() + new[end:]
    if new != data:
        language = language_of(path.name) or by_first_line(data)
        after = look(language, new) if language else None
        if after and sum(mention.name in renames.values() for mention in after.mentions) < len(
            {mention.start for mention in mentions}
        ):
            raise InputError(
                "the names cannot be changed here",
                hint="change them by hand",
                location=Location(display_path(path)),
                code="edit",
            )
    return new


def _still_there(
    path: Path, data: bytes, renames: Mapping[str, str], besides: Collection[int]
) -> Iterator[UnchangedUse]:
    """Yield where an old name remains as a word: in a comment, a text, something that is not a variable; on other lines
    than those.
    """
    gone = [old for old in renames if old not in renames.values()]
    either = re.compile(rb"(?<![\w-])(?:" + b"|".join(re.escape(old.encode()) for old in gone) + rb")(?![\w-])")
    for number, line in enumerate(data.split(b"\n") if gone else [], 1):
        for match in either.finditer(line) if number not in besides else ():
            where = Location(display_path(path), number, len(line[: match.start()].decode(errors="replace")) + 1)
            yield UnchangedUse(
                where, f"{match[0].decode()} also appears here, but not as an environment variable; left unchanged"
            )


def _destination_paths(jar: Jar, base: Path) -> list[str]:
    """Return the source files of the jar's destinations."""
    result = []
    for name, destination in jar.destinations.items():
        key = "" if is_live(destination) else file_class_of(destination).input_option
        path = _option(jar, name, key) if key else None
        if path and "{" not in path and (base / path).exists():
            result.append(str(base / path))
    return result


def _environments(jar: Jar, base: Path) -> dict[Path, list[str]]:
    """Return the environments in documents of any format, from the places of destinations."""
    result: dict[Path, list[str]] = {}
    for name, destination in jar.destinations.items():
        made = None if is_live(destination) else file_class_of(destination)
        if made is None or not made.places_option:
            continue
        path, places = _option(jar, name, made.input_option), destination.options.get(made.places_option)
        if path and "{" not in path and (base / path).is_file() and places is not None:
            result.setdefault(Path(os.path.realpath(base / path)), []).extend(str(key.value) for key, _ in places.value)
    return result


def _option(jar: Jar, name: str, key: str) -> str | None:
    node = jar.destinations[name].options.get(key)
    return str(node.value) if isinstance(node, ScalarNode) else None
