"""The consents of the person who runs Coin Jar: which acts each jar may make this machine do.

They are in the person's own configuration folder, never in a jar: a text file of sections, `jar PATH` and below it one
line per act. The path is the real one, so a copy of a jar elsewhere has none.
"""

from __future__ import annotations

import os
import shlex
from collections.abc import Callable, Sequence
from pathlib import Path

from coinjar.core.consent import DIGEST, Act, ConsentMissing, digest, ordered
from coinjar.core.display import visible
from coinjar.core.errors import InputError, Location
from coinjar.jarfile.locate import config_folder
from coinjar.system.files import display_path, home_path, locked_file, make_folder, replace_file

_SECTION = "jar "
_HEADING = "# What each jar may do on this machine: `coinjar consent` in the jar's folder changes it.\n"


def consents_path() -> Path:
    """Return the path of the file of consents."""
    return config_folder() / "consents"


def _key(folder: Path) -> str:
    return visible(os.path.realpath(folder))


def _sections() -> dict[str, list[str]]:
    """Return the lines that have consent by jar. Raises InputError if the file belongs to somebody else."""
    path = consents_path()
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
            "it belongs to another account, so it counts for nothing",
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


def consented_lines(folder: Path) -> frozenset[str]:
    """Return the lines of the acts that have consent for the jar in `folder`."""
    return frozenset(_sections().get(_key(folder), ()))


def consent_to(folder: Path, acts: Sequence[Act], *, only: bool = False) -> None:
    """Consent to acts of the jar in `folder`, besides those before; `only`: instead of them. Raises ExternalError."""
    path = consents_path()
    make_folder(path.parent)
    with locked_file(path.with_name("consents.lock")):
        sections = _sections()
        key = _key(folder)
        before = [] if only else sections.get(key, [])
        sections[key] = list(dict.fromkeys([*before, *(act.line for act in ordered(acts))]))
        text = "".join(
            f"{_SECTION}{name}\n" + "".join(f"{line}\n" for line in lines) for name, lines in sections.items() if lines
        )
        replace_file(path, (_HEADING + text).encode(), mode=0o600)


class PersonalGate:
    """Decides for one jar, by the person's consents, else by the digest in COINJAR_CONSENT, else by asking.

    `declared` returns all that the jar can do; `ask` shows acts to a person and returns the answer (None: nobody can be
    asked). The consents are read when the first act is required, so a jar without acts costs nothing.
    """

    def __init__(
        self, folder: Path, declared: Callable[[], Sequence[Act]], ask: Callable[[Sequence[Act]], bool] | None = None
    ) -> None:
        self.folder = folder
        self.ask = ask
        self._declared = declared
        self._lines: frozenset[str] | None = None
        self._is_asking = False

    def has_consent(self, act: Act) -> bool:
        """Return whether an act has consent already; nobody is asked."""
        if self._lines is None:
            self._lines = consented_lines(self.folder)
        if act.line not in self._lines and (expected := os.environ.get(DIGEST)) and not self._is_asking:
            declared = self._all_declared()
            if digest(declared) in expected.split(","):  # of several jars, one for each
                self._lines |= {declared_act.line for declared_act in declared}
        return act.line in self._lines

    def record(self, *acts: Act) -> None:
        """Store consent to what the person has decided in another way. Raises ExternalError."""
        if missing := [act for act in acts if not self.has_consent(act)]:
            consent_to(self.folder, missing)
            self._lines = frozenset({*(self._lines or ()), *(act.line for act in missing)})

    def require(self, *acts: Act) -> None:
        """Return if all have consent, or the person consents now. Raises ConsentMissing otherwise."""
        missing = [act for act in acts if not self.has_consent(act)]
        if not missing:
            return
        assert self._lines is not None, "read by `has_consent`"
        if self.ask is not None and not self._is_asking:
            new = [act for act in ordered([*self._all_declared(), *missing]) if act.line not in self._lines]
            if self.ask(new):
                consent_to(self.folder, new)
                self._lines |= {act.line for act in new}
                return
            self.ask = None  # the answer holds for the run
        changed = "COINJAR_CONSENT does not fit: what this jar can do has changed; review `coinjar consent --show`"
        raise ConsentMissing(missing, changed if os.environ.get(DIGEST) else self._hint())

    def _hint(self) -> str:
        shown = display_path(self.folder)
        command = "coinjar consent" if shown in ("jar", "../jar") else f"coinjar --jar {shlex.quote(shown)} consent"
        return f"`{command}` shows all that this jar can do here, and asks"

    def _all_declared(self) -> Sequence[Act]:
        """Return all that the jar can do; to find it, nothing is done."""
        self._is_asking = True
        try:
            return self._declared()
        finally:
            self._is_asking = False
