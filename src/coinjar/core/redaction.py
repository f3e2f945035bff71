"""Redact the contents of files for display: secrets are masked by their value, at any position and in any encoding.

All output of file contents goes through this module (`actions/comparing/file_diffs.py` prints it). `hidden` contains
what a file's own reader knows of it, line by line; a `Redactor` contains the jar's known secrets.
"""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import islice
from typing import TYPE_CHECKING, NamedTuple

from coinjar.core.display import visible
from coinjar.core.encodings import views
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
        self._sorted = sorted(self._words)
        self.longest = max(map(len, self._words), default=0)
        """The length of the longest encoding, in bytes."""
        self._automaton = _automaton(self._words) if self._words else None
        firsts = b"".join(re.escape(bytes([number])) for number in {word[0] for word in self._words})
        self._first = re.compile(b"[" + firsts + b"]") if firsts else None

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

    def cut_off(self, data: bytes) -> list[Occurrence]:
        """Return the start of a secret with which the data ends, as an excerpt may; dots after it are part of it."""
        end = len(data.rstrip(b". \n\xe2\x80\xa6"))
        for length in range(min(self.longest, end), SHORTEST - 1, -1):
            tail = data[end - length : end]
            at = bisect_left(self._sorted, tail)
            if at < len(self._sorted) and self._sorted[at].startswith(tail):
                return [Occurrence(end - length, len(data), self._names[self._sorted[at]])]
        return []

    def begun(self, data: bytes) -> list[int]:
        """Return every offset from which the rest of the data is the start of a longer secret, in ascending order."""
        if self._first is None:
            return []
        starts = []
        for match in self._first.finditer(data, max(0, len(data) - self.longest + 1)):
            tail = data[match.start() :]
            at = bisect_right(self._sorted, tail)
            if at < len(self._sorted) and self._sorted[at].startswith(tail):
                starts.append(match.start())
        return starts

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
    """Masks known secrets in texts: in every encoding of `encodings`, in base64, and cut off at the end.

    Very short ones, which cannot be found by value, are masked by the file's own reader.
    """

    def __init__(self, secrets: Mapping[str, str]) -> None:
        self._finder = SecretFinder(secrets)

    def text(self, text: str) -> str:
        """Return a text for display: `[NAME ••••]`, or `••••`, instead of each secret, control characters visible."""
        return "\n".join(self.lines(text.split("\n")))

    def excerpt(self, text: str) -> str:
        """Return a text that somebody else may have cut off in the middle of a secret."""
        return "\n".join(self.lines(text.split("\n"), may_be_cut=True))

    def lines(self, lines: Sequence[str], *, may_be_cut: bool = False) -> list[str]:
        """Return lines for display; a secret that spans several is masked in each."""
        data = "\n".join(lines).encode("utf-8", "surrogatepass")
        spans = self._spans(data, may_be_cut=may_be_cut)
        if not spans:
            return [visible(line) for line in lines]
        result, start, first = [], 0, 0
        for line in data.split(b"\n"):
            end = start + len(line)
            while first < len(spans) and spans[first].end <= start:
                first += 1
            result.append(visible(_masked(data, start, end, islice(spans, first, None)).decode("utf-8", "replace")))
            start = end + 1
        return result

    def _spans(self, data: bytes, *, may_be_cut: bool) -> list[Occurrence]:
        """Return where secrets are, by their start, without overlaps."""
        if self._finder.is_empty:
            return []
        every = []
        for view in views(data):
            cut = self._finder.cut_off(view.data) if may_be_cut else []
            every += [
                Occurrence(*view.original(start, end), name)
                for start, end, name in [*self._finder.find(view.data), *cut]
            ]
        return without_overlaps(every)


def without_overlaps(occurrences: Iterable[Occurrence]) -> list[Occurrence]:
    """Return occurrences by their start; those that overlap become one, with the name of the first."""
    spans: list[Occurrence] = []
    for span in sorted(occurrences, key=lambda span: (span.start, -span.end)):
        if spans and span.start < spans[-1].end:
            if span.end > spans[-1].end:
                spans[-1] = spans[-1]._replace(end=span.end)
        else:
            spans.append(span)
    return spans


def mask(name: str) -> bytes:
    """Return what is shown instead of a secret."""
    return f"[{name} ••••]".encode() if name else "••••".encode()


def _masked(data: bytes, start: int, end: int, spans: Iterable[Occurrence]) -> bytes:
    """Return the bytes from `start` to `end`, each span's part of them replaced. No span ends before `start`."""
    parts, at = [], start
    for span in spans:
        if span.start >= end:
            break
        parts += [data[at : max(span.start, at)], mask(span.name)]
        at = min(span.end, end)
    return b"".join([*parts, data[at:end]])


NOTHING_KNOWN = Redactor({})
"""For content without secrets of the jar."""


def shown_lines(lines: Sequence[str], hidden: Mapping[int, str], redactor: Redactor) -> Iterator[str]:
    """Return each line for display: what `hidden` has for its number (from 1), else the line with known secrets
    masked.
    """
    for number, (line, shown) in enumerate(zip(lines, redactor.lines(lines), strict=True), 1):
        indent = line[: len(line) - len(line.lstrip(" "))]
        yield indent + hidden[number] if number in hidden else shown
