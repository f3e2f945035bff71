"""The descriptions of runners: the jar's own (runners/*.yaml), and the shipped ones."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from coinjar.core.errors import UsageError
from coinjar.core.names import suggestion
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes
from coinjar.runners.description import RunnerDescription
from coinjar.runners.reader import read_runner
from coinjar.system.files import display_path


def known_runners(folder: Path | None) -> list[str]:
    """Return the names of the descriptions: the jar's first."""
    own = [path.stem for path in JarLayout(folder).runner_files()] if folder else []
    shipped = sorted(
        file.name[:-5] for file in (files("coinjar.runners") / "shipped").iterdir() if file.name.endswith(".yaml")
    )
    return list(dict.fromkeys([*own, *shipped]))


def load_runner(folder: Path | None, name: str) -> RunnerDescription:
    """Return a runner's description; the jar's own takes precedence. Raises UsageError, InputError."""
    known = known_runners(folder)
    if name not in known:
        hint = suggestion(
            name,
            known,
            f"the descriptions are {', '.join(known)}; see `coinjar help formats runners`",
        )
        raise UsageError(f"there is no description of a runner '{name}'", hint=hint, code="unknown-runner")
    path = JarLayout(folder).runner(name) if folder else None
    if path and path.exists():
        return read_runner(read_bytes(path), display_path(path), name)
    shipped = files("coinjar.runners") / "shipped" / f"{name}.yaml"
    return read_runner(shipped.read_bytes(), f"(shipped) {name}.yaml", name)
