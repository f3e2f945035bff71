"""Templates: `${NAME}` in capitals, calls and members of an environment in double braces, and embedded Ruby."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.mentions.base import PRESENCE, READ, ComputedName, Mention, TextMentions, in_order
from coinjar.mentions.dollars import references
from coinjar.mentions.yaml_nodes import NAME

_COMMENT = re.compile(rb"\{#(?:(?!\{#).)*?#\}|\{\{-?\s*/\*(?:(?!\{\{).)*?\*/\s*-?\}\}", re.DOTALL)
_TAG = re.compile(rb"\{\{((?:(?!\{\{).)*?)\}\}|\{%((?:(?!\{%).)*?)%\}", re.DOTALL)
_TEXT = rb"""(?:"([^"]*)"|'([^']*)')"""
_USE = re.compile(
    rb"""(?<![\w."'])(?:env\s*\(\s*"""
    + _TEXT
    + rb"""(?:\s*,\s*"""
    + _TEXT
    + rb""")?\s*\)|(?:get)?env\s+"""
    + _TEXT
    + rb"""(?:[ \t]+"""
    + _TEXT
    + rb""")?|env\[\s*"""
    + _TEXT
    + rb"""\s*\]|(?:\.Env|env)\.([A-Za-z_]\w*))(?:\s*\|\s*default(?:\s*\(\s*|\s+)"""
    + _TEXT
    + rb""")?"""
)
_DEFAULTS = (3, 4, 7, 8, 12, 13)
_NAMES = (1, 2, 5, 6, 9, 10, 11)


def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a template."""
    del helpers
    shown = _COMMENT.sub(lambda match: b" " * len(match[0]), data)
    mentions = [*_braces(shown)]
    outside = _TAG.sub(lambda match: b" " * len(match[0]), shown)
    mentions += [mention for mention in references(outside, 0, len(outside)) if NAME.fullmatch(mention.name)]
    return in_order(mentions)


def _braces(data: bytes) -> Iterator[Mention]:
    for tag in _TAG.finditer(data):
        group = 1 if tag[1] is not None else 2
        for match in _USE.finditer(data, *tag.span(group)):
            at = next(index for index in _NAMES if match[index] is not None)
            default = next((match[index].decode() for index in _DEFAULTS if match[index] is not None), None)
            asked = re.fullmatch(rb"-?\s*if\s+" + re.escape(match[0]) + rb"\s*-?", tag[group]) is not None
            yield Mention(match[at].decode(), *match.span(at), PRESENCE if asked else READ, default)


def find_embedded(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a text with Ruby in `<% %>`."""
    from coinjar.mentions import ruby

    code = bytearray(re.sub(rb"[^\n]", b" ", data))
    for tag in re.finditer(rb"<%(?!#)([=-]?)(.*?)-?%>", data, re.DOTALL):
        code[tag.start(2) : tag.end(2)] = tag[2]
        code[tag.end() - 1 : tag.end()] = b";"
    mentions = ruby.find(bytes(code), helpers)
    return TextMentions(mentions.mentions, [ComputedName(*computed) for computed in mentions.unknown])
