"""Locate the jar, and the user's own configuration."""

from __future__ import annotations

import os
from pathlib import Path

from coinjar.core.errors import InputError, Location
from coinjar.jarfile.layout import JarLayout


def find_jar(start: Path, named: str | None) -> Path:
    """Return the jar's folder: `named` (the folder, or the one that contains it), else `jar/` here or in a parent
    folder.

    Raises InputError if there is none.
    """
    if named is not None:
        for folder in (Path(named), Path(named) / "jar"):
            if (JarLayout(folder).declarations).is_file():
                return folder
        raise InputError(
            "there is no jar.yaml",
            hint="--jar or COINJAR_JAR must name the folder that contains jar.yaml",
            location=Location(named),
            code="no-jar",
        )
    for above in (start, *start.parents):
        if JarLayout(above / "jar").declarations.is_file():
            return above / "jar"
    raise InputError(
        "there is no jar here or in a parent folder",
        hint="create one with `coinjar new`, or name one with --jar PATH",
        code="no-jar",
    )


def config_folder() -> Path:
    """Return the user's own folder for Coin Jar (XDG Base Directory Specification)."""
    return Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config") / "coinjar"


def has_identity() -> bool:
    """Return whether there seems to be an identity that decrypts secrets; it is not read."""
    return (
        bool(os.environ.get("COINJAR_IDENTITY") or os.environ.get("COINJAR_IDENTITY_FILE"))
        or (config_folder() / "identity").exists()
    )
