"""Create a jar. Never overwrites."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from coinjar.core.errors import InputError, Location, UsageError, raise_all
from coinjar.core.names import SHARED, name_fault
from coinjar.jarfile.declarations import read_declarations
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.local_folder import locked
from coinjar.jarfile.merge_attributes import ATTRIBUTES
from coinjar.system.files import display_path, replace_file

IGNORED = "# A person's own values, and Coin Jar's local state on this machine.\n.local/\n*.coinjar-unfinished\n"


def app_name(folder: Path) -> str:
    """Return a folder's name as an application's name."""
    return re.sub(r"[^a-z0-9_-]+", "-", folder.resolve().name.lower()).strip("-_")[:63] or "app"


def make_jar(folder: Path, app: str, services: Sequence[str], stages: Sequence[str]) -> list[Path]:
    """Create a jar in `folder` and return the files created. A stage is NAME, or NAME:FOLLOWED.

    Raises InputError if there is a jar, UsageError for invalid names.
    """
    pairs = [(name, followed) for name, _, followed in (stage.partition(":") for stage in stages)]
    _check_names(app, services, pairs)
    texts = {
        JarLayout(folder).declarations: _jar_text(app, services, pairs),
        JarLayout(folder).plain(SHARED): "# Values for every stage: first the service (or all), then the variable.\n",
        JarLayout(folder).git_ignore: IGNORED,
        JarLayout(folder).git_attributes: ATTRIBUTES,
    }
    for name, _ in pairs:
        if "*" not in name:
            texts[JarLayout(folder).plain(name)] = f"# Values of {name}.\n"
    read_declarations(
        texts[JarLayout(folder).declarations].encode(), "jar.yaml"
    )  # refuses inconsistent declarations, cycles included
    if (JarLayout(folder).declarations).exists():
        raise InputError(
            "there is already a jar here",
            hint="it was not changed",
            location=Location(display_path(JarLayout(folder).declarations)),
            code="exists",
        )
    folder.mkdir(parents=True, exist_ok=True)
    paths = []
    with locked(folder):
        for path, text in texts.items():
            if not path.exists():
                replace_file(path, text.encode())
                paths.append(path)
    return paths


def _check_names(app: str, services: Sequence[str], pairs: Sequence[tuple[str, str]]) -> None:
    named = [("application", app), *(("service", name) for name in services), *(("stage", name) for name, _ in pairs)]
    faults = [
        UsageError(f"'{name}': {words}", hint="choose another name")
        for what, name in named
        if (words := name_fault(what, name))
    ]
    for what in ("service", "stage"):
        names = [name for kind, name in named if kind == what]
        faults += [
            UsageError(f"the {what} '{name}' is given twice", hint="give it once")
            for name in sorted({name for name in names if names.count(name) > 1})
        ]
    raise_all(list(faults))


def _jar_text(app: str, services: Sequence[str], pairs: Sequence[tuple[str, str]]) -> str:
    lines = [
        "# Declarations. The values are in plain/: shared.yaml for every stage, and one file per stage.",
        "coinjar: 1",
        f"app: {app}",
        "services:",
    ]
    lines += [f"  {name}: {{}}" for name in services]
    lines += ["stages:"]
    lines += [f"  {name}: {{follows: {followed}}}" if followed else f"  {name}: {{}}" for name, followed in pairs]
    lines += ["variables:"]
    return "\n".join(lines) + "\n"
