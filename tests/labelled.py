"""Snippets with labels (tests/mentions/README.md), and how well the languages' readers find what is labelled."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from coinjar.mentions.base import Mention, TextMentions
from coinjar.mentions.languages import language_of, look

FOLDER = Path(__file__).parent / "mentions"
_MARK = re.compile(r"«([^»]*)»")
NAMES = {
    "python": "x.py", "javascript": "x.js", "typescript": "x.ts", "go": "x.go", "java": "X.java", "kotlin": "x.kt",
    "ruby": "x.rb", "php": "x.php",
    "csharp": "X.cs", "rust": "x.rs", "shell": "x.sh", "containerfile": "Containerfile", "compose": "compose.yaml",
    "kubernetes": "x.yaml",
    "powershell": "x.ps1", "template": "x.template", "pipeline": "x.yaml", "web_server": "nginx.conf",
    "frameworks": "x.py", "texts": "x.ini",
}  # fmt: skip
HOWS = ("set", "presence", "expression", "misplaced", "probable", "probable-set")


class Snippet(NamedTuple):
    """A labelled text: `labels` are (line, column, name, how, default), or (line, `?`) where only the running program
    knows.
    """

    language: str
    title: str
    file: str
    text: str
    labels: frozenset[tuple[object, ...]]


def snippets() -> Iterator[Snippet]:
    for path in sorted(FOLDER.glob("*.txt")):
        for part in re.split(r"(?m)^=== ", path.read_text())[1:]:
            heading, _, marked = part.partition("\n")
            title, _, file = heading.partition(" [")
            text, labels = unmarked(marked)
            yield Snippet(path.stem, title, file.rstrip("]") or NAMES[path.stem], text, frozenset(labels))


def unmarked(marked: str) -> tuple[str, list[tuple[object, ...]]]:
    """A text without its marks, and what they say."""
    text, last = "", 0
    labels: list[tuple[object, ...]] = []
    for mark in _MARK.finditer(marked):
        text += marked[last : mark.start()]
        line, column = text.count("\n") + 1, len(text) - text.rfind("\n")
        if mark[1].startswith("?"):
            labels.append((line, "?"))
            text += mark[1][1:]
        else:
            spelled, bar, default = mark[1].partition("|")
            name, _, how = spelled.rpartition(":") if spelled.rpartition(":")[2] in HOWS else (spelled, "", "")
            there, _, other = name.partition("=")
            labels.append((line, column, other or there, how or "read", default if bar else None))
            text += there
        last = mark.end()
    return text + marked[last:], labels


def found_in(snippet: Snippet) -> frozenset[tuple[object, ...]]:
    """What is found in a snippet, in the form of its labels."""
    data = snippet.text.encode()
    language = language_of(snippet.file)
    mentions = look(language, data) if language else TextMentions([], [])

    def at(offset: int) -> tuple[int, int]:
        before = data[:offset].decode()
        return before.count("\n") + 1, len(before) - before.rfind("\n")

    labels: set[tuple[object, ...]] = {(at(computed.start)[0], "?") for computed in mentions.unknown}
    for mention in mentions.mentions:
        labels.add(
            (
                *at(mention.start),
                mention.name,
                _how(mention),
                None if mention.access == "set" else mention.default,
            )
        )
    return frozenset(labels)


def _how(mention: Mention) -> str:
    if mention.probable:
        return "probable-set" if mention.access == "set" else "probable"
    return mention.way if mention.way != "variable" else mention.access


class Score(NamedTuple):
    """How many labels there are, how many were found, and how many were found that are none."""

    labelled: int
    right: int
    wrong: int

    @property
    def precision(self) -> float:
        return self.right / (self.right + self.wrong)

    @property
    def recall(self) -> float:
        return self.right / self.labelled


def scores() -> dict[str, Score]:
    """By language."""
    sums: dict[str, Score] = {}
    for snippet in snippets():
        result = found_in(snippet)
        before = sums.get(snippet.language, Score(0, 0, 0))
        sums[snippet.language] = Score(
            before.labelled + len(snippet.labels),
            before.right + len(snippet.labels & result),
            before.wrong + len(result - snippet.labels),
        )
    return sums
