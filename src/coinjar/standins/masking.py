"""How stand-ins hide secrets: on their pages, in their logs, and as keyed digests for proofs."""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Mapping

from coinjar.core.inference import infer

MASK = "••••"


def for_eyes(name: str, value: str, *, secret: bool = False) -> str:
    """Return a value as a page shows it."""
    return MASK if value and (secret or infer(name, value).secret) else value


def digest(key: str, value: str) -> str:
    """Return a digest by which a service proves what it has: HMAC-SHA-256, hex."""
    return hmac.new(key.encode(), value.encode(), hashlib.sha256).hexdigest()


def running_answer(name: str, environment: Mapping[str, str]) -> dict[str, object]:
    """Return the response of a running app: its settings, secret-looking ones masked, with digests under its
    PROOF_KEY.
    """
    hidden = {name for name, value in environment.items() if infer(name, value).secret}
    key = environment.get("PROOF_KEY", "")
    digests = {name: digest(key, environment[name]) for name in sorted(hidden) if name != "PROOF_KEY"} if key else {}
    return {
        "app": name,
        "settings": {name: MASK if name in hidden else value for name, value in environment.items()},
        "digests": digests,
    }
