"""Locate the jar, and the user's own configuration."""

from __future__ import annotations

import os
from pathlib import Path

from coinjar.core.errors import InputError, Location
from coinjar.jarfile.layout import JarLayout
from coinjar.system.process_secrets import KEY, taken


def find_jar(start: Path, named: str | None) -> Path:
    """Return the jar's folder: `named` (the folder, or the one that contains it), else `jar/` here or in a parent
    folder.

    Raises InputError if there is none, or if the one in a parent folder belongs to another account.
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
        declarations = JarLayout(above / "jar").declarations
        if declarations.is_file():
            if above != start:
                _require_ours(declarations)
            return above / "jar"
    raise InputError(
        "there is no jar here or in a parent folder",
        hint="create one with `coinjar new`, or name one with --jar PATH",
        code="no-jar",
    )


def _require_ours(declarations: Path) -> None:
    """Refuse a jar that somebody else put above the current folder, as in /tmp: nobody named it. Raises InputError."""
    if declarations.stat().st_uid not in (os.geteuid(), 0):
        raise InputError(
            "this jar in a parent folder belongs to another account, so it is not used",
            hint="if it is the right one, name it with --jar, or go to its folder",
            location=Location(str(declarations.parent)),
            code="not-ours",
        )


def config_folder() -> Path:
    """Return the user's own folder for Coin Jar (XDG Base Directory Specification)."""
    return Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config") / "coinjar"


def has_identity() -> bool:
    """Return whether there seems to be an identity that decrypts secrets; it is not read."""
    return bool(taken(KEY) or os.environ.get("COINJAR_IDENTITY_FILE")) or (config_folder() / "identity").exists()
