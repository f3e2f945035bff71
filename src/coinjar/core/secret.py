"""A text that is never shown by accident."""

from __future__ import annotations

from functools import partial

_HIDDEN = "••••"


class Secret(str):
    """A secret's text. Printed or formatted it is a mask; compared, measured or encoded it is the text."""

    __slots__ = ()

    def __new__(cls, text: str) -> Secret:
        """Not `str`, which would call the mask."""
        return text if isinstance(text, Secret) else super().__new__(cls, text)

    def __repr__(self) -> str:
        return _HIDDEN

    def __str__(self) -> str:
        return _HIDDEN

    def __format__(self, spec: str) -> str:
        return _HIDDEN


hidden = partial(str.__new__, Secret)
"""Makes a secret of a text that is known to be none yet: a fifth of the time."""


def reveal(text: str) -> str:
    """Return the text itself, for the destination it was requested for."""
    return str.__str__(text) if isinstance(text, Secret) else text
