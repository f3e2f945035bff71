"""Run as a program: deliver, be killed at the n-th step, deliver again; a line of JSON for each n, then wait for a
line.

A step is anything that leaves a trace elsewhere: a request, a transaction of the records, a write or a command on a
host. With arguments it does what they say instead, and a file that is replaced is a step, too. Each run is a fork of
this process, which has imported all it needs, so that a hundred of them are quick.
"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import sys
from collections.abc import Callable, Sequence
from typing import Any

import asyncssh

from coinjar.cli.main import main
from coinjar.destinations.live.http import HttpClient
from coinjar.records.store import RecordStore


class Steps:
    """Counts steps, and dies at one of them."""

    def __init__(self, fatal: int) -> None:
        self.left = fatal

    def step(self) -> None:
        self.left -= 1
        if self.left == 0:
            os.kill(os.getpid(), signal.SIGKILL)

    def around(self, owner: Any, name: str) -> None:
        """Make what a method has done a step: before it is the same as after the one before."""
        real = getattr(owner, name)

        async def counted(*given: Any, **named: Any) -> Any:
            result = await real(*given, **named)
            self.step()
            return result

        setattr(owner, name, counted)

    def files(self) -> None:
        """Make every file that is replaced a step."""
        real = os.rename

        def counted(*given: Any, **named: Any) -> None:
            real(*given, **named)
            self.step()

        os.rename = counted

    def transactions(self) -> None:
        real = RecordStore.connected

        @contextlib.contextmanager
        def counted(records: RecordStore) -> Any:
            with real(records) as connection:
                yield connection
            self.step()

        RecordStore.connected = counted  # type: ignore[method-assign, assignment]  # counted, and otherwise the same


def forked(work: Callable[[], int]) -> int:
    """The exit code of some work in a process of its own; negative for a signal."""
    pid = os.fork()
    if pid == 0:
        silent = os.open(os.devnull, os.O_WRONLY)
        os.dup2(silent, 1)
        os._exit(work())
    return os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])


def run(*arguments: str) -> int:
    return forked(lambda: main(list(arguments)))


def killed(fatal: int, arguments: Sequence[str], *, files: bool = False) -> int:
    def work() -> int:
        steps = Steps(fatal)
        if files:
            steps.files()
        steps.transactions()
        steps.around(HttpClient, "_once")
        for name in ("posix_rename", "chmod", "remove"):
            steps.around(asyncssh.SFTPClient, name)
        steps.around(asyncssh.SSHClientConnection, "run")
        return main(list(arguments))

    return forked(work)


if __name__ == "__main__":
    first, stride = (
        int(word) for word in os.environ.get("KILLED_AT", "1 1").split()
    )  # several of these share the steps
    number = first - stride
    code = -signal.SIGKILL
    while code == -signal.SIGKILL:
        number += stride
        if asked := sys.argv[1:]:
            code = killed(number, asked, files=True)
            told = {"number": number, "code": code, "again": run(*asked)}
        else:
            run("put", f"LEVEL=v{number}", "--stage", "dev")
            code = killed(number, ["deliver", "dev", "--restart"])
            told = {
                "number": number,
                "code": code,
                "again": run("deliver", "dev", "--restart"),
                "drift": run("drift", "dev"),
            }
        sys.stdout.write(json.dumps(told) + "\n")
        sys.stdout.flush()
        sys.stdin.readline()
