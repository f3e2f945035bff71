"""Read the environment that a running process was started with (proc(5), /proc/PID/environ)."""

from __future__ import annotations

import os
import time
from pathlib import Path

STARTS_WITHIN = 10.0
"""Seconds in which a process that was just started gets its environment; far more than one needs."""


def environment_of(pid: int) -> dict[str, str]:
    """Return it by name.

    Raises FileNotFoundError or ProcessLookupError without such a process (one that has ended included),
    PermissionError for another user's, TimeoutError for one that does not start.
    """
    deadline = time.monotonic() + STARTS_WITHIN
    while not (data := Path(f"/proc/{pid}/environ").read_bytes()) and not _is_bare(pid):
        if time.monotonic() > deadline:
            raise TimeoutError
        time.sleep(0.005)
    pairs = (word.partition(b"=") for word in data.split(b"\0") if b"=" in word)
    return {os.fsdecode(name): os.fsdecode(text) for name, _, text in pairs}


def _is_bare(pid: int) -> bool:
    """Return whether a process was started without any variable.

    The file is also empty if the process has ended (in some versions of Linux), has not received its environment yet
    (both of its addresses are 0), or has received it since the file was read (they differ). proc_pid_stat(5): field 3
    is the state, fields 50 and 51 are the addresses. Raises ProcessLookupError for one that has ended.
    """
    fields = Path(f"/proc/{pid}/stat").read_text(errors="replace").rpartition(")")[2].split()
    state, (start, end) = fields[0], fields[47:49]
    if state in "ZX":
        raise ProcessLookupError
    return start == end != "0"
