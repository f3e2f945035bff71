"""Files that never touch a disk, for plain text that must not be stored."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import tempfile
from collections.abc import Iterator
from pathlib import Path
from types import FrameType

from coinjar.core.errors import ExternalError

_PREFIX = "coinjar-edit-"
_IN_MEMORY = ("tmpfs", "ramfs")


def memory_folder() -> Path:
    """Return a writable folder in memory. Raises ExternalError if this machine has none."""
    # Checked below for what it is.
    wanted = [os.environ.get("XDG_RUNTIME_DIR", ""), f"/run/user/{os.getuid()}", "/dev/shm"]  # noqa: S108
    for name in wanted:
        path = Path(name)
        if name and path.is_dir() and os.access(path, os.W_OK | os.X_OK) and _kind(path.resolve()) in _IN_MEMORY:
            return path
    raise ExternalError(
        "there is no folder in memory on this machine, and secrets are not written to disk",
        hint="mount a tmpfs at /dev/shm",
        code="no-memory",
    )


def _kind(path: Path) -> str:
    """Return the type of the file system that contains a path (proc(5), /proc/self/mounts)."""
    best, kind = -1, ""
    for line in Path("/proc/self/mounts").read_text().splitlines():
        _, mount, value, *_ = line.split()
        mount = mount.encode().decode("unicode_escape")
        if path.is_relative_to(mount) and len(mount) >= best:
            best, kind = len(mount), value
    return kind


@contextlib.contextmanager
def private_file(name: str) -> Iterator[Path]:
    """Create a file of mode 0600 in a folder of its own in memory; both are removed afterwards, unless SIGKILL ends the
    process.

    The next run removes what a killed run left.
    """
    base = memory_folder()
    _remove_orphans(base)
    folder = Path(tempfile.mkdtemp(prefix=f"{_PREFIX}{os.getpid()}-", dir=base))
    caught = {number: signal.signal(number, _stop) for number in (signal.SIGTERM, signal.SIGHUP)}
    try:
        path = folder / name
        os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
        yield path
    finally:
        shutil.rmtree(folder, ignore_errors=True)
        for number, handler in caught.items():
            signal.signal(number, handler)


def _stop(number: int, frame: FrameType | None) -> None:
    del frame
    raise SystemExit(128 + number)


def _remove_orphans(base: Path) -> None:
    for folder in base.glob(f"{_PREFIX}*"):
        pid = folder.name.removeprefix(_PREFIX).partition("-")[0]
        if pid.isdigit() and not Path(f"/proc/{pid}").exists() and folder.lstat().st_uid == os.getuid():
            shutil.rmtree(folder, ignore_errors=True)
