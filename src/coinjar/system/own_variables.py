"""Coin Jar's own variables with keys and passphrases: taken out of the environment before any program is started."""

from __future__ import annotations

import os

KEY, PASSPHRASE = "COINJAR_IDENTITY", "COINJAR_PASSPHRASE"
_taken: dict[str, str] = {}


def take() -> None:
    """Move the secret variables out of this process's environment, so that no child gets them."""
    for name in (KEY, PASSPHRASE):
        if (text := os.environ.pop(name, None)) is not None:
            _taken[name] = text


def taken(name: str) -> str | None:
    """Return one of them; None if it was not set."""
    take()
    return _taken.get(name)


def forget() -> None:
    """Forget them: in a process that stands for several, each with an environment of its own."""
    _taken.clear()
