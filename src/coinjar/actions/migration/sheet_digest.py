"""Digests of the values of a sheet: they show, to whoever has the key, whether a value has changed since."""

from __future__ import annotations

import hmac
import os
import secrets
from collections.abc import Iterable, Sequence
from pathlib import Path

from coinjar.actions.open_jar import OpenJar
from coinjar.core.display import Masker
from coinjar.core.dispositions import SourceValue
from coinjar.core.model import Jar
from coinjar.core.secret import reveal
from coinjar.destinations.stage_view import RenderContext
from coinjar.system.files import replace_file


def digest(key: bytes, source: str, variable: str, values: Iterable[SourceValue]) -> str:
    """Return the digest of a variable's values at a source, in 16 hex digits (HMAC-SHA-256)."""
    texts = [
        "\0".join((value.where, reveal(value.text or ""), str(value.text is None)))
        for value in values
        if value.name == variable
    ]
    message = "\0".join(["coinjar move 1", source, variable, *sorted(texts)])
    return hmac.digest(key, message.encode("utf-8", "surrogatepass"), "sha256").hex()[:16]


def digest_key(opened: OpenJar | None, jar: Jar | None, stages: Sequence[str]) -> bytes:
    """Return the naming key of the first stage; without a jar or a stage, a key in the user's cache folder."""
    if opened and jar and stages:
        return RenderContext(jar, opened.folder, Masker(), opened.ring, opened.gate, writes=True).naming_key(stages[0])
    home = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    path = Path(home, "coinjar", "move.key")
    if not path.exists():
        replace_file(path, secrets.token_bytes(32), mode=0o600)
    return path.read_bytes()
