"""`within --watch`: the program is restarted when a value that it gets has changed, and only then."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from queue import Queue
from typing import IO

import pytest

from tests.conftest import PROGRAM, Coinjar, on_a_terminal
from tests.consenting import consent_to_all

JAR = (
    "services: {web: {}, mailer: {}}\nstages: {dev: {}, prod: {}}\nvariables:\n  HOST: {default: first}\n"
    "  LEVEL: {kind: choice, choices: [low, high], default: low}\n  SENDER: {services: [mailer]}\n"
    "  TOKEN: {secret: true, services: [web]}\n  LICENCE: {services: [web]}\n"
)
SERVICE = (
    "trap 'echo asked to end; exit 0' TERM; trap 'echo signalled' USR1\n"
    'echo "started with $HOST $LEVEL $LICENCE $TOKEN"\nwhile :; do sleep 0.05; done\n'
)
_PATIENCE = 60


class Watched:
    """A watched program, and the lines that it and Coin Jar print."""

    def __init__(self, cj: Coinjar, *options: str, service: str = SERVICE) -> None:
        consent_to_all(cj.folder, (), cj.env)
        argv = [PROGRAM, "within", "dev", "--service", "web", "--watch", *options, "--", "sh", "-c", service]
        self.process = subprocess.Popen(
            argv,
            cwd=cj.folder,
            env=cj.env,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            start_new_session=True,
        )
        self.lines: Queue[str] = Queue()
        assert self.process.stdout
        assert self.process.stderr
        self.readers = [
            threading.Thread(target=self._read, args=(stream,), daemon=True)
            for stream in (self.process.stdout, self.process.stderr)
        ]
        for reader in self.readers:
            reader.start()

    def _read(self, stream: IO[str]) -> None:
        for line in stream:
            self.lines.put(line.rstrip("\n"))

    def sees(self, *wanted: str) -> None:
        """Wait for these lines, in any order; nothing else may come."""
        left = list(wanted)
        while left:
            line = self.lines.get(timeout=_PATIENCE)
            assert line in left, (line, left)
            left.remove(line)

    def ends(self) -> int:
        return self.process.wait(_PATIENCE)


@pytest.fixture
def service(jar: Callable[..., Coinjar]) -> Iterator[Callable[..., Watched]]:
    started: list[Watched] = []
    cj = jar(JAR, dev="web:\n  LICENCE: {file: licence}\n")
    cj.write({"licence": "L1"})
    cj("put", "TOKEN", "--stage", "dev", stdin="made-up-token-1")

    def start(*options: str, service: str = SERVICE) -> Watched:
        started.append(Watched(cj, *options, service=service))
        return started[-1]

    yield start
    for watched in started:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(watched.process.pid, signal.SIGKILL)  # what it started, too
        watched.process.wait()
        for reader in watched.readers:  # to the end: a stream is not closed under its reader
            reader.join(_PATIENCE)
        for stream in (watched.process.stdout, watched.process.stderr):
            assert stream
            stream.close()


def test_a_change_restarts_it_and_is_named(service: Callable[..., Watched], cj: Coinjar) -> None:
    watched = service()
    watched.sees("started with first low L1 made-up-token-1")
    cj("put", "HOST=second", "--stage", "dev", "--service", "web")
    watched.sees("coinjar: HOST changed: restarting", "asked to end", "started with second low L1 made-up-token-1")
    cj("put", "SENDER=x", "--stage", "dev")  # for the other service
    cj("put", "HOST=third", "--stage", "prod")  # on another stage
    cj("put", "HOST=second", "--stage", "shared")  # nothing that it sees
    cj("declare", "HOST", "--about", "x")
    (cj.folder / "licence").write_text("L2")
    watched.sees("coinjar: LICENCE changed: restarting", "asked to end", "started with second low L2 made-up-token-1")
    cj("put", "TOKEN", "--stage", "dev", stdin="made-up-token-2")
    watched.sees("coinjar: TOKEN changed: restarting", "asked to end", "started with second low L2 made-up-token-2")
    watched.process.send_signal(signal.SIGUSR1)
    watched.sees("signalled")
    watched.process.terminate()
    watched.sees("asked to end")
    assert watched.ends() == 0


def test_a_fault_changes_nothing_until_it_is_repaired(service: Callable[..., Watched], cj: Coinjar) -> None:
    watched = service()
    watched.sees("started with first low L1 made-up-token-1")
    before = cj.read("jar/jar.yaml")
    cj.write({"jar/jar.yaml": before.replace("default: first", "default: [")})
    line = watched.lines.get(timeout=_PATIENCE)
    assert line.startswith("coinjar: the values before stay: jar/jar.yaml:")
    cj.write({"jar/jar.yaml": before.replace("default: first", "default: other")})
    watched.sees("coinjar: HOST changed: restarting", "asked to end", "started with other low L1 made-up-token-1")


def test_secrets_stay_masked(service: Callable[..., Watched], cj: Coinjar) -> None:
    watched = service("--mask")
    watched.sees("started with first low L1 [TOKEN ••••]")
    cj("put", "TOKEN", "--stage", "dev", stdin="made-up-token-2")
    watched.sees("coinjar: TOKEN changed: restarting", "asked to end", "started with first low L1 [TOKEN ••••]")


def test_its_end_is_the_end(service: Callable[..., Watched]) -> None:
    assert service(service="exit 7").ends() == 7
    assert service(service="kill -9 $$").ends() == -signal.SIGKILL
    assert service(service="exec nowhere-at-all").ends() == 127


def test_a_program_that_does_not_end_is_killed(service: Callable[..., Watched], cj: Coinjar, tmp_path: Path) -> None:
    """After ten seconds; then the new one runs."""
    stubborn = f"trap '' TERM; echo $$ > {tmp_path}/pid; echo \"started with $HOST\"; while :; do sleep 0.05; done"
    watched = service(service=stubborn)
    watched.sees("started with first")
    first = int((tmp_path / "pid").read_text())
    cj("put", "HOST=second", "--stage", "dev")
    watched.sees("coinjar: HOST changed: restarting", "started with second")
    assert not Path(f"/proc/{first}").exists()


def test_on_a_terminal_a_failure_waits_for_a_change(service: Callable[..., Watched], cj: Coinjar) -> None:
    """A wrong value is corrected while it waits, and the program starts again."""
    del service  # made the jar
    script = "[ $LEVEL = high ] || { echo too low; exit 3; }; echo runs; exit 0"

    def correct() -> None:
        time.sleep(1)
        cj("put", "LEVEL=high", "--stage", "dev", process=True)

    worker = threading.Thread(target=correct)
    worker.start()
    shown = on_a_terminal(cj, "within", "dev", "--service", "web", "--watch", "--", "sh", "-c", script)
    worker.join()
    assert "too low" in shown
    assert "it ended with 3; a change of its values starts it again" in shown
    assert "LEVEL changed: starting" in shown
    assert "runs" in shown
    assert os.environ.get("LEVEL") is None


def test_a_script_can_keep_what_is_set(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR.replace("variables:", "variables:\n  GONE: {}"), dev='all: {GONE: {unset: true}, HOST: "a\'b\\nc"}\n')
    cj("put", "TOKEN", "--stage", "dev", stdin="made-up-token-1")
    script = cj("render", "dev", "--service", "mailer", "--as", "exec-script", "--keep-set").out
    (cj.folder / "start").write_text(script)

    def run(env: dict[str, str]) -> list[str]:
        argv = ["sh", "./start", "sh", "-c", 'echo "$HOST|$LEVEL|${GONE-none}"']
        return subprocess.check_output(argv, cwd=cj.folder, env=env, text=True).strip().split("|")

    assert run({}) == ["a'b\nc", "low", "none"]
    assert run({"HOST": "mine", "GONE": "kept"}) == ["mine", "low", "kept"]
    assert run({"HOST": "", "LEVEL": "x"}) == ["", "x", "none"]
    assert (
        "--keep-set requires --as exec-script"
        in cj("render", "dev", "--service", "web", "--as", "posix", "--keep-set", code=2).err
    )
    assert "require --as" in cj("render", "dev", "--keep-set", code=2).err
    destination = (
        "destinations:\n  start: {type: file, as: exec-script, keep_set: true, path: 'out/{service}', stages: [dev]}\n"
    )
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml") + destination})
    shown = cj("render", "dev", "--dry-run")
    assert "made-up" not in shown.out + shown.err
    cj("render", "dev")
    assert "if [ -z" in cj.read("out/web")
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("as: exec-script", "as: posix")})
    assert "'keep_set' requires as: exec-script" in cj("render", "dev", code=3).err
