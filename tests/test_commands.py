"""The installed program on files: what each command prints, writes and ends with."""

from __future__ import annotations

import json
import os
import pty
import re
import select
import stat
import subprocess
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.conftest import PROGRAM, Coinjar

SMALL = """\
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {}, prod-isles: {follows: prod}, trial-*: {follows: dev}}
variables:
  PORT: {kind: port, default: 8080}
  LEVEL: {default: info}
  TOKEN: {secret: true, services: [web]}
  HOST: {stages: [prod], required: true}
"""


def test_exit_codes_and_streams(jar: Callable[..., Coinjar]) -> None:
    """stdout is empty on errors, and every error says what to do."""
    cj = jar(SMALL, prod="all: {HOST: db.example}\n")
    table = {
        ("--nope",): 2,
        ("graid",): 2,
        ("why", "prod"): 2,
        ("why", "nope", "PORT"): 2,
        ("why", "prod", "PROT"): 2,
        ("value", "prod", "PORT", "--service", "wbe"): 2,
        ("render", "prod", "--as", "posix"): 2,
        ("render", "prod", "--service", "web"): 2,
        ("render", "prod", "--service", "web", "--as", "bash"): 2,
        ("within", "prod", "--", "true"): 2,
        ("within", "prod", "--service", "web", "--with", "PORT", "--", "true"): 2,
        ("within", "prod", "--service", "web", "--with", "TOKEN=x", "--", "true"): 2,
        ("put", "NEW=1", "--stage", "dev"): 2,
        ("put", "TOKEN=x", "--stage", "dev"): 2,
        ("put", "PORT=1", "--stage", "dev", "--unset"): 2,
        ("put", "PORT=http", "--stage", "dev"): 3,
        ("put", "HOST=a", "--stage", "dev"): 3,
        ("put", "TOKEN", "--stage", "dev", "--service", "mailer"): 3,
        ("put", "LEVEL=${NOPE}", "--text", "--stage", "dev"): 3,
        ("drop", "PORT"): 2,
        ("drop", "PORT", "--stage", "dev"): 1,
        ("compare", "prod", "file:none.env"): 3,
        ("compare", "prod", "dev", "--only", "odd"): 2,
        ("adopt", "zip:x", "--stage", "dev"): 2,
        ("adopt", "jar", "--stage", "dev"): 2,
        ("put", "=x", "--stage", "dev"): 2,
        ("check", "--format", "xml"): 2,
        ("schema",): 2,
        ("schema", "nope"): 2,
        ("new",): 3,
        ("new", "--stage", "a", "--stage", "a"): 2,
        ("new", "--stage", "a:b"): 3,
        ("demo", "--keep", "jar"): 2,
        ("--jar", "nowhere", "grid"): 3,
        ("value", "dev", "TOKEN"): 1,
    }
    for arguments, code in table.items():
        done = cj(*arguments, code=code, stdin="x")
        assert done.out == "", arguments
        told = done.err.splitlines()
        assert told, arguments
        assert code == 1 or any(line.startswith("    ") for line in told), arguments
    assert cj("--help").out == cj().out
    assert re.fullmatch(r"coinjar \d+\.\d+\.\d+\n", cj("--version").out)
    assert "there is no jar here" in Coinjar(Path("/"))("grid", code=3).err


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
    ignored = subprocess.run(["git", "status", "--porcelain", "-uall"], cwd=cj.folder, check=True, capture_output=True, text=True).stdout
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
    assert "web still sees another value" in cj("put", "LEVEL=loud", "--stage", "dev").err
    cj("put", "LEVEL", "--stage", "dev", "--unset", "--service", "web")
    assert "unset on purpose" in cj("value", "dev", "LEVEL", "--service", "web", code=1).err
    cj("put", "LEVEL=a ${PORT}$$", "--text", "--stage", "dev", "--service", "web")
    assert cj("value", "dev", "LEVEL", "--service", "web").out == "a 9000$"
    assert "kept" in cj("put", "TOKEN", "--stage", "dev", stdin="s3cret\n").err
    assert cj("value", "dev", "TOKEN").out == "s3cret\n"
    assert "did you mean 'LEVEL'" in cj("put", "LEVL=x", "--stage", "dev", code=2).err
    cj("put", "NEW_URL=https://a.example/", "--stage", "dev", "--declare")
    assert cj.read("jar/jar.yaml").endswith("  NEW_URL:\n    kind: url\n")
    assert "secret" in cj("put", "DB_PASSWORD=x", "--stage", "dev", "--declare", code=2).err
    cj("drop", "LEVEL", "--stage", "dev", "--service", "web")
    assert cj("value", "dev", "LEVEL", "--service", "web").out == "loud"
    cj("put", "LEVEL=${NEW_URL}", "--text", "--stage", "prod")
    assert "still names NEW_URL" in cj("drop", "NEW_URL", "--everywhere", code=3).err
    cj("drop", "LEVEL", "NEW_URL", "--everywhere")
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
    assert plan.out.startswith("file:old.env → dev: 5 variables to declare and set, 1 to add, 2 to change, 1 left out\nread as dotenv:")
    assert not (cj.folder / "jar/plain/dev.yaml").exists()
    for words in (
        "old.env:4:1: LEVEL stands",
        "LEVEL stands twice (first in line 3)",
        "QUOTED is wrapped in quotes",
        "no shell can set BAD-NAME",
        "API_KEY holds a placeholder",
        "HOME: every shell",
    ):
        assert words in plan.err, words
    assert "made-up-token" not in plan.out + plan.err
    assert "warning: 2 secrets go into the jar as plain text" in cj("adopt", "file:old.env", "--stage", "dev", "--yes").err
    assert cj("adopt", "file:old.env", "--stage", "dev").out.startswith("file:old.env → dev: 8 the same already, 1 left out")
    seen = json.loads(cj("render", "dev", "--service", "web", "--as", "json").out)
    assert seen == {
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
    assert "~  PORT      port  8081 → 8082" in cj("adopt", "file:old.env", "--stage", "dev", "--yes").out
    assert cj.read("jar/plain/dev.yaml") == before.replace("8081", "8082")
    cj("adopt", "-", "--stage", "prod", "--service", "web", "--yes", stdin='{"PORT": "1"}')
    assert cj.read("jar/plain/prod.yaml") == "web:\n  PORT: '1'\n" or cj.read("jar/plain/prod.yaml") == "web:\n  PORT: 1\n"
    cj("adopt", "file+literal:old.env", "--stage", "trial-1", "--yes", "--plain", "ODD_TOKEN", "--every-name")
    assert cj("value", "trial-1", "LEVEL").out == "'warn'"
    assert "left out: PORT: the value of PORT is not a port" in cj("adopt", "-", "--stage", "prod", code=0, stdin="PORT=x\n").err


def test_adopt_asks_where_it_is_unsure(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL)
    cj.write({"old.env": "LICENCE_KEY=change-me\nSIGNING_SALT=abc\nNEW=1\n"})
    shown = _on_a_terminal(cj, "adopt", "file:old.env", "--stage", "dev", typed="n\ny\ny\n")
    assert "Is LICENCE_KEY a secret?" in shown
    assert "Is SIGNING_SALT a secret?" in shown
    assert "Write this?" in shown
    assert cj.read("jar/jar.yaml").endswith("  LICENCE_KEY: {}\n  SIGNING_SALT:\n    secret: true\n  NEW:\n    kind: integer\n")
    cj.write({"old.env": "NEW=2\n"})
    assert "Nothing was written" in _on_a_terminal(cj, "adopt", "file:old.env", "--stage", "dev", typed="n\n")
    assert cj("value", "dev", "NEW").out == "1"


def test_grid_shows_every_state_and_fits(demo: Coinjar) -> None:
    demo("put", "SEASON", "--stage", "dev", "--unset")
    for width in ("60", "100", "160"):
        done = demo("grid", env={"COLUMNS": width})
        assert max(map(len, done.out.splitlines())) <= int(width)
        assert "\x1b" not in done.out
    for sign in ("● ", "↑ ", "○ ", "· ", "ƒ ", "‼ missing", "‼ cannot", "* 3 values", "× unset", "not here", "•••• 26 #", "–"):
        assert sign in done.out, sign
    narrow = demo("grid", env={"COLUMNS": "60"}).out
    assert "not shown for want of width: 2 columns: prod, prod-isles" in narrow
    assert "made-up" not in done.out
    assert "made-up-rehearsal-password" in demo("grid", "--show-secrets", env={"COLUMNS": "200"}).out
    columns = re.split(r"\s{2,}", demo("grid", "--stage", "prod", env={"COLUMNS": "160"}).out.splitlines()[1].strip())
    assert columns[-4:] == ["timetable", "ticketing", "notices", "berths"]
    rows = {
        flags: len(json.loads(demo("grid", *flags, "--json").out)["rows"])
        for flags in ((), ("--different",), ("--missing",), ("--name", "ticket_db_*"), ("--service", "berths"))
    }
    assert list(rows.values()) == [18, 14, 6, 5, 7]
    cells = {row["name"]: row["cells"] for row in json.loads(demo("grid", "--json").out)["rows"]}
    assert cells["TICKET_DB_PASSWORD"]["prod"] == {"state": "own", "value": None, "secret": True, "derived": False, "masked": "•••• 21 chars #2"}
    assert cells["ISLE_RADIO"]["dev"]["state"] == "not here"
    assert list(json.loads(demo("grid", "prod", "dev", "--json").out)["columns"]) == ["prod", "dev"]
    plain = demo("grid", env={"PYTHONIOENCODING": "ascii", "PYTHONUTF8": "0", "LANG": "C"}).out
    assert plain.isascii()
    assert "!! missing" in plain


def test_why_tells_the_whole_story(demo: Coinjar) -> None:
    out = demo("why", "prod", "LOG_LEVEL", "--service", "timetable").out
    assert out.splitlines()[0] == "LOG_LEVEL = error"
    assert re.search(r"✓ wins +prod, all services +error +jar/plain/prod.yaml:2:14\n", out)
    assert re.search(r"covered +shared, timetable +warning +jar/plain/shared.yaml:5:14\n", out)
    assert "a stage beats shared" in " ".join(out.split())
    derived = demo("why", "prod", "TICKET_DB_URL", "--service", "ticketing")
    assert "made-up" not in derived.out
    assert re.search(r"└ TICKET_DB_HOST +db.prod.sandling.example +jar/plain/prod.yaml:3:19", derived.out)
    assert "normal spelling of its kind, boolean" in demo("why", "prod", "MAIL_ENABLED").out
    assert "its stages are prod-isles" in demo("why", "dev", "ISLE_RADIO").out
    found = json.loads(demo("why", "prod-isles", "FARE_ZONES", "--json", "--with", "FARE_ZONES=4").out)
    assert [(one["layer"], one["wins"]) for one in found["layers"]] == [("default", False), ("prod-isles, ticketing", False), ("one-off", True)]
    assert found["value"] == "4"


def test_compare(demo: Coinjar) -> None:
    out = demo("compare", "rehearsal", "prod", code=1, env={"COLUMNS": "160"}).out
    assert out.startswith("rehearsal and prod: 13 different, 1 only in prod, 10 the same\n")
    assert re.search(r"≠ +LOG_LEVEL \(ticketing, notices, berths\) +info +error\n", out)
    assert re.search(r"> +MAIL_HOST +\(no value\) +mail.sandling.example\n", out)
    assert "made-up" not in out
    assert demo("compare", "prod", "prod").out.startswith("prod and prod: ")
    demo.write({"a.env": "LOG_LEVEL=error\nDB_PASSWORD=one\nX=\n", "b.json": '{"LOG_LEVEL": "error", "DB_PASSWORD": "two"}'})
    rows = {row["name"]: row["verdict"] for row in json.loads(demo("compare", "file:a.env", "file:b.json", "--json", code=1).out)["rows"]}
    assert rows == {"LOG_LEVEL": "same", "DB_PASSWORD": "different", "X": "only left"}
    assert "one" not in demo("compare", "file:a.env", "file:b.json", "--name", "DB_*", code=1).out.split("a.env", 1)[1].replace("only", "")
    assert "only in prod" in demo("compare", "file:a.env", "prod", "--service", "berths", code=1).out
    assert demo("compare", "rehearsal", "prod", "--only", "left", code=1).out.count("\n") == 2


def test_values_from_outside(jar: Callable[..., Coinjar]) -> None:
    plain = 'all:\n  A: {command: [printf, "x\\n\\n"]}\n  B: {file: f.txt}\n  C: {file: f.bin, base64: true}\n  D: {from_env: GIVEN}\n  E: {command: [sh, -c, "echo $COINJAR_IDENTITY"], may_be_empty: true}\n'
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {}, B: {}, C: {}, D: {}, E: {}}\n", dev=plain)
    cj.write({"f.txt": "two\nlines\n"})
    (cj.folder / "f.bin").write_bytes(b"\xff\0")
    env = {"GIVEN": "g", "COINJAR_IDENTITY": "never"}
    seen = json.loads(cj("render", "dev", "--as", "json", "--allow-commands", env=env).out)
    assert seen == {"A": "x", "B": "two\nlines\n", "C": "/wA=", "D": "g", "E": ""}
    refused = cj("render", "dev", "--as", "json", code=3).err
    assert "jar/plain/dev.yaml:2:6: the value comes from the command 'printf', which was not run" in refused
    assert "jar/plain/dev.yaml:5:6: the environment has no GIVEN" in refused
    cj.write({".config/coinjar/config.yaml": f"allow_commands: [{cj.folder}/jar]\n"})
    assert cj("value", "dev", "A").out == "x"
    cj.write({"jar/plain/dev.yaml": "all:\n  A: {command: [false]}\n  B: {command: [nope]}\n  C: {command: [true]}\n  D: {file: f.bin}\n"})
    told = cj("render", "dev", "--as", "json", code=3, env=env).err
    for words in (
        "the command 'false' ended with 1",
        "the command 'nope' cannot be run",
        "the command 'true' printed nothing",
        "the file f.bin is not UTF-8 text",
    ):
        assert words in told, words


def test_circles_and_missing_values_come_all_at_once(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {default: {text: '${B}'}}, B: {default: {text: '${A}'}}, C: {required: true}, D: {kind: port, default: x}}\n"
    )
    told = cj("within", "dev", "--", "true", code=3).err
    assert "references go in a circle: A → B → A" in told
    assert "C is required and has no value on dev for web" in told
    assert "the value of D is not a port" in told
    assert "cannot be worked out" in cj("grid").out


def test_empty_unset_and_absent_are_three_things(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {EMPTY: {}, GONE: {default: x}, ABSENT: {}}\n", dev='all: {EMPTY: "", GONE: {unset: true}}\n')
    env = {"EMPTY": "e", "GONE": "g", "ABSENT": "a"}
    assert cj("render", "dev", "--as", "posix").out.splitlines()[1:] == ["export EMPTY=''", "unset GONE"]
    assert cj("render", "dev", "--as", "json").out == '{\n  "EMPTY": ""\n}\n'
    seen = dict(line.split("=", 1) for line in cj("within", "dev", "--", "env", env=env).out.splitlines())
    assert {name: seen.get(name) for name in env} == {"EMPTY": "", "GONE": None, "ABSENT": "a"}
    cells = {row["name"]: row["cells"]["dev"]["state"] for row in json.loads(cj("grid", "--json").out)["rows"]}
    assert cells == {"EMPTY": "own", "GONE": "unset", "ABSENT": "none"}


def test_render_masks_on_a_terminal_only(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL, dev="all: {TOKEN: s3cret}\n")
    shown = {flags: _on_a_terminal(cj, "render", "dev", "--service", "web", "--as", "posix", *flags) for flags in ((), ("--show-secrets",))}
    assert "s3cret" not in shown[()]
    assert "•••• 6 chars" in shown[()]
    assert "export TOKEN='s3cret'" in shown["--show-secrets",]
    assert "is a secret, and this is a terminal" in _on_a_terminal(cj, "value", "dev", "TOKEN")
    assert "export TOKEN='s3cret'" in cj("render", "dev", "--service", "web", "--as", "posix").out
    assert "change-me" in cj("render", "dev", "--service", "web", "--as", "example").out
    assert "\x1b[1m" in _on_a_terminal(cj, "grid")


def _on_a_terminal(cj: Coinjar, *arguments: str, typed: str = "") -> str:
    """What the program shows on a terminal of its own."""
    pid, handle = pty.fork()
    if pid == 0:
        os.chdir(cj.folder)
        os.execve(PROGRAM, [PROGRAM, *arguments], cj.env | {"TERM": "xterm"})
    seen = b""
    while True:
        if typed and b": " in seen:
            os.write(handle, typed.encode())
            typed = ""
        ready = select.select([handle], [], [], 20)[0]
        try:
            more = os.read(handle, 65536) if ready else b""
        except OSError:
            more = b""
        if not more:
            break
        seen += more
    os.close(handle)
    os.waitpid(pid, 0)
    return seen.decode()


def test_a_secret_is_typed_without_echo(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL)
    assert "s3cret" not in _on_a_terminal(cj, "put", "TOKEN", "--stage", "dev", typed="s3cret\n")
    assert cj("value", "dev", "TOKEN").out == "s3cret"


def test_a_canary_shows_nowhere(jar: Callable[..., Coinjar]) -> None:
    """Every command, succeeding and failing, with a secret planted in values, defaults, references and faults."""
    canary = "canary7Zq"
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}, prod: {}}\nvariables:\n  S: {secret: true, kind: port}\n  T: {secret: true}\n  U: {default: {text: 'x-${T}'}, kind: url}\n  V: {secret: true}\n  W: {secret: true}\n",
        dev=f"all: {{S: {canary}, T: ' {canary}', V: 'null', W: {{text: '{canary}-${{T}}'}}}}\n",
        prod=f"all: {{T: '{canary}'}}\n",
    )
    cj.write({"in.env": f'T={canary}\nS={canary}\nOTHER_PASSWORD={canary}\nT="{canary}\n'})
    runs = [
        ["grid"], ["grid", "--json"], ["grid", "--stage", "dev"], ["why", "dev", "S"], ["why", "dev", "U"], ["why", "dev", "W"], ["why", "dev", "W", "--json"], ["why", "dev", "T", "--json"],
        ["compare", "dev", "prod"], ["compare", "dev", "file:in.env"], ["compare", "dev", "file:in.env", "--json"], ["check"], ["check", "--format", "json"], ["check", "--format", "sarif"],
        ["value", "dev", "S"], ["value", "dev", "U"], ["render", "dev", "--as", "json"], ["render", "dev", "--as", "example"], ["within", "dev", "--", "true"],
        ["adopt", "file:in.env", "--stage", "dev"], ["adopt", "file:in.env", "--stage", "prod", "--yes"], ["put", "S", "--stage", "dev"], ["put", "T", "--stage", "dev"],
    ]  # fmt: skip
    for arguments in runs:
        done = subprocess.run([PROGRAM, *arguments], cwd=cj.folder, env=cj.env, input=canary.encode(), capture_output=True, check=False)
        assert canary.encode() not in done.stdout + done.stderr, arguments
        assert b"Traceback" not in done.stderr
    holders = {str(path.relative_to(cj.folder)) for path in cj.folder.rglob("*") if path.is_file() and canary in path.read_text(errors="replace")}
    assert holders == {"in.env", "jar/plain/dev.yaml", "jar/plain/prod.yaml"}


def test_concurrent_puts_lose_nothing(jar: Callable[..., Coinjar]) -> None:
    names = [f"V{number}" for number in range(24)]
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {" + ", ".join(f"{name}: {{}}" for name in names) + "}\n")
    with ThreadPoolExecutor(8) as pool:
        list(pool.map(lambda name: cj("put", f"{name}={name}", "--stage", "dev"), names))
    assert json.loads(cj("render", "dev", "--as", "json").out) == {name: name for name in names}


def test_a_killed_put_leaves_the_old_or_the_new(jar: Callable[..., Coinjar]) -> None:
    """Killed at each of its steps: the file is whole, and the next one goes through."""
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {}}\n", dev="all:\n  A: old\n")
    step = "import os, signal, sys\nfrom coinjar.jarfile import store\nfrom coinjar.cli.main import main\n"
    for dying in ("os.open", "os.fsync", "os.fchmod", "store.Path.replace", "os.close"):
        cj.write({"jar/plain/dev.yaml": "all:\n  A: old\n"})
        killed = step + f"{dying} = lambda *a, **k: os.kill(os.getpid(), signal.SIGKILL)\nmain(['put', 'A=new', '--stage', 'dev'])"
        done = subprocess.run([Path(PROGRAM).parent / "python", "-c", killed], cwd=cj.folder, env=cj.env, capture_output=True, check=False)
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
    cj("put", "A", "--stage", "dev", stdin=text)
    assert cj("value", "dev", "A").out.encode(errors="surrogateescape") == text.encode()
    if "\r" not in text:
        done = subprocess.run([PROGRAM, "within", "dev", "--", "printenv", "A"], cwd=cj.folder, env=cj.env, capture_output=True, check=True)
        assert done.stdout == text.encode() + b"\n"
    shown = cj("grid").out + cj("why", "dev", "A").out
    assert not re.search("[\x00-\x09\x0b-\x1f\x7f-\x9f\u200b\u202e]", shown)
    assert stat.S_IMODE((cj.folder / "jar/plain/dev.yaml").stat().st_mode) & 0o077 in (0o44, 0o00, 0o40)


def test_a_persons_own_file_that_cannot_be_read_is_left_as_it_is(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL)
    for text, told in {"all: &a {LEVEL: *a}\n": "the value of LEVEL is a mapping", "all: {NOPE: 1}\n": "NOPE is not declared"}.items():
        cj.write({"jar/.local/dev.yaml": text})
        assert told in cj("put", "LEVEL=x", "--stage", "dev", "--mine", code=3).err
        assert cj.read("jar/.local/dev.yaml") == text
        assert told in cj("render", "dev", "--service", "web", "--as", "json", code=3).err
