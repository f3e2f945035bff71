"""Run a program as a child process and mask every secret in its output: for logs that others read."""

from __future__ import annotations

import signal
from collections.abc import Mapping, Sequence

from coinjar.actions.open_jar import Resolution
from coinjar.actions.output.child_run import AWAITED, ChildRun, exit_code
from coinjar.core.masking import SHORTEST
from coinjar.core.secret import reveal


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
    before = signal.pthread_sigmask(signal.SIG_BLOCK, AWAITED)
    child = ChildRun(argv, env, secrets, before)
    while True:
        message = signal.sigwaitinfo(AWAITED)
        if message.si_signo != signal.SIGCHLD:
            child.pass_on(message)
        elif (status := child.ended()) is not None:
            return exit_code(status)
