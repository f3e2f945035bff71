"""`within`: the program is the process; its pid, signals, exit code and environment are its own."""

from __future__ import annotations

import shlex
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import PROGRAM, Coinjar

JAR = (
    "services: {web: {}, mailer: {}}\nstages: {dev: {}, prod: {follows: dev}}\n"
    "variables: {PORT: {kind: port, default: 8080}, NAME: {services: [web]}, OLD: {also_as: [OLDER]}, BUILT: "
    "{phase: build, default: x}}\n"
)


@pytest.fixture
def web(jar: Callable[..., Coinjar]) -> Coinjar:
    """A jar of two services."""
    return jar(JAR, dev='all: {NAME: "it\'s\\n$HOME", OLD: o}\n')


def start(cj: Coinjar, *command: str, **options: Any) -> subprocess.Popen[bytes]:
    """The program, left running."""
    arguments = [PROGRAM, "within", "dev", "--service", "web", "--", *command]
    pipe = subprocess.PIPE
    return subprocess.Popen(arguments, cwd=cj.folder, env=cj.env, stdout=pipe, stderr=pipe, **options)


def test_the_program_is_the_process(web: Coinjar) -> None:
    process = start(web, "sh", "-c", "echo $$; exit 7")
    out, _ = process.communicate()
    assert int(out) == process.pid
    assert process.returncode == 7
    sleeping = start(web, "sleep", "30")
    deadline = time.monotonic() + 20
    while Path(f"/proc/{sleeping.pid}/cmdline").read_bytes() != b"sleep\x0030\0":
        assert time.monotonic() < deadline
        time.sleep(0.01)
    sleeping.send_signal(signal.SIGTERM)
    sleeping.communicate()
    assert sleeping.returncode == -signal.SIGTERM


def test_the_environment(web: Coinjar) -> None:
    env = {
        "KEPT": "k",
        "NAME": "outer",
        "COINJAR_IDENTITY": "never",
        "COINJAR_JAR": str(web.folder / "jar"),
        "LANG": "C.UTF-8",
    }
    out = web("within", "dev", "--service", "web", "--with", "PORT=1", "--", "env", "-0", env=env).out
    environment = dict(pair.split("=", 1) for pair in out.split("\0") if pair)
    assert {name: environment.get(name) for name in ("PORT", "NAME", "OLD", "OLDER", "KEPT", "BUILT")} == {
        "PORT": "1", "NAME": "it's\n$HOME", "OLD": "o", "OLDER": "o", "KEPT": "k", "BUILT": None,
    }  # fmt: skip
    assert not [name for name in environment if name.startswith("COINJAR_")]
    bare = web("within", "prod", "--service", "mailer", "--bare", "--", "env", env=env).out
    assert {line.split("=")[0] for line in bare.splitlines()} == {"PATH", "HOME", "LANG", "PORT", "OLD", "OLDER"}
    assert web("within", "dev", "--service", "web", "--", "printf", "%s|", "$PORT", "a b", "*").out == "$PORT|a b|*|"


def test_signals_are_as_the_caller_had_them(web: Coinjar) -> None:
    """Python ignores SIGPIPE and SIGXFSZ for itself; the program must not inherit that, nor lose what its caller
    ignores.
    """

    def dispositions(out: bytes) -> dict[str, int]:
        return {key: int(value, 16) for key, value in (line.split(":") for line in out.decode().splitlines())}

    ask = ["grep", "-E", "Sig(Blk|Ign)", "/proc/self/status"]
    mine = dispositions(subprocess.check_output(ask))
    assert dispositions(start(web, *ask).communicate()[0]) == mine
    blocked = {signal.SIGUSR1, signal.SIGTERM}
    old = signal.pthread_sigmask(signal.SIG_BLOCK, blocked)
    try:
        environment = dispositions(start(web, *ask).communicate()[0])
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, old)
    assert environment["SigBlk"] == sum(1 << (number - 1) for number in blocked)
    inside = f"trap '' PIPE USR2; '{PROGRAM}' within dev --service web -- {ask[0]} -E 'Sig(Blk|Ign)' {ask[3]}; true"
    ignoring = subprocess.run(["sh", "-c", inside], cwd=web.folder, env=web.env, capture_output=True, check=False)
    environment = dispositions(ignoring.stdout)
    assert environment["SigIgn"] == mine["SigIgn"] | sum(
        1 << (number - 1) for number in (signal.SIGPIPE, signal.SIGUSR2)
    )
    broken = subprocess.run(
        f"'{PROGRAM}' within dev --service web -- yes | head -1; exit ${{PIPESTATUS[0]}}",
        shell=True,
        executable="/bin/bash",
        cwd=web.folder,
        env=web.env,
        capture_output=True,
        check=False,
    )
    assert broken.stdout == b"y\n"
    assert broken.returncode == 128 + signal.SIGPIPE


def test_what_cannot_start(web: Coinjar) -> None:
    web.write({"text": "no program", "script": "echo no first line\n", "bad": "#!/nowhere/sh\n"})
    for name in ("script", "bad"):
        (web.folder / name).chmod(0o755)
    table = {
        ("nope-nope",): 127,
        ("./nope",): 127,
        ("",): 127,
        ("./text",): 126,
        ("./jar",): 126,
        ("./script",): 126,
        ("./bad",): 127,
    }
    for command, code in table.items():
        done = web("within", "dev", "--service", "web", "--", *command, code=code)
        assert done.out == ""
        assert done.err.startswith(f"coinjar: cannot start {command[0]!r}: "), done.err
    assert web("within", "dev", "--service", "web", "--bare", "--", sys.executable, "-c", "print(1)").out == "1\n"


def test_what_no_environment_can_carry_is_refused(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {}, BIG: {}}\n", dev='all: {A: "x\\0y"}\n')
    assert (
        "the value of A contains a NUL character, which no environment can carry"
        in cj("within", "dev", "--", "true", code=3).err
    )
    cj.write({"jar/plain/dev.yaml": f"all: {{BIG: {'x' * 200_000}}}\n"})
    assert "128 KiB for one variable" in cj("within", "dev", "--", "true", code=126).err


FORMS = """\
dev --service web -- env|-s web dev -- sh -c 'echo $PORT; exit 9'|prod --service mailer -- env|dev -- env
dev --service wrong -- env|dev --service web -- no-such-program|dev -s web -- ./jar/jar.yaml|dev --service web --
dev -s web -- printf %s -- --mask|dev env|dev --service=web -- env|dev --service -- env|wrong -- env|-s web -- env
dev --service web --service mailer -- env|dev prod -s web -- env|dev --service '' -- env|'' -- env|-- env
--bare dev -s web -- env||dev -s web --mask""".replace("\n", "|").split("|")


@pytest.mark.parametrize("state", ["as it is", "faulty", "own values", "elsewhere", "named", "no jar"])
def test_the_usual_form_does_what_the_program_s_other_forms_do(web: Coinjar, state: str) -> None:
    """An option before the command is not the usual form, and changes nothing."""
    env, named = dict(web.env), list[str]()
    if state == "faulty":
        web.write({"jar/plain/dev.yaml": "all: {PORT: none, NAMED: x}\n"})
    elif state == "own values":
        web("put", "OLD", "--stage", "dev", "--mine", stdin="mine")
    elif state == "elsewhere":
        env["COINJAR_JAR"] = str(web.folder / "jar")
    elif state == "no jar":
        env["COINJAR_JAR"] = ""
    elif state == "named":
        named = ["--jar", str(web.folder / "jar")]
        env["COINJAR_JAR"] = "/nowhere"
    folder = web.folder if state not in ("elsewhere", "no jar", "named") else web.folder.parent
    for words in map(shlex.split, FORMS):
        usual, other = (
            subprocess.run([PROGRAM, *before, "within", *words], cwd=folder, env=env, capture_output=True, check=False)
            for before in (named, ["--color", "auto", *named])
        )
        assert (usual.returncode, usual.stdout, usual.stderr) == (other.returncode, other.stdout, other.stderr), words
        assert usual.returncode or state in ("as it is", "own values", "elsewhere", "named")
