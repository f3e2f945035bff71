"""The installed program on files: what each command prints, writes and ends with."""

from __future__ import annotations

import json
import re
import subprocess
from collections.abc import Callable
from pathlib import Path

from tests.conftest import PROGRAM, SMALL, Coinjar, on_a_terminal
from tests.consenting import consent_to_all


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
        messages = done.err.splitlines()
        assert messages, arguments
        assert code == 1 or any(line.startswith("    ") for line in messages), arguments
    assert cj("--help").out == cj().out
    assert re.fullmatch(r"coinjar \d+\.\d+\.\d+\n", cj("--version").out)
    assert "there is no jar here" in Coinjar(Path("/"))("grid", code=3).err


def test_grid_shows_every_state_and_fits(demo: Coinjar) -> None:
    demo("put", "SEASON", "--stage", "dev", "--unset")
    for width in ("60", "100", "160"):
        done = demo("grid", env={"COLUMNS": width})
        assert max(map(len, done.out.splitlines())) <= int(width)
        assert "\x1b" not in done.out
    for sign in (
        "● ",
        "↑ ",
        "○ ",
        "· ",
        "ƒ ",
        "‼ missing",
        "‼ cannot",
        "* 3 values",
        "× unset",
        "not here",
        "•••• 26 #",
        "–",
    ):
        assert sign in done.out, sign
    narrow = demo("grid", env={"COLUMNS": "60"}).out
    assert "not shown, too wide: 2 columns: prod, prod-isles" in narrow
    assert "made-up" not in done.out
    assert "made-up-rehearsal-password" in demo("grid", "--show-secrets", env={"COLUMNS": "200"}).out
    columns = re.split(
        r"\s{2,}", demo("grid", "prod", "--by-service", env={"COLUMNS": "160"}).out.splitlines()[1].strip()
    )
    assert columns[-4:] == ["timetable", "ticketing", "notices", "berths"]
    rows = {
        flags: len(json.loads(demo("grid", *flags, "--json").out)["rows"])
        for flags in ((), ("--different",), ("--missing",), ("--name", "ticket_db_*"), ("--service", "berths"))
    }
    assert list(rows.values()) == [22, 14, 6, 5, 8]
    cells = {row["name"]: row["cells"] for row in json.loads(demo("grid", "--json").out)["rows"]}
    assert cells["TICKET_DB_PASSWORD"]["prod"] == {
        "state": "own",
        "value": None,
        "secret": True,
        "derived": False,
        "masked": "•••• 21 chars #2",
    }
    assert cells["ISLE_RADIO"]["dev"]["state"] == "not here"
    assert list(json.loads(demo("grid", "prod", "dev", "--json").out)["columns"]) == ["prod", "dev"]
    plain = demo("grid", env={"PYTHONIOENCODING": "ascii", "PYTHONUTF8": "0", "LANG": "C"}).out
    assert plain.isascii()
    assert "!! missing" in plain


def test_why_tells_the_whole_story(demo: Coinjar) -> None:
    out = demo("why", "prod", "LOG_LEVEL", "--service", "timetable").out
    assert out.splitlines()[0] == "LOG_LEVEL = error"
    assert re.search(r"✓ wins +prod, all services +error +jar/plain/prod.yaml:2:14\n", out)
    assert re.search(r"overridden +shared, timetable +warning +jar/plain/shared.yaml:5:14\n", out)
    assert "a stage overrides shared" in " ".join(out.split())
    derived = demo("why", "prod", "TICKET_DB_URL", "--service", "ticketing")
    assert "made-up" not in derived.out
    assert re.search(r"└ TICKET_DB_HOST +db.prod.sandling.example +jar/plain/prod.yaml:3:19", derived.out)
    assert "normalized as a value of its kind, boolean" in demo("why", "prod", "MAIL_ENABLED").out
    assert "its stages are prod-isles" in demo("why", "dev", "ISLE_RADIO").out
    data = json.loads(demo("why", "prod-isles", "FARE_ZONES", "--json", "--with", "FARE_ZONES=4").out)
    assert [(layer["layer"], layer["wins"]) for layer in data["layers"]] == [
        ("default", False),
        ("prod-isles, ticketing", False),
        ("one-off", True),
    ]
    assert data["value"] == "4"


def test_compare(demo: Coinjar) -> None:
    out = demo("compare", "rehearsal", "prod", code=1, env={"COLUMNS": "160"}).out
    assert out.startswith("rehearsal and prod: 13 different, 1 only in prod, 12 the same\n")
    assert re.search(r"≠ +LOG_LEVEL \(ticketing, notices, berths\) +info +error\n", out)
    assert re.search(r"> +MAIL_HOST +\(no value\) +mail.sandling.example\n", out)
    assert "made-up" not in out
    assert demo("compare", "prod", "prod").out.startswith("prod and prod: ")
    demo.write(
        {"a.env": "LOG_LEVEL=error\nDB_PASSWORD=one\nX=\n", "b.json": '{"LOG_LEVEL": "error", "DB_PASSWORD": "two"}'}
    )
    rows = {
        row["name"]: row["verdict"]
        for row in json.loads(demo("compare", "file:a.env", "file:b.json", "--json", code=1).out)["rows"]
    }
    assert rows == {"LOG_LEVEL": "same", "DB_PASSWORD": "different", "X": "only left"}
    assert "one" not in demo("compare", "file:a.env", "file:b.json", "--name", "DB_*", code=1).out.split("a.env", 1)[
        1
    ].replace("only", "")
    assert "only in prod" in demo("compare", "file:a.env", "prod", "--service", "berths", code=1).out
    assert demo("compare", "rehearsal", "prod", "--only", "left", code=1).out.count("\n") == 2


def test_values_from_outside(jar: Callable[..., Coinjar]) -> None:
    plain = (
        'all:\n  A: {command: [printf, "x\\n\\n"]}\n  B: {file: f.txt}\n'
        "  C: {file: f.bin, base64: true}\n  D: {from_env: GIVEN}\n"
        '  E: {command: [sh, -c, "echo $COINJAR_IDENTITY"], may_be_empty: true}\n'
    )
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {}, B: {}, C: {}, D: {}, E: {}}\n", dev=plain)
    cj.write({"f.txt": "two\nlines\n"})
    (cj.folder / "f.bin").write_bytes(b"\xff\0")
    env = {"GIVEN": "g", "COINJAR_IDENTITY": "never"}
    data = json.loads(cj("render", "dev", "--as", "json", env=env).out)
    assert data == {"A": "x", "B": "two\nlines\n", "C": "/wA=", "D": "g", "E": ""}
    cj("consent", "--withdraw")
    refused = cj("render", "dev", "--as", "json", code=3, consented=False).err
    assert "jar/plain/dev.yaml:2:6: this needs your consent: runs printf" in refused
    assert "jar/plain/dev.yaml:5:6: this needs your consent: reads the variable GIVEN" in refused
    cj("consent", "--yes", consented=False)
    assert cj("value", "dev", "A", consented=False).out == "x"
    assert "the environment has no GIVEN" in cj("render", "dev", "--as", "json", code=3).err
    cj.write(
        {
            "jar/plain/dev.yaml": (
                "all:\n  A: {command: [false]}\n  B: {command: [nope]}\n  C: {command: [true]}\n  D: {file: f.bin}\n"
            )
        }
    )
    message = cj("render", "dev", "--as", "json", code=3, env=env).err
    for words in (
        "the command 'false' ended with 1",
        "the command 'nope' cannot be run",
        "the command 'true' printed nothing",
        "the file f.bin is not UTF-8 text",
    ):
        assert words in message, words


def test_circles_and_missing_values_come_all_at_once(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\n"
        "variables: {A: {default: {text: '${B}'}}, B: {default: {text: '${A}'}}, C: {required: true}, D: "
        "{kind: port, default: x}}\n"
    )
    message = cj("within", "dev", "--", "true", code=3).err
    assert "references form a cycle: A → B → A" in message
    assert "C is required and has no value on dev for web" in message
    assert "the value of D is not a port" in message
    assert "cannot be computed" in cj("grid").out


def test_empty_unset_and_absent_are_three_things(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {EMPTY: {}, GONE: {default: x}, ABSENT: {}}\n",
        dev='all: {EMPTY: "", GONE: {unset: true}}\n',
    )
    env = {"EMPTY": "e", "GONE": "g", "ABSENT": "a"}
    assert cj("render", "dev", "--as", "posix").out.splitlines()[1:] == ["export EMPTY=''", "unset GONE"]
    assert cj("render", "dev", "--as", "json").out == '{\n  "EMPTY": ""\n}\n'
    environment = dict(line.split("=", 1) for line in cj("within", "dev", "--", "env", env=env).out.splitlines())
    assert {name: environment.get(name) for name in env} == {"EMPTY": "", "GONE": None, "ABSENT": "a"}
    cells = {row["name"]: row["cells"]["dev"]["state"] for row in json.loads(cj("grid", "--json").out)["rows"]}
    assert cells == {"EMPTY": "own", "GONE": "unset", "ABSENT": "none"}


def test_render_masks_on_a_terminal_only(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL, dev="all: {TOKEN: s3cret}\n")
    shown = {
        flags: on_a_terminal(cj, "render", "dev", "--service", "web", "--as", "posix", *flags)
        for flags in ((), ("--show-secrets",))
    }
    assert "s3cret" not in shown[()]
    assert "•••• 6 chars" in shown[()]
    assert "export TOKEN='s3cret'" in shown["--show-secrets",]
    assert "is a secret, and stdout is a terminal" in on_a_terminal(cj, "value", "dev", "TOKEN")
    assert "export TOKEN='s3cret'" in cj("render", "dev", "--service", "web", "--as", "posix").out
    assert "change-me" in cj("render", "dev", "--service", "web", "--as", "example").out
    assert "\x1b[1m" in on_a_terminal(cj, "grid")


def test_a_canary_shows_nowhere(jar: Callable[..., Coinjar]) -> None:
    """Every command, succeeding and failing, with a secret planted in values, defaults, references and faults."""
    canary = "canary7Zq"
    cj = jar(
        (
            "services: {web: {}}\nstages: {dev: {}, prod: {}}\nvariables:\n  S: {secret: true, kind: port}\n"
            "  T: {secret: true}\n  U: {default: {text: 'x-${T}'}, kind: url}\n  V: {secret: true}\n"
            "  W: {secret: true}\n"
        ),
        dev=f"all: {{S: {canary}, T: ' {canary}', V: 'null', W: {{text: '{canary}-${{T}}'}}}}\n",
        prod=f"all: {{T: '{canary}'}}\n",
    )
    cj.write({"in.env": f'T={canary}\nS={canary}\nOTHER_PASSWORD={canary}\nT="{canary}\n'})
    runs = [
        ["grid"], ["grid", "--json"], ["grid", "dev", "--by-service"], ["why", "dev", "S"], ["why", "dev", "U"],
        ["why", "dev", "W"], ["why", "dev", "W", "--json"], ["why", "dev", "T", "--json"],
        ["compare", "dev", "prod"], ["compare", "dev", "file:in.env"], ["compare", "dev", "file:in.env", "--json"],
        ["check"], ["check", "--format", "json"], ["check", "--format", "sarif"],
        ["value", "dev", "S"], ["value", "dev", "U"], ["render", "dev", "--as", "json"],
        ["render", "dev", "--as", "example"], ["within", "dev", "--", "true"],
        ["adopt", "file:in.env", "--stage", "dev"], ["adopt", "file:in.env", "--stage", "prod", "--yes"],
        ["put", "S", "--stage", "dev"], ["put", "T", "--stage", "dev"],
    ]  # fmt: skip
    for arguments in runs:
        consent_to_all(cj.folder, arguments, cj.env)
        done = subprocess.run(
            [PROGRAM, *arguments], cwd=cj.folder, env=cj.env, input=canary.encode(), capture_output=True, check=False
        )
        assert canary.encode() not in done.stdout + done.stderr, arguments
        assert b"Traceback" not in done.stderr
    holders = {
        str(path.relative_to(cj.folder))
        for path in cj.folder.rglob("*")
        if path.is_file() and canary in path.read_text(errors="replace")
    }
    assert holders == {"in.env", "jar/plain/dev.yaml"}  # prod's is sealed by adopt
