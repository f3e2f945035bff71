"""Replace this process by a program with a service's variables in its environment."""

from __future__ import annotations

import contextlib
import errno
import os
import signal
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import NoReturn, TypeVar

from coinjar.actions.open_jar import Resolution
from coinjar.core.errors import CoinJarError, InputError, raise_all
from coinjar.core.names import OWN_PREFIX
from coinjar.core.value_text import not_for_environments
from coinjar.system import process_secrets

_Started = TypeVar("_Started")

BARE = ("PATH", "HOME", "USER", "LOGNAME", "SHELL", "TERM", "TZ", "TMPDIR", "LANG", "LC_ALL")
"""What `--bare` keeps of the caller's environment."""
_SET_BY_PYTHON = tuple(getattr(signal, name) for name in ("SIGPIPE", "SIGXFSZ", "SIGXFZ") if hasattr(signal, name))


class ProgramStartError(CoinJarError):
    """The program cannot be started: exit code 127 if it does not exist, 126 if it cannot be executed, as shells do."""

    def __init__(self, message: str, hint: str, exit_code: int) -> None:
        super().__init__(message, hint=hint, code="cannot-start")
        self.exit_code = exit_code


def environment(resolution: Resolution, inherited: Mapping[str, str], *, bare: bool) -> dict[str, str]:
    """Return the environment of the program: the inherited one without Coin Jar's own variables, and the service's
    variables over it.

    Raises InputError for every value that no environment can carry.
    """
    faults: list[CoinJarError] = []
    for name, resolved in resolution.items():
        if resolved.text is not None and (why := not_for_environments(resolved.text)):
            location = resolved.definition.location if resolved.definition else None
            faults.append(
                InputError(
                    f"no environment can carry {name}: {why}",
                    hint="change the value",
                    location=location,
                    code="cannot-carry",
                )
            )
    raise_all(faults)
    kept = {
        name: text for name, text in inherited.items() if not name.startswith(OWN_PREFIX) and (not bare or name in BARE)
    }
    for name in resolution.unset():
        kept.pop(name, None)
    return kept | resolution.environment()


def exec_program(argv: Sequence[str], env: Mapping[str, str]) -> NoReturn:
    """Replace this process by the program, found on the PATH that it gets.

    Raises ProgramStartError; otherwise does not return.
    """
    for number, action in signals_at_start().items():
        signal.signal(number, action)
    process_secrets.restore_core_limit()
    # Becoming the program is the task.
    start_first(argv, env, lambda path: os.execve(path, list(argv), env))  # noqa: S606
    raise AssertionError("execve does not return")


def start_first(argv: Sequence[str], env: Mapping[str, str], start: Callable[[str], _Started]) -> _Started:
    """Execute the first match on the PATH of `env`. Raises ProgramStartError."""
    program = argv[0]
    candidates = (
        [program]
        if "/" in program
        else [f"{folder or '.'}/{program}" for folder in env.get("PATH", os.defpath).split(":")]
    )
    worst: OSError | None = None
    for path in candidates if program else []:
        try:
            return start(path)
        except OSError as fault:
            if fault.errno not in (errno.ENOENT, errno.ENOTDIR):
                worst = worst or fault
    if worst is None:
        where = "there is no such file" if "/" in program else "it is not on the PATH that it gets"
        raise ProgramStartError(f"cannot start {program!r}: {where}", "check its name, and PATH (with --bare too)", 127)
    hint = "check its permissions, and the first line of a script"
    if worst.errno == errno.E2BIG:
        hint = "the kernel accepts 128 KiB for one variable and about 2 MiB for all: pass a large value in a file"
    raise ProgramStartError(f"cannot start {program!r}: {(worst.strerror or 'unknown error').lower()}", hint, 126)


def signals_at_start() -> dict[int, signal.Handlers]:
    """Return a function that undoes what Python did to signals before any of our code ran.

    Python ignores SIGPIPE and SIGXFSZ, and the kernel keeps no record of the previous state. So they are reset
    to the default, unless our caller (not itself a Python program) ignores them: then they were ignored at our start.
    """
    ignored = _ignored_by_caller()
    return {number: signal.SIG_IGN if ignored >> (number - 1) & 1 else signal.SIG_DFL for number in _SET_BY_PYTHON}


def _ignored_by_caller() -> int:
    """Return the caller's ignored signals as a bit mask; 0 if unknown."""
    parent = Path("/proc") / str(os.getppid())
    with contextlib.suppress(OSError, ValueError, StopIteration):
        if "python" not in (parent / "exe").readlink().name:
            status = (parent / "status").read_text().splitlines()
            return int(next(line for line in status if line.startswith("SigIgn:")).split()[1], 16)
    return 0
