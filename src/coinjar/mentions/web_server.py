"""Configuration of web servers and proxies: the directives that pass variables on, set and remove them."""

from __future__ import annotations

import re

from coinjar.mentions.base import READ, SET, Mention, TextMentions, in_order
from coinjar.mentions.placeholders import placeholders

_DIRECTIVE = re.compile(
    rb"^[ \t]*(?:"
    rb"env[ \t]+(?P<passed>[A-Za-z_]\w*)(?P<value>=[^;\n]*)?[ \t]*;"
    rb"|(?i:PassEnv)[ \t]+(?P<names>[A-Za-z_][\w \t]*)"
    rb"|(?i:SetEnv|UnsetEnv)[ \t]+(?P<set>[A-Za-z_]\w*)"
    rb"|(?:setenv|presetenv|unsetenv)[ \t]+(?P<global>[A-Za-z_]\w*)"
    rb"|env\[(?P<pool>[A-Za-z_]\w*)\][ \t]*=(?:[ \t]*\$(?P<from>[A-Za-z_]\w*))?"
    rb")",
    re.MULTILINE,
)
"""nginx's `env`, the Apache server's directives (mod_env), HAProxy's global ones, and a pool of PHP-FPM's."""
_NAME = re.compile(rb"[A-Za-z_]\w*")


def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a configuration file."""
    del helpers
    found: list[Mention] = []
    for match in _DIRECTIVE.finditer(data):
        if match["passed"]:
            found.append(_mention(match, "passed", SET if match["value"] else READ))
        elif match["names"]:
            start, end = match.span("names")
            found += [Mention(name[0].decode(), *name.span(), READ) for name in _NAME.finditer(data, start, end)]
        else:
            found.append(_mention(match, next(group for group in ("set", "global", "pool") if match[group]), SET))
            found += [_mention(match, "from", READ)] if match["from"] else []
    return in_order([*found, *placeholders(data)])


def _mention(match: re.Match[bytes], group: str, access: str) -> Mention:
    return Mention(match[group].decode(), *match.span(group), access)
