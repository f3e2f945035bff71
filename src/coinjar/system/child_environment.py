"""The environment of programs that Coin Jar starts."""

from __future__ import annotations

import os

from coinjar.core.names import OWN_PREFIX


def child_environment() -> dict[str, str]:
    """Return this process's environment without Coin Jar's own variables, which hold identities."""
    return {name: value for name, value in os.environ.items() if not name.startswith(OWN_PREFIX)}
