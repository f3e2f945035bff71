"""Settings files of any format: placeholders in capitals, which somebody replaces from the environment; probable."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.mentions.base import READ, Mention, TextMentions, in_order

PLACEHOLDER = re.compile(rb"\$\{(?:env[.:])?([A-Z][A-Z0-9_]+)(?::[-=]?([^{}$\n\"<>]*))?\}")
_PROCESSED = re.compile(rb"%env\((?:[\w.]+:)*([A-Za-z_]\w*)\)%")
"""A reference in a container of services: `%env(int:PORT)%`."""
_FORM, _PROCESSED_FORM = "${}", "%env()%"
_COMMENTS = {
    "line": re.compile(rb"(?m)^[ \t]*[#;!][^\n]*"),
    "sql": re.compile(rb"--[^\n]*|/\*.*?\*/", re.DOTALL),
    "xml": re.compile(rb"<!--.*?-->", re.DOTALL),
    "": re.compile(rb"(?!)"),
}


def placeholders(data: bytes, comments: str = "line") -> Iterator[Mention]:
    """Yield the placeholders outside of comments: of lines, of `sql`, of `xml`, or "" for a format without any."""
    shown = _COMMENTS[comments].sub(lambda match: b" " * len(match[0]), data)
    for match in PLACEHOLDER.finditer(shown):
        default = match[2].decode(errors="replace") if match[2] is not None else None
        yield Mention(match[1].decode(), *match.span(1), READ, default, probable=_FORM)
    yield from processed(shown)


def processed(data: bytes) -> Iterator[Mention]:
    """Yield the references that a container of services replaces, after any processors."""
    for match in _PROCESSED.finditer(data):
        yield Mention(match[1].decode(), *match.span(1), READ, probable=_PROCESSED_FORM)


def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the placeholders of a text whose comments are lines."""
    del helpers
    return in_order(placeholders(data))


def find_sql(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the placeholders of a database's script."""
    del helpers
    return in_order(placeholders(data, "sql"))


def find_markup(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the placeholders of a text in markup."""
    del helpers
    return in_order(placeholders(data, "xml"))
