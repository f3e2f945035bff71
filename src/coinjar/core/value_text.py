"""The characters that a value can contain."""

from __future__ import annotations


def not_for_environments(text: str) -> str | None:
    """Return why no environment can carry this text, or None if it can."""
    if "\0" in text:
        return "it contains a NUL character, which no environment can carry"
    try:
        text.encode()
    except UnicodeEncodeError:
        return "it contains half a surrogate pair, which is not text"
    return None
