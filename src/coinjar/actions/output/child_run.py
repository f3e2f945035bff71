"""A program that runs as a child process: signals are passed on, secrets in its output are masked if asked for."""

from __future__ import annotations

import os
import resource
import signal
import threading
from collections.abc import Mapping, Sequence

from coinjar.actions.output.exec_program import signals_at_start, start_first
from coinjar.core.stream_masking import StreamMasker
from coinjar.system import process_secrets

_PIECE = 1 << 16
PASSED_ON = (
    signal.SIGTERM,
    signal.SIGINT,
    signal.SIGHUP,
    signal.SIGQUIT,
    signal.SIGUSR1,
    signal.SIGUSR2,
    signal.SIGWINCH,
    signal.SIGCONT,
    signal.SIGALRM,
)
AWAITED = frozenset({*PASSED_ON, signal.SIGCHLD})
"""The signals that are waited for while a child runs; block them before it is started."""
_FROM_KERNEL = 0x80
"""si_code of a signal from the terminal (sigaction(2), SI_KERNEL): the whole group received it, the child included."""


class ChildRun:
    """A child process; `secrets`, with their names, are masked in its output (None: its output is ours).

    `before` is the signal mask that it starts with. Raises ProgramStartError.
    """

    def __init__(
        self,
        argv: Sequence[str],
        env: Mapping[str, str],
        secrets: Mapping[str, str] | None,
        before: set[signal.Signals | int],
    ) -> None:
        pipes = [(number, *os.pipe()) for number in (1, 2)] if secrets is not None else []
        actions = [(os.POSIX_SPAWN_DUP2, writing, number) for number, _, writing in pipes]
        restored = [number for number, action in signals_at_start().items() if action is signal.SIG_DFL]
        process_secrets.restore_core_limit()
        try:
            self.pid = start_first(
                argv,
                env,
                lambda path: os.posix_spawn(
                    path, list(argv), env, file_actions=actions, setsigmask=before, setsigdef=restored
                ),
            )
        finally:
            process_secrets.write_no_core_file()
            for _, _, writing in pipes:
                os.close(writing)
        self._failures: list[OSError] = []
        self._pumps = [
            threading.Thread(
                target=_pump, args=(reading, number, StreamMasker(secrets or {}), self._failures), daemon=True
            )
            for number, reading, _ in pipes
        ]
        for pump in self._pumps:
            pump.start()

    def ended(self) -> int | None:
        """Return the wait status if the child has ended; wait for the end of its output.

        Raises OSError if the output could not be written.
        """
        pid, status = os.waitpid(self.pid, os.WNOHANG)
        if not pid:
            return None
        for pump in self._pumps:
            pump.join()
        if self._failures:
            raise self._failures[0]
        return status

    def pass_on(self, message: signal.struct_siginfo) -> None:
        """Pass a signal on, unless the child has received it itself."""
        if message.si_code != _FROM_KERNEL:
            os.kill(self.pid, message.si_signo)


def _pump(reading: int, to: int, masker: StreamMasker, failures: list[OSError]) -> None:
    """Write the output on. When its reader is gone or its disk is full, stop reading too; the program learns of it by
    its next write. A full disk is added to `failures`.
    """
    try:
        while piece := os.read(reading, _PIECE):
            _write_all(to, masker.feed(piece))
        _write_all(to, masker.rest())
    except BrokenPipeError:
        pass
    except OSError as fault:
        failures.append(fault)
    finally:
        os.close(reading)


def _write_all(to: int, data: bytes) -> None:
    while data:
        data = data[os.write(to, data) :]


def exit_code(status: int) -> int:
    """Return the exit code of a wait status; after a signal, end by it as the program did."""
    if os.WIFSIGNALED(status):
        end_by(os.WTERMSIG(status))
    return os.waitstatus_to_exitcode(status)


def end_by(number: int) -> None:
    """End by a signal, without a core file of our own."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, resource.getrlimit(resource.RLIMIT_CORE)[1]))
    if number not in (signal.SIGKILL, signal.SIGSTOP):
        signal.signal(number, signal.SIG_DFL)
    signal.pthread_sigmask(signal.SIG_UNBLOCK, {number})
    os.kill(os.getpid(), number)
