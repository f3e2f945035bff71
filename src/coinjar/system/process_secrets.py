"""Secrets of this process: the variables that hold Coin Jar's keys and passphrases leave the environment before any
program is started, and no core file is written.
"""

from __future__ import annotations

import os

KEY, PASSPHRASE = "COINJAR_IDENTITY", "COINJAR_PASSPHRASE"
_taken: dict[str, str] = {}
_core_limits: list[tuple[int, int]] = []


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


def write_no_core_file() -> None:
    """Write no core file from now on: it would contain secrets. Programs that are executed get the limit back by
    `restore_core_limit`.
    """
    import resource

    if not _core_limits:
        soft, hard = resource.getrlimit(resource.RLIMIT_CORE)
        _core_limits.append((soft, hard))
        resource.setrlimit(resource.RLIMIT_CORE, (0, hard))


def restore_core_limit() -> None:
    """Set the limit that this process was started with, for the program that follows it."""
    if _core_limits:
        import resource

        resource.setrlimit(resource.RLIMIT_CORE, _core_limits.pop())
