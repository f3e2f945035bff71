"""Expressions that a pipeline service replaces before a shell runs: `${{ }}` and `[= =]`."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.mentions.base import EXPRESSION, MISPLACED, ComputedName, Mention

EXPRESSIONS = re.compile(rb"\$\{\{(.*?)\}\}|(?<!\[)\[=\s*([A-Za-z_]\w*)\s*=\]", re.DOTALL)
_MEMBER = re.compile(
    rb"(?<![\w.-])(?:env|vars|variables|secrets)"
    rb"""(?:\.([A-Za-z_]\w*)|\[\s*(?:'([^']*)'|"([^"]*)"|([^\]]*?))\s*\])(?:\s*\|\|\s*'([^']*)')?"""
)


def inside(data: bytes, match: re.Match[bytes]) -> Iterator[Mention | ComputedName]:
    """Yield the mentions of one expression."""
    if match[2]:
        yield Mention(match[2].decode(), *match.span(2), way=EXPRESSION)
    else:
        yield from members(data, *match.span(1))


def members(data: bytes, start: int, end: int) -> Iterator[Mention | ComputedName]:
    """Yield the names between two offsets of an expression: members of an environment, variables or secrets."""
    for match in _MEMBER.finditer(data, start, end):
        group = next(index for index in (1, 2, 3, 4) if match[index] is not None)
        if group == 4:
            yield ComputedName(*match.span(4))
        else:
            yield Mention(
                match[group].decode(),
                *match.span(group),
                default=match[5].decode() if match[5] is not None else None,
                way=EXPRESSION,
            )


def masked(data: bytes) -> bytes:
    """Return the text with every expression blanked: a shell never sees it."""
    return EXPRESSIONS.sub(lambda match: b"x" * len(match[0]), data)


def misplaced(data: bytes) -> list[Mention]:
    """Return the expressions of a text that no pipeline service reads."""
    found = [computed for match in EXPRESSIONS.finditer(data) for computed in inside(data, match)]
    return [computed._replace(way=MISPLACED) for computed in found if isinstance(computed, Mention)]
