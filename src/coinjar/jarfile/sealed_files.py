"""Read and replace the files of encrypted values and their keys, never through symlinks."""

from __future__ import annotations

from pathlib import Path

from coinjar.core.errors import InputError, Location
from coinjar.jarfile.layout import KEYS, SEALED
from coinjar.system.files import display_path, read_file, replace_file


def read_sealed_file(path: Path) -> bytes | None:
    """Return the content of a file of encrypted values or keys, None if it does not exist.

    Raises InputError for a symlink: it could be another file than the reviewed one.
    """
    _refuse_links(path)
    try:
        return read_file(path)
    except FileNotFoundError:
        return None
    except OSError as fault:
        message = f"cannot read it: {(fault.strerror or 'unknown error').lower()}"
        raise InputError(
            message, hint="check the path and its permissions", location=Location(display_path(path)), code="unreadable"
        ) from None


def replace_sealed_file(path: Path, data: bytes) -> None:
    """Replace a file of encrypted values or keys, never through a symlink. Raises InputError, ExternalError."""
    _refuse_links(path)
    replace_file(path, data)


def _refuse_links(path: Path) -> None:
    """Raise InputError for symlinks: none of the last steps of `jar/coins/keys/x` may lead elsewhere."""
    inside = {SEALED: 1, KEYS: 2}.get(path.parent.name, 0)
    for candidate in (path, *path.parents[:inside]):
        if candidate.is_symlink():
            raise InputError(
                "it is a symlink, which is not followed here",
                hint="replace it with the file or folder itself",
                location=Location(display_path(candidate)),
                code="symlink",
            )
