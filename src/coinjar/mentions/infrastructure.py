"""Infrastructure code in blocks: maps and blocks that set variables for what they describe; all probable."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.mentions.base import SET, Mention, TextMentions, in_order

_SKIPPED = re.compile(rb"(\"(?:[^\"\\\n]|\\.)*\")|(?:#|//)[^\n]*|/\*.*?\*/", re.DOTALL)
_TOKEN = re.compile(
    rb"(?P<map>[A-Za-z_]\w*)\"?\s*(?:=|:)?\s*\{|(?P<open>\{)|(?P<close>\})"
    rb"|(?P<quote>\"?)(?P<key>[A-Za-z_]\w*)(?P=quote)[ \t]*[=:](?!=)[ \t]*(?:\"(?P<text>[A-Za-z_]\w*)\")?"
)
_MAPS = frozenset(
    {
        b"environment",
        b"env",
        b"variables",
        b"environment_variables",
        b"env_vars",
        b"build_args",
        b"args",
        b"app_settings",
    }
)
_CAPITALS = re.compile(rb"[A-Z][A-Z0-9_]*")


def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the variables that the maps and blocks of a text set."""
    del helpers
    shown = _SKIPPED.sub(lambda match: match[1] or b" " * len(match[0]), data)
    return in_order(_set_in(shown))


def _set_in(data: bytes) -> Iterator[Mention]:
    blocks: list[bytes] = []
    last = [b""]
    for token in _TOKEN.finditer(data):
        if token["map"] or token["open"]:
            blocks.append(token["map"] or last[-1])  # a map inside of a call or a list is that of the key before it
            last.append(blocks[-1])
        elif token["close"]:
            del blocks[-1:], last[len(blocks) + 1 :]
        else:
            within = blocks[-1] if blocks else b""
            if within in _MAPS and token["key"] == b"name" and token["text"]:
                yield Mention(token["text"].decode(), *token.span("text"), SET, probable=within.decode())
            elif within in _MAPS and _CAPITALS.fullmatch(token["key"]):
                yield Mention(token["key"].decode(), *token.span("key"), SET, probable=within.decode())
            last[-1] = token["key"]
