"""What a text must be to be a value at all."""

from __future__ import annotations


def not_for_environments(text: str) -> str | None:
    """Why no environment can hold this text, or None if it can."""
    if "\0" in text:
        return "it holds a NUL character, which no environment can carry"
    try:
        text.encode()
    except UnicodeEncodeError:
        return "it holds half a surrogate pair, which is no text"
    return None
