"""Redact the contents of files for display: secrets are masked by their value, at any position and in any encoding.

All output of file contents goes through this module (`actions/comparing/file_diffs.py` prints it). `hidden` contains
what a file's own reader knows of it, line by line; a `Redactor` contains the jar's known secrets.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, NamedTuple

from coinjar.core.display import visible
from coinjar.core.masking import SHORTEST, forms
from coinjar.core.secret import reveal

if TYPE_CHECKING:
    from ahocorasick_rs import BytesAhoCorasick


class Occurrence(NamedTuple):
    """A secret's text in some bytes: start and end offset, and the variable's name."""

    start: int
    end: int
    name: str


class SecretFinder:
    """Finds secrets in bytes in one pass: raw, percent-encoded, in base64, escaped as in JSON.

    `secrets` maps texts to names.

    Secrets and encodings of fewer than `shortest` bytes occur everywhere, and are not searched.
    """

    def __init__(self, secrets: Mapping[str, str], *, shortest: int = SHORTEST) -> None:
        self._names: dict[bytes, str] = {}
        for text, name in secrets.items():
            for form in forms(text) if len(reveal(text)) >= shortest else ():
                if len(form) >= shortest:
                    self._names.setdefault(form, name)
        self._words = list(self._names)
        self._automaton = _automaton(self._words) if self._words else None

    @property
    def is_empty(self) -> bool:
        """Return whether there is nothing to look for."""
        return self._automaton is None

    def find(self, data: bytes) -> list[Occurrence]:
        """Return all occurrences; of overlapping ones the leftmost and longest."""
        if self._automaton is None:
            return []
        return [
            Occurrence(start, end, self._names[self._words[word]])
            for word, start, end in self._automaton.find_matches_as_indexes(data)
        ]

    def first(self, text: str) -> str | None:
        """Return the name of a secret that the text contains; None if it contains none."""
        occurrences = self.find(text.encode("utf-8", "surrogatepass"))
        return occurrences[0].name if occurrences else None


def _automaton(words: list[bytes]) -> BytesAhoCorasick:
    from ahocorasick_rs import (
        BytesAhoCorasick,
        MatchKind,
    )  # not imported where a person waits for something else

    return BytesAhoCorasick(words, matchkind=MatchKind.LeftmostLongest)


class Redactor:
    """Masks known secrets in lines.

    Very short ones, which cannot be found by value, are masked by the file's own reader.
    """

    def __init__(self, secrets: Mapping[str, str]) -> None:
        self._finder = SecretFinder(secrets)

    def line(self, line: str) -> str:
        """Return one line for display: `[NAME ••••]` instead of each secret, control characters visible."""
        data = line.encode("utf-8", "surrogatepass")
        parts, last = [], 0
        for occurrence in self._finder.find(data):
            parts += [data[last : occurrence.start], f"[{occurrence.name} ••••]".encode()]
            last = occurrence.end
        return visible(b"".join([*parts, data[last:]]).decode("utf-8", "replace"))


NOTHING_KNOWN = Redactor({})
"""For content without secrets of the jar."""


def shown_lines(lines: Iterable[str], hidden: Mapping[int, str], redactor: Redactor) -> Iterator[str]:
    """Return each line for display: what `hidden` has for its number (from 1), else the line with known secrets
    masked.
    """
    for number, line in enumerate(lines, 1):
        indent = line[: len(line) - len(line.lstrip(" "))]
        yield indent + hidden[number] if number in hidden else redactor.line(line)
