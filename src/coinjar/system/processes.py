"""Read the environment that a running process was started with (proc(5), /proc/PID/environ)."""

from __future__ import annotations

import os
from pathlib import Path


def environment_of(pid: int) -> dict[str, str]:
    """Return it by name.

    Raises FileNotFoundError (ProcessLookupError while it ends) without such a process, PermissionError for another
    user's.
    """
    data = Path(f"/proc/{pid}/environ").read_bytes()
    pairs = (word.partition(b"=") for word in data.split(b"\0") if b"=" in word)
    return {os.fsdecode(name): os.fsdecode(text) for name, _, text in pairs}
