"""Placeholders such as `{stage}` in paths, names and commands."""

from __future__ import annotations

import re

_PLACEHOLDER = re.compile(r"\{([^{}]*)\}")


def placeholders(text: str) -> list[str]:
    """Return the names in braces, in order."""
    return _PLACEHOLDER.findall(text)


def fill(text: str, **values: str) -> str:
    """Return the text with `{NAME}` replaced by the value of each name; other braces stay."""
    return _PLACEHOLDER.sub(lambda match: values.get(match[1], match[0]), text)
