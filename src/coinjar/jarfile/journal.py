"""Change several files all together or not at all: the new contents are stored first, so that the next run completes an
interrupted change.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import os
import secrets
import shutil
from collections.abc import Mapping
from pathlib import Path

from coinjar.core.errors import CoinJarError, InputError, Location
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.local_folder import require_own_local
from coinjar.jarfile.locate import config_folder
from coinjar.system.files import display_path, is_below, make_folder, read_file, remove_file, replace_file

_FOLDER = "unfinished-change"
_LIST = "list.json"
_NO_FILE = "none"
"""The digest of a file that does not exist."""


def _digest(data: bytes | None) -> str:
    return hashlib.sha256(data).hexdigest() if data is not None else _NO_FILE


def _held(path: Path) -> bytes | None:
    try:
        return read_file(path)
    except FileNotFoundError:
        return None


def account_key() -> bytes:
    """Return this account's key for journals and records of the last change, made at the first use: one that came with
    a repository cannot have been made with it.
    """
    path = config_folder() / "journal.key"
    try:
        return read_file(path)
    except FileNotFoundError:
        make_folder(path.parent)
        replace_file(path, secrets.token_bytes(32), mode=0o600)
        return read_file(path)


def _code(jar: Path, entries: object) -> str:
    text = json.dumps(["coinjar journal 1", os.path.realpath(jar), entries])
    return hmac.digest(account_key(), text.encode(), "sha256").hex()


def is_unfinished(jar: Path) -> bool:
    """Return whether a change of several files was interrupted."""
    return (JarLayout(jar).journal / _LIST).exists()


def replace_all(jar: Path, files: Mapping[Path, tuple[bytes | None, bytes | None]]) -> None:
    """Write each file's second text over its first; None is no file. The caller holds the jar's lock.

    Raises InputError, with nothing changed, if a file has changed meanwhile; ExternalError, with everything restored,
    if one cannot be written.
    """
    _refuse_changed({path: old for path, (old, _) in files.items()})
    require_own_local(jar)
    from coinjar.jarfile.last_change import replaced  # it writes with this module

    replaced({path: old for path, (old, _) in files.items()})
    folder = JarLayout(jar).journal
    shutil.rmtree(folder, ignore_errors=True)
    entries = []
    for number, (path, (old, new)) in enumerate(files.items()):
        if new is not None:
            replace_file(folder / str(number), new, private=True)
        entries.append({"path": os.path.realpath(path), "old": _digest(old), "new": _digest(new)})
    journal = {"files": entries, "code": _code(jar, entries)}
    replace_file(folder / _LIST, json.dumps(journal).encode(), private=True)
    done: list[Path] = []
    try:
        for path, (_, new) in files.items():
            _set(path, new)
            done.append(path)
    except CoinJarError:
        for path in done:
            _set(path, files[path][0])
        shutil.rmtree(folder, ignore_errors=True)
        raise
    shutil.rmtree(folder)


def _set(path: Path, data: bytes | None) -> None:
    """Write a file, or for None remove it. Raises InputError, ExternalError."""
    if data is not None:
        replace_file(path, data)
    else:
        remove_file(path)


def finish(jar: Path) -> list[str]:
    """Complete an interrupted change; return the files written. Raises InputError if one was changed since."""
    folder = JarLayout(jar).journal
    require_own_local(jar)
    if not is_unfinished(jar):
        shutil.rmtree(folder, ignore_errors=True)  # interrupted before it began
        return []
    entries = _entries(jar, folder)
    left: list[tuple[Path, bytes | None]] = []
    for number, entry in enumerate(entries):
        now = _digest(_held(Path(entry["path"])))
        if now == entry["old"]:
            new = read_file(folder / str(number)) if entry["new"] != _NO_FILE else None
            if _digest(new) != entry["new"]:
                raise _foreign(folder)
            left.append((Path(entry["path"]), new))
        elif now != entry["new"]:
            hint = f"restore its previous content, or remove {display_path(folder)} and correct the files by hand"
            raise InputError(
                "it was changed since a change of several files was interrupted",
                hint=hint,
                location=Location(display_path(Path(entry["path"]))),
                code="changed-meanwhile",
            )
    for path, new in left:
        _set(path, new)
    shutil.rmtree(folder)
    return [display_path(path) for path, _ in left]


def _entries(jar: Path, folder: Path) -> list[dict[str, str]]:
    """Return the files of an interrupted change. Raises InputError if this account did not begin it."""
    try:
        journal = json.loads(read_file(folder / _LIST))
        entries, code = journal["files"], journal["code"]
        is_ours = hmac.compare_digest(_code(jar, entries), code)
    except (ValueError, KeyError, TypeError):
        raise _foreign(folder) from None
    if not is_ours or not all(is_below(entry["path"], os.path.realpath(jar.parent)) for entry in entries):
        raise _foreign(folder)
    return list(entries)


def _foreign(folder: Path) -> InputError:
    return InputError(
        "this interrupted change was not begun here by you, so it is not completed",
        hint=f"remove {display_path(folder)}",
        location=Location(display_path(folder)),
        code="foreign-journal",
    )


def _refuse_changed(files: Mapping[Path, bytes | None]) -> None:
    for path, old in files.items():
        if _held(path) != old:
            raise InputError(
                "it was changed meanwhile",
                hint="run it again",
                location=Location(display_path(path)),
                code="changed-meanwhile",
            )
