"""A text that is never shown by accident."""

from __future__ import annotations

_HIDDEN = "••••"
_new = str.__new__


class Secret(str):
    """A secret's text. Printed or formatted it is a mask; compared, measured or encoded it is the text."""

    __slots__ = ()

    def __new__(cls, text: str) -> Secret:
        """Not `str`, which would call the mask."""
        return text if isinstance(text, Secret) else _new(cls, text)

    def __repr__(self) -> str:
        return _HIDDEN

    def __str__(self) -> str:
        return _HIDDEN

    def __format__(self, spec: str) -> str:
        return _HIDDEN


def reveal(text: str) -> str:
    """Return the text itself, for the destination it was requested for."""
    return str.__str__(text) if isinstance(text, Secret) else text
