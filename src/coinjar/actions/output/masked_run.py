"""Run a program as a child process and mask every secret in its output: for logs that others read."""

from __future__ import annotations

import os
import resource
import signal
import threading
from collections.abc import Mapping, Sequence

from coinjar.actions.open_jar import Resolution
from coinjar.actions.output.exec_program import signals_at_start, start_first
from coinjar.core.masking import SHORTEST
from coinjar.core.secret import reveal
from coinjar.core.stream_masking import StreamMasker
from coinjar.system import process_secrets

_PIECE = 1 << 16
_PASSED_ON = (
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
_FROM_KERNEL = 0x80
"""si_code of a signal from the terminal (sigaction(2), SI_KERNEL): the whole group received it, the child included."""


def secrets_of(resolution: Resolution) -> dict[str, str]:
    """Return every secret that the program gets, with its name."""
    return {reveal(resolved.text): name for name, resolved in resolution.items() if resolved.secret and resolved.text}


def too_short(resolution: Resolution) -> list[str]:
    """Return the names of secrets that are too short to be masked."""
    return [
        name
        for name, resolved in resolution.items()
        if resolved.secret and resolved.text and len(resolved.text) < SHORTEST
    ]


def run_masked(argv: Sequence[str], env: Mapping[str, str], secrets: Mapping[str, str]) -> int:
    """Run the program and wait for it and for the end of its output.

    Returns its exit code; a signal that ended it ends us as well.

    Signals that we receive are passed on. Raises ProgramStartError; OSError if the output could not be written.
    """
    awaited = {*_PASSED_ON, signal.SIGCHLD}
    before = signal.pthread_sigmask(signal.SIG_BLOCK, awaited)
    pipes = [(number, *os.pipe()) for number in (1, 2)]
    actions = [(os.POSIX_SPAWN_DUP2, writing, number) for number, _, writing in pipes]
    restored = [number for number, action in signals_at_start().items() if action is signal.SIG_DFL]
    process_secrets.restore_core_limit()
    try:
        child = start_first(
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
    failures: list[OSError] = []
    pumps = [
        threading.Thread(target=_pump, args=(reading, number, StreamMasker(secrets), failures), daemon=True)
        for number, reading, _ in pipes
    ]
    for pump in pumps:
        pump.start()
    status = _wait(child, awaited)
    for pump in pumps:
        pump.join()
    if failures:
        raise failures[0]
    if os.WIFSIGNALED(status):
        _end_by(os.WTERMSIG(status))
    return os.waitstatus_to_exitcode(status)


def _wait(child: int, awaited: set[signal.Signals]) -> int:
    while True:
        message = signal.sigwaitinfo(awaited)
        if message.si_signo == signal.SIGCHLD:
            pid, status = os.waitpid(child, os.WNOHANG)
            if pid:
                return status
        elif message.si_code != _FROM_KERNEL:
            os.kill(child, message.si_signo)


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


def _end_by(number: int) -> None:
    """End as the program did, without a core file of our own."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, resource.getrlimit(resource.RLIMIT_CORE)[1]))
    if number not in (signal.SIGKILL, signal.SIGSTOP):
        signal.signal(number, signal.SIG_DFL)
    signal.pthread_sigmask(signal.SIG_UNBLOCK, {number})
    os.kill(os.getpid(), number)
