"""Whoever runs a test consents to what its jar can do, before each run, unless the test is about consents."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from coinjar.core.consent import Act
from tests import inprocess


class Everything:
    """A gate that lets everything pass, for tests of what lies behind it."""

    def __init__(self, *_given: object) -> None:
        """Take what the real one takes."""

    def require(self, *acts: Act) -> None:
        """Return."""

    def has_consent(self, act: Act) -> bool:
        """Return yes."""
        del act
        return True

    def record(self, *acts: Act) -> None:
        """Store nothing."""


_ACTING = re.compile(rb"destinations|proofs|records|command|from_env|file|stored_in|secret")
_consented: dict[tuple[str, str], list[tuple[str, int, int]]] = {}
"""By configuration folder and jar: the files as they were when it last had consent."""


def consent_to_all(folder: Path, arguments: Sequence[str], env: Mapping[str, str]) -> None:
    """Consent to everything, where a file beside or in the jar has changed since the last time. A faulty jar is left
    alone.
    """
    named = next((arguments[at + 1] for at, word in enumerate(arguments[:-1]) if word == "--jar"), None)
    jar = folder / (named or env.get("COINJAR_JAR") or "jar")
    jar = jar if (jar / "jar.yaml").is_file() else jar / "jar"
    if not (jar / "jar.yaml").is_file():
        return
    config = env.get("XDG_CONFIG_HOME") or env.get("HOME", "")
    key, state = (config, str(jar)), list(_state(jar))
    if _consented.get(key) != state and _may_act(jar):
        inprocess.run(["--jar", str(jar), "consent", "--yes"], folder, {**env, "LANG": "C.UTF-8"}, b"")
        _consented[key] = state


def _may_act(jar: Path) -> bool:
    """Whether a jar may declare something that acts; most jars of tests declare nothing of the kind."""
    files = [jar / "jar.yaml", *(jar / "plain").glob("*.yaml"), *(jar / ".local").glob("*.yaml")]
    return (jar / "coins").exists() or any(_ACTING.search(path.read_bytes()) for path in files if path.is_file())


def _state(jar: Path) -> Iterator[tuple[str, int, int]]:
    for folder in (jar.parent, jar, jar / "plain", jar / "platforms", jar / ".local", jar / "coins"):
        if folder.is_dir():
            for entry in sorted(os.scandir(folder), key=lambda entry: entry.name):
                if entry.is_file() and entry.name not in ("lock", "consents"):
                    state = entry.stat()
                    yield entry.path, state.st_mtime_ns, state.st_size
