"""A text that never shows itself by accident."""

from __future__ import annotations

_HIDDEN = "••••"


class Secret(str):
    """A secret's text. Whatever prints or formats it gets a mask; compared, measured or encoded it is the text."""

    __slots__ = ()

    def __new__(cls, text: str) -> Secret:
        """`str` would ask the text to show itself, which a secret does not."""
        return text if isinstance(text, Secret) else super().__new__(cls, text)

    def __repr__(self) -> str:
        return _HIDDEN

    def __str__(self) -> str:
        return _HIDDEN

    def __format__(self, spec: str) -> str:
        return _HIDDEN


def reveal(text: str) -> str:
    """The text itself, for those who hand it on to where it was asked for."""
    return str.__str__(text) if isinstance(text, Secret) else text
