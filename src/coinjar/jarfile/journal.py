"""Change several files all together or not at all: the new contents are stored first, so that the next run completes an
interrupted change.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
from collections.abc import Mapping
from pathlib import Path

from coinjar.core.errors import CoinJarError, InputError, Location
from coinjar.jarfile.layout import JarLayout
from coinjar.system.files import display_path, replace_file

_FOLDER = "unfinished-change"
_LIST = "list.json"


def _digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def _held(path: Path) -> bytes | None:
    try:
        return path.read_bytes()
    except FileNotFoundError:
        return None


def is_unfinished(jar: Path) -> bool:
    """Return whether a change of several files was interrupted."""
    return (JarLayout(jar).journal / _LIST).exists()


def replace_all(jar: Path, files: Mapping[Path, tuple[bytes, bytes]]) -> None:
    """Write each file's second text over its first; the caller holds the jar's lock.

    Raises InputError, with nothing changed, if a file has changed meanwhile; ExternalError, with everything restored,
    if one cannot be written.
    """
    _refuse_changed({path: old for path, (old, _) in files.items()})
    folder = JarLayout(jar).journal
    shutil.rmtree(folder, ignore_errors=True)
    entries = []
    for number, (path, (old, new)) in enumerate(files.items()):
        replace_file(folder / str(number), new, private=True)
        entries.append({"path": os.path.realpath(path), "old": _digest(old), "new": _digest(new)})
    replace_file(folder / _LIST, json.dumps(entries).encode(), private=True)
    done: list[Path] = []
    try:
        for path, (_, new) in files.items():
            replace_file(path, new)
            done.append(path)
    except CoinJarError:
        for path in done:
            replace_file(path, files[path][0])
        shutil.rmtree(folder, ignore_errors=True)
        raise
    shutil.rmtree(folder)


def finish(jar: Path) -> list[str]:
    """Complete an interrupted change; return the files written. Raises InputError if one was changed since."""
    folder = JarLayout(jar).journal
    if not is_unfinished(jar):
        shutil.rmtree(folder, ignore_errors=True)  # interrupted before it began
        return []
    entries = json.loads((folder / _LIST).read_bytes())
    left: list[tuple[Path, bytes]] = []
    for number, entry in enumerate(entries):
        now = _digest(_held(Path(entry["path"])) or b"")
        if now == entry["old"]:
            left.append((Path(entry["path"]), (folder / str(number)).read_bytes()))
        elif now != entry["new"]:
            hint = f"restore its previous content, or remove {display_path(folder)} and correct the files by hand"
            raise InputError(
                "it was changed since a rename was interrupted",
                hint=hint,
                location=Location(display_path(Path(entry["path"]))),
                code="changed-meanwhile",
            )
    for path, new in left:
        replace_file(path, new)
    shutil.rmtree(folder)
    return [display_path(path) for path, _ in left]


def _refuse_changed(files: Mapping[Path, bytes]) -> None:
    for path, old in files.items():
        if _held(path) != old:
            raise InputError(
                "it was changed meanwhile",
                hint="run it again",
                location=Location(display_path(path)),
                code="changed-meanwhile",
            )
