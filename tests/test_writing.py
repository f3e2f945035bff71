"""The commands that write: what stands in the files afterwards, whatever happens meanwhile."""

from __future__ import annotations

import json
import re
import stat
import subprocess
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.conftest import PROGRAM, SMALL, Coinjar, on_a_terminal


def test_new_makes_a_jar_and_never_overwrites(cj: Coinjar) -> None:
    cj(
        "new",
        "--app",
        "pier",
        "--service",
        "web",
        "--service",
        "mailer",
        "--stage",
        "dev",
        "--stage",
        "prod",
        "--stage",
        "prod-isles:prod",
        "--stage",
        "trial-*:dev",
    )
    before = {path: path.read_bytes() for path in (cj.folder / "jar").rglob("*") if path.is_file()}
    assert cj.read("jar/.gitignore").splitlines()[1:] == [".local/", "*.coinjar-unfinished"]
    cj("grid")
    cj("new", code=3)
    assert {path: path.read_bytes() for path in (cj.folder / "jar").rglob("*") if path.is_file()} == before
    cj("put", "A=1", "--stage", "trial-7", "--declare")
    assert cj("value", "trial-7", "A").out == "1"
    assert "trial-7" in cj("grid").out
    subprocess.run(["git", "init", "-q"], cwd=cj.folder, check=True)
    cj("put", "A=2", "--stage", "dev", "--mine")
    ignored = subprocess.run(
        ["git", "status", "--porcelain", "-uall"], cwd=cj.folder, check=True, capture_output=True, text=True
    ).stdout
    assert ".local" not in ignored


def test_put_drop_and_value(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL, dev="# mine\nall:\n  LEVEL: info   # usual\n")
    cj("put", "LEVEL=debug", "PORT=09000", "--stage", "dev", "--stage", "shared")
    assert cj.read("jar/plain/dev.yaml") == "# mine\nall:\n  LEVEL: debug   # usual\n  PORT: 09000\n"
    assert cj.read("jar/plain/shared.yaml") == "all:\n  LEVEL: debug\n  PORT: 09000\n"
    assert cj("value", "dev", "PORT").out == "9000"
    cj("put", "LEVEL=", "--stage", "dev", "--service", "web")
    assert cj("value", "dev", "LEVEL", "--service", "web").out == ""
    assert "mailer" in cj("value", "dev", "LEVEL", code=2).err
    assert "web still gets another value" in cj("put", "LEVEL=loud", "--stage", "dev").err
    cj("put", "LEVEL", "--stage", "dev", "--unset", "--service", "web")
    assert "unset on purpose" in cj("value", "dev", "LEVEL", "--service", "web", code=1).err
    cj("put", "LEVEL=a ${PORT}$$", "--text", "--stage", "dev", "--service", "web")
    assert cj("value", "dev", "LEVEL", "--service", "web").out == "a 9000$"
    assert "was removed (--exact keeps it)" in cj("put", "TOKEN", "--stage", "dev", stdin="s3cret\r\n").err
    assert cj("value", "dev", "TOKEN").out == "s3cret"
    cj("put", "TOKEN", "--stage", "dev", "--exact", stdin="s3cret\n")
    assert cj("value", "dev", "TOKEN").out == "s3cret\n"
    assert "did you mean 'LEVEL'" in cj("put", "LEVL=x", "--stage", "dev", code=2).err
    cj("put", "NEW_URL=https://a.example/", "--stage", "dev", "--declare")
    assert cj.read("jar/jar.yaml").endswith("  NEW_URL:\n    kind: url\n")
    assert "secret" in cj("put", "DB_PASSWORD=x", "--stage", "dev", "--declare", code=2).err
    cj("drop", "LEVEL", "--stage", "dev", "--service", "web")
    assert cj("value", "dev", "LEVEL", "--service", "web").out == "loud"
    cj("put", "LEVEL=${NEW_URL}", "--text", "--stage", "prod")
    assert "still refers to NEW_URL" in cj("drop", "NEW_URL", "--everywhere", code=3).err
    cj("drop", "LEVEL", "NEW_URL", "--everywhere", "--yes")
    assert "LEVEL" not in cj("grid").out + cj.read("jar/plain/dev.yaml") + cj.read("jar/jar.yaml")


def test_a_persons_own_values_are_pointed_out_and_never_leave(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL)
    cj("put", "LEVEL=mine", "--stage", "dev", "--mine")
    assert cj.read("jar/.local/dev.yaml") == "all:\n  LEVEL: mine\n"
    done = cj("render", "dev", "--service", "web", "--as", "json")
    assert json.loads(done.out)["LEVEL"] == "mine"
    assert "your own values are used (dev): LEVEL" in done.err
    assert "your own" in cj("within", "dev", "--service", "web", "--", "true").err
    assert cj("value", "dev", "LEVEL").out == "info"
    assert "dev, your own, all services" in cj("why", "dev", "LEVEL").out
    assert "your own" not in cj("why", "dev", "LEVEL", "--without-mine").out
    assert "◆ mine" in cj("grid", "dev", "--mine").out
    assert "mine" not in cj("grid").out


OLD = """\
# Port to listen on
PORT=8081
LEVEL="debug"
LEVEL='warn'
TOKEN=made-up-token-1
NEW_FLAG=false
QUOTED="'x'"
BAD-NAME=1
API_KEY=change-me
EMPTY=
HOME=/root
"""


def test_adopt_brings_what_differs_and_no_more(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL)
    cj.write({"old.env": OLD})
    plan = cj("adopt", "file:old.env", "--stage", "dev", code=1)
    assert "6 variables" not in plan.out
    assert plan.out.startswith(
        "file:old.env → dev: 5 new names, 1 new value, 2 other values, 1 left out\nread as dotenv:"
    )
    assert not (cj.folder / "jar/plain/dev.yaml").exists()
    for words in (
        "old.env:4:1: LEVEL is given twice",
        "LEVEL is given twice (first in line 3)",
        "QUOTED is wrapped in quotes",
        "shells cannot set BAD-NAME",
        "API_KEY has a placeholder",
        "HOME: every shell",
    ):
        assert words in plan.err, words
    assert "made-up-token" not in plan.out + plan.err
    assert (
        "2 secrets will be encrypted; the plain values remain in file:old.env"
        in cj("adopt", "file:old.env", "--stage", "dev", "--yes").err
    )
    assert cj("adopt", "file:old.env", "--stage", "dev").out.startswith("file:old.env → dev: 8 the same, 1 left out")
    data = json.loads(cj("render", "dev", "--service", "web", "--as", "json").out)
    assert data == {
        "PORT": "8081",
        "LEVEL": "warn",
        "TOKEN": "made-up-token-1",
        "NEW_FLAG": "false",
        "QUOTED": "'x'",
        "BAD-NAME": "1",
        "API_KEY": "change-me",
        "EMPTY": "",
    }
    assert "NEW_FLAG:\n    kind: boolean" in cj.read("jar/jar.yaml")
    assert "API_KEY:\n    secret: true" in cj.read("jar/jar.yaml")
    before = cj.read("jar/plain/dev.yaml")
    cj.write({"old.env": OLD.replace("8081", "8082")})
    assert "≠  PORT      port  8081 → 8082" in cj("adopt", "file:old.env", "--stage", "dev", "--yes").out
    assert cj.read("jar/plain/dev.yaml") == before.replace("8081", "8082")
    cj("adopt", "-", "--stage", "prod", "--service", "web", "--yes", stdin='{"PORT": "1"}')
    assert (
        cj.read("jar/plain/prod.yaml") == "web:\n  PORT: '1'\n" or cj.read("jar/plain/prod.yaml") == "web:\n  PORT: 1\n"
    )
    cj("adopt", "file+literal:old.env", "--stage", "trial-1", "--yes", "--plain", "NEW_FLAG", "--every-name")
    assert cj("value", "trial-1", "LEVEL").out == "'warn'"
    assert (
        "left out: PORT: the value of PORT is not a port"
        in cj("adopt", "-", "--stage", "prod", code=0, stdin="PORT=x\n").err
    )


def test_adopt_asks_where_it_is_unsure(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL)
    cj.write({"old.env": "LICENCE_KEY=change-me\nSIGNING_SALT=abc\nNEW=1\n"})
    shown = on_a_terminal(cj, "adopt", "file:old.env", "--stage", "dev", "--label", "anna", typed="n\ny\ny\n")
    assert "Is LICENCE_KEY a secret?" in shown
    assert "Is SIGNING_SALT a secret?" in shown
    assert "Write this?" in shown
    assert cj.read("jar/jar.yaml").endswith(
        "  LICENCE_KEY: {}\n  SIGNING_SALT:\n    secret: true\n  NEW:\n    kind: integer\n"
    )
    cj.write({"old.env": "NEW=2\n"})
    assert "Nothing was written" in on_a_terminal(cj, "adopt", "file:old.env", "--stage", "dev", typed="n\n")
    assert cj("value", "dev", "NEW").out == "1"


def test_a_secret_is_typed_without_echo(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL)
    assert "s3cret" not in on_a_terminal(cj, "put", "TOKEN", "--stage", "dev", "--label", "anna", typed="s3cret\n")
    assert cj("value", "dev", "TOKEN").out == "s3cret"


def test_concurrent_puts_lose_nothing(jar: Callable[..., Coinjar]) -> None:
    names = [f"V{number}" for number in range(24)]
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {" + ", ".join(f"{name}: {{}}" for name in names) + "}\n"
    )
    with ThreadPoolExecutor(8) as pool:
        list(pool.map(lambda name: cj("put", f"{name}={name}", "--stage", "dev", process=True, consented=False), names))
    assert json.loads(cj("render", "dev", "--as", "json").out) == {name: name for name in names}


def test_a_killed_put_leaves_the_old_or_the_new(jar: Callable[..., Coinjar]) -> None:
    """Killed at each of its steps: the file is whole, and the next one goes through."""
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {}}\n", dev="all:\n  A: old\n")
    step = "import os, signal, sys\nfrom coinjar.system import files\nfrom coinjar.cli.main import main\n"
    for dying in ("os.open", "os.fsync", "os.fchmod", "os.rename", "os.close"):
        cj.write({"jar/plain/dev.yaml": "all:\n  A: old\n"})
        killed = step + (
            f"{dying} = lambda *a, **k: os.kill(os.getpid(), signal.SIGKILL)\nmain(['put', 'A=new', '--stage', 'dev'])"
        )
        done = subprocess.run(
            [Path(PROGRAM).parent / "python", "-c", killed], cwd=cj.folder, env=cj.env, capture_output=True, check=False
        )
        assert done.returncode == -9, (dying, done.stderr)
        assert cj.read("jar/plain/dev.yaml") in ("all:\n  A: old\n", "all:\n  A: new\n")
        cj("put", "A=next", "--stage", "dev")
        assert cj.read("jar/plain/dev.yaml") == "all:\n  A: next\n"
        assert sorted(path.name for path in (cj.folder / "jar/plain").iterdir()) == ["dev.yaml"]


def test_a_folder_that_cannot_be_written_is_an_outside_failure(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL)
    (cj.folder / "jar/.local").mkdir()
    (cj.folder / "jar/.local/lock").mkdir()
    assert "cannot write it" in cj("put", "LEVEL=x", "--stage", "dev", code=5).err


HOSTILE = st.text(st.characters(exclude_categories=["Cs"]), max_size=40)


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(HOSTILE.filter(lambda text: "\0" not in text))
def test_any_text_goes_in_and_comes_out(jar: Callable[..., Coinjar], text: str) -> None:
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {}}\n")
    cj("put", "A", "--stage", "dev", "--exact", "--empty", stdin=text)
    assert cj("value", "dev", "A").out.encode(errors="surrogateescape") == text.encode()
    if "\r" not in text:
        done = subprocess.run(
            [PROGRAM, "within", "dev", "--", "printenv", "A"],
            cwd=cj.folder,
            env=cj.env,
            capture_output=True,
            check=True,
        )
        assert done.stdout == text.encode() + b"\n"
    shown = cj("grid").out + cj("why", "dev", "A").out
    assert not re.search("[\x00-\x09\x0b-\x1f\x7f-\x9f\u200b\u202e]", shown)
    assert stat.S_IMODE((cj.folder / "jar/plain/dev.yaml").stat().st_mode) & 0o077 in (0o44, 0o00, 0o40)


def test_a_persons_own_file_that_cannot_be_read_is_left_as_it_is(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL)
    for text, message in {
        "all: &a {LEVEL: *a}\n": "an alias refers to what contains it",
        "all: {NOPE: 1}\n": "NOPE is not declared",
    }.items():
        cj.write({"jar/.local/dev.yaml": text})
        assert message in cj("put", "LEVEL=x", "--stage", "dev", "--mine", code=3).err
        assert cj.read("jar/.local/dev.yaml") == text
        assert message in cj("render", "dev", "--service", "web", "--as", "json", code=3).err
