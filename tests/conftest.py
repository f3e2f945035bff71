"""The installed program, run on files in a temporary folder; and jars to run it on."""

from __future__ import annotations

import os
import pty
import re
import select
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import NamedTuple

import pytest
from hypothesis import settings

from coinjar.core.secret import reveal
from coinjar.crypto.age import new_identity
from tests import consumers, inprocess
from tests.consenting import consent_to_all

# The same examples at every run, so that a red build means a change of ours; COINJAR_EXPLORE=1 looks for new ones.
settings.register_profile("steady", derandomize=True, deadline=None)
settings.register_profile("explore", deadline=None)
settings.load_profile("explore" if os.environ.get("COINJAR_EXPLORE") else "steady")

IDENTITY, RECIPIENT = new_identity()
"""Whoever runs the program in a test, unless the test says otherwise."""
PROGRAM = str(Path(sys.executable).parent / "coinjar")
DEMO = Path(__file__).parent.parent / "src" / "coinjar" / "demo" / "app"


SECRETS = """\
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {}}
variables:
  TOKEN: {secret: true}
  OTHER: {secret: true}
  LOGIN: {secret: true, services: [mailer]}
"""
"""A jar of three secrets, one of them for one service."""

SEALED = """\
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {}, prod-isles: {follows: prod}}
variables:
  TOKEN: {secret: true}
  LOGIN: {secret: true, services: [mailer], generate: {length: 24}}
  BOTH: {secret: true, services: [web, mailer]}
  LEVEL: {default: info}
  URL: {default: {text: "x://${TOKEN@url}/"}, services: [web]}
"""
"""A jar of three secrets, for all services, for one, and for two of them."""

SMALL = """\
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {}, prod-isles: {follows: prod}, trial-*: {follows: dev}}
variables:
  PORT: {kind: port, default: 8080}
  LEVEL: {default: info}
  TOKEN: {secret: true, services: [web]}
  HOST: {stages: [prod], required: true}
"""
"""A jar to try things on: two services, three stages and a pattern, a port, a secret, a name for one stage."""


class Done(NamedTuple):
    """What a run gave."""

    code: int
    out: str
    err: str


class Coinjar:
    """Runs `coinjar` in one folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.needs_consents = True
        """Whether consents are written for what the jar can do, since other processes need them; else all passes."""
        self.env = {
            "PATH": f"{Path(PROGRAM).parent}:/usr/bin:/bin",
            "HOME": str(folder),
            "COLUMNS": "100",
            "LANG": "C.UTF-8",
            "PYTHONUTF8": "1",
            "COINJAR_TRACEBACK": "1",
        }
        self.env["COINJAR_IDENTITY"] = reveal(IDENTITY)

    def __call__(
        self,
        *arguments: str,
        code: int | None = 0,
        stdin: str | bytes = b"",
        env: dict[str, str] | None = None,
        process: bool = False,
        consented: bool = True,
    ) -> Done:
        """Run it; fails unless it ends with `code` (None: whatever). Never a traceback.

        In this process, which gives the same answer sooner, unless the command needs one of its own or `process` asks
        for it. Whoever runs it has consented to what the jar can do, unless `consented` is false.
        """
        given = stdin.encode() if isinstance(stdin, str) else stdin
        around = self.env | (env or {})
        alone = process or not inprocess.can_run(arguments, around)
        if consented and (alone or self.needs_consents or "consent" in arguments):
            consent_to_all(self.folder, arguments, around)
        if alone:
            done = subprocess.run(
                [PROGRAM, *arguments], cwd=self.folder, env=around, input=given, capture_output=True, check=False
            )
            ended, raw_out, raw_err = done.returncode, done.stdout, done.stderr
        else:
            ended, raw_out, raw_err = inprocess.run(
                arguments, self.folder, around, given, asks=not consented or self.needs_consents
            )
        out, err = raw_out.decode(errors="surrogateescape"), raw_err.decode(errors="surrogateescape")
        assert "Traceback" not in err, err
        assert code in (None, ended), (arguments, ended, out, err)
        return Done(ended, out, err)

    def write(self, files: dict[str, str]) -> None:
        """Write files below the folder."""
        for name, text in files.items():
            path = self.folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(text.encode())

    def read(self, name: str) -> str:
        """A file's text, line ends as they are."""
        return (self.folder / name).read_bytes().decode()


def on_a_terminal(cj: Coinjar, *arguments: str, typed: str = "", consented: bool = True) -> str:
    """What the program shows on a terminal of its own."""
    if consented:
        consent_to_all(cj.folder, arguments, cj.env)
    pid, handle = pty.fork()
    if pid == 0:
        os.chdir(cj.folder)
        os.execve(PROGRAM, [PROGRAM, *arguments], cj.env | {"TERM": "xterm"})
    data = b""
    while True:
        if typed and b": " in data:
            os.write(handle, typed.encode())
            typed = ""
        ready = select.select([handle], [], [], 20)[0]
        try:
            more = os.read(handle, 65536) if ready else b""
        except OSError:
            more = b""
        if not more:
            break
        data += more
    os.close(handle)
    os.waitpid(pid, 0)
    return data.decode()


@cache
def _needs_consents(module: str) -> bool:
    """Whether tests of a module start the program by themselves, or are about consents."""
    return bool(re.search(r"subprocess|PROGRAM|on_a_terminal|consent", Path(module).read_text()))


@pytest.fixture
def cj(tmp_path: Path, request: pytest.FixtureRequest) -> Coinjar:
    """The program in an empty folder."""
    program = Coinjar(tmp_path)
    program.needs_consents = _needs_consents(request.module.__file__)
    return program


@pytest.fixture
def demo(cj: Coinjar) -> Coinjar:
    """The program in a copy of the demo."""
    shutil.copytree(DEMO, cj.folder, dirs_exist_ok=True)
    return cj


@pytest.fixture
def jar(cj: Coinjar) -> Callable[..., Coinjar]:
    """Makes a jar of `jar.yaml`'s text (version and app are added) and of plain files by name."""

    def make(declarations: str, **plain: str) -> Coinjar:
        cj.write(
            {"jar/jar.yaml": f"coinjar: 1\napp: trial\n{declarations}"}
            | {f"jar/plain/{name.replace('_', '-')}.yaml": text for name, text in plain.items()}
        )
        return cj

    return make


@pytest.fixture
def jar_with_secrets(jar: Callable[..., Coinjar]) -> Coinjar:
    """Secrets on two stages."""
    cj = jar(SECRETS)
    for stage in ("dev", "prod"):
        for name in ("TOKEN", "OTHER", "LOGIN"):
            cj("put", name, "--stage", stage, stdin=f"made-up {name} of {stage}")
    return cj


@pytest.fixture
def prod(jar: Callable[..., Coinjar]) -> Coinjar:
    """A jar with three secrets on prod."""
    cj = jar(SEALED)
    for name in ("TOKEN", "LOGIN", "BOTH"):
        cj("put", name, "--stage", "prod", stdin=f"made-up {name} on prod é$")
    return cj


@pytest.fixture(scope="session", autouse=True)
def _remove_containers() -> Iterator[None]:
    yield
    if consumers.podman_engine.cache_info().currsize:
        state = consumers.podman_state()
        mounted = [line.split()[1] for line in Path("/proc/mounts").read_text().splitlines()]
        for mount in sorted((mount for mount in mounted if mount.startswith(f"{state}/")), reverse=True):
            subprocess.run(["umount", "-l", mount], check=False)
        shutil.rmtree(state, ignore_errors=True)
