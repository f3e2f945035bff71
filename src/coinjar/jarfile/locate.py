"""Where the jar is, and where the user's own configuration."""

from __future__ import annotations

import os
from pathlib import Path

from coinjar.core.errors import InputError, Location


def find_jar(start: Path, named: str | None) -> Path:
    """The jar's folder: `named` (the folder, or the one that holds it), else `jar/` here or in a folder above.

    Raises InputError if there is none.
    """
    if named is not None:
        for folder in (Path(named), Path(named) / "jar"):
            if (folder / "jar.yaml").is_file():
                return folder
        raise InputError(
            "there is no jar.yaml",
            hint="--jar and COINJAR_JAR name the folder that holds jar.yaml",
            location=Location(named),
            code="no-jar",
        )
    for above in (start, *start.parents):
        if (above / "jar" / "jar.yaml").is_file():
            return above / "jar"
    raise InputError(
        "there is no jar here or in a folder above",
        hint="`coinjar new` makes one; --jar PATH names one elsewhere",
        code="no-jar",
    )


def config_folder() -> Path:
    """The user's own folder for Coin Jar (XDG Base Directory Specification)."""
    return Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config") / "coinjar"


def has_identity() -> bool:
    """Whether there seems to be an identity here that opens secrets; nothing of it is read."""
    return (
        bool(os.environ.get("COINJAR_IDENTITY") or os.environ.get("COINJAR_IDENTITY_FILE"))
        or (config_folder() / "identity").exists()
    )
