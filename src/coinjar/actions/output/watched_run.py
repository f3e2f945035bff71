"""Run a program as a child process, and restart it when a value that it gets has changed: for development."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.open_jar import Resolution
from coinjar.actions.output.child_run import AWAITED, ChildRun, end_by, exit_code
from coinjar.core.definition import FromFile
from coinjar.core.errors import CoinJarError
from coinjar.jarfile.layout import JarLayout

_PAUSE = 0.2
"""Seconds between two looks at the files; a change is taken when the files are the same in two looks."""
_GRACE = 10.0
"""Seconds from SIGTERM to SIGKILL."""
_FATAL = frozenset({signal.SIGTERM, signal.SIGINT, signal.SIGHUP, signal.SIGQUIT})


class WatchedValues(NamedTuple):
    """What the program gets: its environment, the secrets to mask (None: none are), and the files that decide it."""

    env: Mapping[str, str]
    secrets: Mapping[str, str] | None
    files: Sequence[Path]


def deciding_files(folder: Path, resolution: Resolution) -> list[Path]:
    """Return the files and folders that decide what a service gets: those of the jar, and values that are files."""
    layout = JarLayout(folder)
    named = [
        folder.resolve().parent / Path(content.path).expanduser()
        for resolved in resolution.values()
        if resolved.definition is not None and isinstance(content := resolved.definition.content, FromFile)
    ]
    return [
        layout.declarations,
        layout.plain("x").parent,
        layout.sealed_folder,
        layout.keys_folder,
        layout.own(resolution.stage),
        *named,
    ]


def _look(paths: Iterable[Path]) -> list[tuple[str, int, int]]:
    """Return each file with its time and size; of a folder, those of its files."""
    found = []
    for path in paths:
        for each in sorted(path.iterdir()) if path.is_dir() else [path]:
            try:
                state = each.stat()
            except OSError:
                continue
            if not each.name.startswith("."):
                found.append((str(each), state.st_mtime_ns, state.st_size))
    return found


def run_watched(
    argv: Sequence[str],
    values: WatchedValues,
    load: Callable[[], WatchedValues],
    told: Callable[[str], None],
    *,
    waits: bool,
) -> int:
    """Run the program until it ends by itself; return its exit code. A signal that ended it ends us as well.

    `load` returns the values anew; while they cannot be computed, the program keeps those before. With `waits`, after
    the program has failed, a change starts it again. Raises ProgramStartError; OSError as `run_masked` does.
    """
    return _Watch(argv, values, load, told, waits=waits).run()


class _Watch:
    def __init__(
        self,
        argv: Sequence[str],
        values: WatchedValues,
        load: Callable[[], WatchedValues],
        told: Callable[[str], None],
        *,
        waits: bool,
    ) -> None:
        self.argv = argv
        self.values = values
        self.load = load
        self.told = told
        self.waits = waits
        self.before: set[signal.Signals | int] = set()
        self.child: ChildRun | None = None
        self.seen: list[tuple[str, int, int]] = []
        self.pending: list[tuple[str, int, int]] | None = None

    def run(self) -> int:
        self.seen = _look(self.values.files)
        self.before = signal.pthread_sigmask(signal.SIG_BLOCK, AWAITED)
        self._start()
        while True:
            message = signal.sigtimedwait(AWAITED, _PAUSE)
            if message is None:
                self._look_again()
            elif message.si_signo != signal.SIGCHLD:
                self._signal(message)
            elif self.child is not None and (status := self.child.ended()) is not None:
                self.child = None
                code = os.waitstatus_to_exitcode(status)
                if code == 0 or not self.waits:
                    return exit_code(status)
                self.told(f"it ended with {code}; a change of its values starts it again")

    def _start(self) -> None:
        self.child = ChildRun(self.argv, self.values.env, self.values.secrets, self.before)

    def _signal(self, message: signal.struct_siginfo) -> None:
        if self.child is not None:
            self.child.pass_on(message)
        elif message.si_signo in _FATAL:
            end_by(message.si_signo)

    def _look_again(self) -> None:
        now = _look(self.values.files)
        if now == self.seen:
            self.pending = None
            return
        if now != self.pending:  # still being written, perhaps
            self.pending = now
            return
        self.seen, self.pending = now, None
        try:
            values = self.load()
        except CoinJarError as fault:
            self.told(f"the values before stay: {fault.each()[0]}")
            return
        old, new = self.values.env, values.env
        changed = [name for name in {**old, **new} if old.get(name) != new.get(name)]
        self.values = values
        self.seen = _look(values.files)
        if changed:
            self.told(f"{', '.join(changed)} changed: {'restarting' if self.child else 'starting'}")
            self._restart()

    def _restart(self) -> None:
        fatal = self._stop(self.child) if self.child is not None else None
        self.child = None
        if fatal is not None:
            end_by(fatal)
        self._start()

    def _stop(self, child: ChildRun) -> int | None:
        """End the child; return a signal that would have ended us meanwhile."""
        os.kill(child.pid, signal.SIGTERM)
        end, fatal = time.monotonic() + _GRACE, None
        while child.ended() is None:
            message = signal.sigtimedwait(AWAITED, max(end - time.monotonic(), 0.01))
            if message is None and time.monotonic() >= end:
                os.kill(child.pid, signal.SIGKILL)
                end += _GRACE
            elif message is not None and message.si_signo != signal.SIGCHLD:
                fatal = message.si_signo if message.si_signo in _FATAL else fatal
                child.pass_on(message)
        return fatal
