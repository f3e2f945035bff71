"""Expressions that a pipeline service replaces before any shell sees them: `${{ }}` and `[= =]`."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.mentions.base import EXPRESSION, MISPLACED, ComputedName, Mention

EXPRESSIONS = re.compile(rb"\$\{\{(.*?)\}\}|(?<!\[)\[=\s*([A-Za-z_]\w*)\s*=\]", re.DOTALL)
_MEMBER = re.compile(rb"""(?<![\w.-])(?:env|vars|variables|secrets)(?:\.([A-Za-z_]\w*)|\[\s*(?:'([^']*)'|"([^"]*)"|([^\]]*?))\s*\])(?:\s*\|\|\s*'([^']*)')?""")


def inside(data: bytes, found: re.Match[bytes]) -> Iterator[Mention | ComputedName]:
    """What one expression mentions."""
    if found[2]:
        yield Mention(found[2].decode(), *found.span(2), way=EXPRESSION)
    else:
        yield from members(data, *found.span(1))


def members(data: bytes, start: int, end: int) -> Iterator[Mention | ComputedName]:
    """What stands between two places of an expression: members of an environment, variables or secrets."""
    for one in _MEMBER.finditer(data, start, end):
        group = next(index for index in (1, 2, 3, 4) if one[index] is not None)
        if group == 4:
            yield ComputedName(*one.span(4))
        else:
            yield Mention(one[group].decode(), *one.span(group), default=one[5].decode() if one[5] is not None else None, way=EXPRESSION)


def masked(data: bytes) -> bytes:
    """The text with every expression blanked out: a shell never sees it."""
    return EXPRESSIONS.sub(lambda one: b"x" * len(one[0]), data)


def misplaced(data: bytes) -> list[Mention]:
    """The expressions of a text that no pipeline service looks at."""
    found = [each for one in EXPRESSIONS.finditer(data) for each in inside(data, one)]
    return [one._replace(way=MISPLACED) for one in found if isinstance(one, Mention)]
