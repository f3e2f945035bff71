"""The program run inside the test's own process: the same `main`, without the start of a Python for each command.

What a process adds is tested with processes: signals, exec, terminals, locks between several of them.
"""

from __future__ import annotations

import gc
import io
import os
import sys
import warnings
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from coinjar.cli import tables
from coinjar.core import patterns
from coinjar.system import process_secrets

OF_ITS_OWN = frozenset({"within", "edit", "standins", "demo"})
"""Commands that become another program, start one, or serve until they are stopped."""


class _Output(io.TextIOWrapper):
    """A stream that is no terminal, and keeps its bytes when it is closed."""

    def __init__(self, encoding: str) -> None:
        self.kept = io.BytesIO()
        super().__init__(self.kept, encoding=encoding, errors="backslashreplace", write_through=True)

    def close(self) -> None:
        """The program may close stderr; the test reads it all the same."""


def can_run(arguments: Sequence[str], env: Mapping[str, str]) -> bool:
    """Whether a run needs no process of its own: its command, and what the interpreter itself reads of
    its environment.
    """
    return (
        not OF_ITS_OWN & set(arguments)
        and not {"PYTHONIOENCODING", "PYTHONPATH"} & set(env)
        and env.get("LANG") == "C.UTF-8"
        and "--show-completion" not in arguments
    )


def run(
    arguments: Sequence[str], folder: Path, env: Mapping[str, str], given: bytes, *, asks: bool = True
) -> tuple[int, bytes, bytes]:
    """Exit code, output and errors of `coinjar ARGUMENTS` in a folder and an environment.

    `asks`: what the jar does requires the consents in the environment's configuration folder, as for everybody.
    """
    from coinjar.cli.main import main

    with _as_if(folder, env, given) as (out, err), _consents(asks=asks):
        try:
            code = main(arguments)
        except SystemExit as ended:
            code = ended.code if isinstance(ended.code, int) else 0
        out.flush()
        err.flush()
        return code, out.kept.getvalue(), err.kept.getvalue()


@contextmanager
def _consents(*, asks: bool) -> Iterator[None]:
    """Let everything pass, unless `asks`: reading a jar before each command to consent to it takes as long as it."""
    if asks:
        yield
        return
    from coinjar.jarfile import consents
    from tests.consenting import Everything

    real = consents.PersonalGate
    consents.PersonalGate = Everything  # type: ignore[assignment, misc]
    try:
        yield
    finally:
        consents.PersonalGate = real  # type: ignore[misc]


@contextmanager
def _as_if(folder: Path, env: Mapping[str, str], given: bytes) -> Iterator[tuple[_Output, _Output]]:
    before = dict(os.environ), Path.cwd(), sys.stdin, sys.stdout, sys.stderr, gc.isenabled()
    width = tables.terminal_width
    if env.get(
        "COLUMNS", ""
    ).isdigit():  # laid out as on a terminal of this width; what is no terminal is tried with processes
        tables.terminal_width = lambda: int(env["COLUMNS"])
    out, err = _Output("utf-8"), _Output("utf-8")
    os.environ.clear()
    os.environ.update(env)
    os.chdir(folder)
    sys.stdin, sys.stdout, sys.stderr = (
        io.TextIOWrapper(io.BytesIO(given), encoding="utf-8", errors="surrogateescape"),
        out,
        err,
    )
    tables.colours.cache_clear()
    process_secrets.forget()
    patterns._slow.clear()  # a process of its own would not know them either
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            yield out, err
    finally:
        process_secrets.forget()
        environment, cwd, sys.stdin, sys.stdout, sys.stderr, collects = before
        os.environ.clear()
        os.environ.update(environment)
        os.chdir(cwd)
        tables.colours.cache_clear()
        tables.terminal_width = width
        if collects:
            gc.enable()
