"""Placeholders such as `{stage}` in paths, names and commands."""

from __future__ import annotations

import re
from functools import lru_cache

_PLACEHOLDER = re.compile(r"\{([^{}]*)\}")


def placeholders(text: str) -> list[str]:
    """Return the names in braces, in order."""
    return _PLACEHOLDER.findall(text)


def fill(text: str, **values: str) -> str:
    """Return the text with `{NAME}` replaced by the value of each name; other braces stay."""
    first, *others = _pieces(text)
    filled = [values.get(name, f"{{{name}}}") + after for name, after in zip(others[::2], others[1::2], strict=True)]
    return "".join([first, *filled])


@lru_cache(maxsize=256)
def _pieces(text: str) -> list[str]:
    """Return the texts between the names, and the names, in turn: a pattern is filled for thousands of files."""
    return _PLACEHOLDER.split(text)
