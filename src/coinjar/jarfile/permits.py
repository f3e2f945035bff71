"""The permits of the person who runs Coin Jar: which acts each jar may make this machine do.

They are in the person's own configuration folder, never in a jar: a text file of sections, `jar PATH` and below it one
line per act. The path is the real one, so a copy of a jar elsewhere has no permits.
"""

from __future__ import annotations

import os
import shlex
from collections.abc import Callable, Sequence
from pathlib import Path

from coinjar.core.display import visible
from coinjar.core.errors import InputError, Location
from coinjar.core.permits import DIGEST, Act, NotPermitted, digest, ordered
from coinjar.jarfile.locate import config_folder
from coinjar.system.files import display_path, home_path, locked_file, make_folder, replace_file

_SECTION = "jar "
_HEADING = "# What each jar may do on this machine: `coinjar permit` in the jar's folder changes it.\n"


def permits_path() -> Path:
    """Return the path of the file of permits."""
    return config_folder() / "permits"


def _key(folder: Path) -> str:
    return visible(os.path.realpath(folder))


def _sections() -> dict[str, list[str]]:
    """Return the permitted lines by jar. Raises InputError if the file belongs to somebody else."""
    path = permits_path()
    try:
        with path.open("rb") as file:
            owner = os.fstat(file.fileno()).st_uid
            text = file.read().decode(errors="replace")
    except FileNotFoundError:
        return {}
    except OSError as fault:
        raise InputError(
            f"cannot read it: {(fault.strerror or 'unknown error').lower()}",
            hint="check its permissions",
            location=Location(home_path(path)),
            code="unreadable",
        ) from None
    if owner not in (os.geteuid(), 0):
        raise InputError(
            "it belongs to another account, so it permits nothing",
            hint="remove it",
            location=Location(home_path(path)),
            code="not-ours",
        )
    result: dict[str, list[str]] = {}
    lines: list[str] = []
    for line in text.splitlines():
        if line.startswith(_SECTION):
            lines = result.setdefault(line.removeprefix(_SECTION), [])
        elif line and not line.startswith("#"):
            lines.append(line)
    return result


def permitted_lines(folder: Path) -> frozenset[str]:
    """Return the lines of the acts that are permitted for the jar in `folder`."""
    return frozenset(_sections().get(_key(folder), ()))


def permit(folder: Path, acts: Sequence[Act], *, only: bool = False) -> None:
    """Permit acts for the jar in `folder`, besides those before; `only`: instead of them. Raises ExternalError."""
    path = permits_path()
    make_folder(path.parent)
    with locked_file(path.with_name("permits.lock")):
        sections = _sections()
        key = _key(folder)
        before = [] if only else sections.get(key, [])
        sections[key] = list(dict.fromkeys([*before, *(act.line for act in ordered(acts))]))
        text = "".join(
            f"{_SECTION}{name}\n" + "".join(f"{line}\n" for line in lines) for name, lines in sections.items() if lines
        )
        replace_file(path, (_HEADING + text).encode(), mode=0o600)


class PersonalGate:
    """Decides for one jar, by the person's permits, else by the digest in COINJAR_PERMIT, else by asking.

    `declared` returns all that the jar can do; `ask` shows acts to a person and returns the answer (None: nobody can be
    asked). The permits are read when the first act is required, so a jar without acts costs nothing.
    """

    def __init__(
        self, folder: Path, declared: Callable[[], Sequence[Act]], ask: Callable[[Sequence[Act]], bool] | None = None
    ) -> None:
        self.folder = folder
        self.ask = ask
        self._declared = declared
        self._lines: frozenset[str] | None = None
        self._is_asking = False

    def permits(self, act: Act) -> bool:
        """Return whether an act is permitted already; nobody is asked."""
        if self._lines is None:
            self._lines = permitted_lines(self.folder)
        if act.line not in self._lines and (expected := os.environ.get(DIGEST)) and not self._is_asking:
            declared = self._all_declared()
            if digest(declared) == expected:
                self._lines |= {declared_act.line for declared_act in declared}
        return act.line in self._lines

    def require(self, *acts: Act) -> None:
        """Return if all are permitted, or the person permits them now. Raises NotPermitted otherwise."""
        missing = [act for act in acts if not self.permits(act)]
        if not missing:
            return
        assert self._lines is not None, "read by `permits`"
        if self.ask is not None and not self._is_asking:
            new = [act for act in ordered([*self._all_declared(), *missing]) if act.line not in self._lines]
            if self.ask(new):
                permit(self.folder, new)
                self._lines |= {act.line for act in new}
                return
            self.ask = None  # the answer holds for the run
        changed = "COINJAR_PERMIT does not fit: what this jar can do has changed; review `coinjar permit --show`"
        raise NotPermitted(missing, changed if os.environ.get(DIGEST) else self._hint())

    def _hint(self) -> str:
        shown = display_path(self.folder)
        command = "coinjar permit" if shown in ("jar", "../jar") else f"coinjar --jar {shlex.quote(shown)} permit"
        return f"`{command}` shows all that this jar can do here, and asks"

    def _all_declared(self) -> Sequence[Act]:
        """Return all that the jar can do; to find it, nothing is done."""
        self._is_asking = True
        try:
            return self._declared()
        finally:
            self._is_asking = False
