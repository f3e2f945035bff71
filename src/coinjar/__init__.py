"""Coin Jar: the environment variables of an application, per stage and service.

import coinjar

jar = coinjar.open_jar("path/to/jar")
seen = jar.resolve("prod", service="ticketing")
seen.environment()  # {"LISTEN_PORT": "8080", ...}
"""

from __future__ import annotations

TYPE_CHECKING = False  # as type checkers know it: to import it takes as long as to start Python
__version__ = "0.2.0"

if TYPE_CHECKING:
    from coinjar.actions.open_jar import OpenJar, Resolution, open_jar
    from coinjar.core.errors import (
        CoinJarError,
        DecryptionError,
        ErrorGroup,
        ExternalError,
        InputError,
        Location,
        UsageError,
    )
    from coinjar.core.model import Resolved

__all__ = [
    "CoinJarError",
    "DecryptionError",
    "ErrorGroup",
    "ExternalError",
    "InputError",
    "Location",
    "OpenJar",
    "Resolution",
    "Resolved",
    "UsageError",
    "open_jar",
]

_HOMES = {
    "OpenJar": "actions.open_jar",
    "Resolution": "actions.open_jar",
    "open_jar": "actions.open_jar",
    "Resolved": "core.model",
}


def __getattr__(name: str) -> object:
    """Import what is asked for only then: every command starts by importing this package."""
    if name not in __all__:
        raise AttributeError(f"module 'coinjar' has no attribute '{name}'")
    from importlib import import_module

    return getattr(import_module(f"coinjar.{_HOMES.get(name, 'core.errors')}"), name)
