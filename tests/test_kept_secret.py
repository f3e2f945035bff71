"""That secrets stay secret: in logs that are masked, in everything that any command writes, and where nobody marked
them.
"""

from __future__ import annotations

import json
import re
import signal
import subprocess
import time
from base64 import b64encode
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest

from coinjar.cli.main import COMMANDS
from coinjar.core.entropy import WEAK, bits
from coinjar.core.secret_detection import detect_secret
from coinjar.standins.base import ErrorResponse
from tests.conftest import PROGRAM, Coinjar
from tests.consenting import consent_to_all
from tests.consumers import need
from tests.systems import Running, standin

DATA = Path(__file__).parent / "data"


def values(name: str) -> list[tuple[str, str]]:
    """A frozen list of names and values."""
    return [
        (other_name, text)
        for other_name, _, text in (line.partition("=") for line in (DATA / name).read_text().splitlines())
    ]


def test_ordinary_values_and_planted_secrets_are_told_apart() -> None:
    ordinary, planted = values("ordinary.txt"), values("planted.txt")
    assert len(ordinary) >= 1000
    alarms = [item for item in ordinary if detect_secret(*item)]
    missed = [item for item in planted if not detect_secret(*item)]
    assert len(alarms) <= len(ordinary) / 100, alarms
    assert len(missed) <= len(planted) / 20, missed
    page = (Path(__file__).parent.parent / "docs/rules.md").read_text()
    assert (
        f"On {len(ordinary):,} ordinary values the rule was wrong {['never', 'once', 'twice'][len(alarms)]}, "
        f"and of {len(planted)} planted secrets it missed {['none', 'one', 'two'][len(missed)]}"
    ) in " ".join(page.split())


STRENGTH = {
    "made-up-2026": False, "Password123!": False, "qwertyuiop1234567890": False, "a" * 200: False,
    "abcabcabcabcabcabcabc": False, "correct-horse-battery": False, "": False,
    "7fZq02mLxT9vKc4R": True, "9f86d081884c7d659a2feaa0c55ad015": True, "bafu-dimo-kilo-zapa-noru-gulo": True,
    "xkcdqwpzlmvnrtgh": True, "X9$kq2!mZp7#vL4w": True,
}  # fmt: skip


@pytest.mark.parametrize("text", STRENGTH)
def test_weak_and_strong(text: str) -> None:
    assert (bits(text) >= WEAK) is STRENGTH[text], bits(text)


JAR = (
    "services: {web: {}}\nstages: {dev: {}}\n"
    "variables: {PW: {secret: true}, URL: {default: {text: 'x://u:${PW@url}@h/'}}, PIN: {secret: true}}\n"
)


def test_within_masks_a_child(jar: Callable[..., Coinjar]) -> None:
    """Both streams, exit codes, signals, what cannot start, a reader that goes away."""
    cj = jar(JAR)
    cj("put", "PW", "--stage", "dev", stdin="made up/secret")
    cj("put", "PIN", "--stage", "dev", stdin="12")

    def masked(script: str, code: int = 0) -> tuple[str, str]:
        done = cj("within", "dev", "--mask", "--", "sh", "-c", script, code=code)
        return done.out, done.err.removeprefix("coinjar: too short to mask: PIN\n")

    assert masked('echo "a $PW b"; echo "$URL" >&2; exit 7', 7) == ("a [PW ••••] b\n", "[URL ••••]\n")
    assert masked('printf "made up"; sleep 0.3; printf "/secret, made up/"; sleep 0.3; printf "sec"') == (
        "[PW ••••], made up/sec",
        "",
    )
    assert masked("kill -TERM $$", -signal.SIGTERM) == ("", "")
    assert masked("kill -KILL $$", -signal.SIGKILL) == ("", "")
    assert "env" not in masked("env | grep COINJAR_; true")[0]
    assert cj("within", "dev", "--mask", "--", "nope-nope", code=127).out == ""
    assert cj("within", "dev", "--mask", "--", "./jar", code=126).out == ""
    process = subprocess.Popen(
        [PROGRAM, "within", "dev", "--mask", "--", "sh", "-c",
            "trap 'echo got $PW; exit 3' USR1; echo up; while :; do sleep 0.05; done"],
        cwd=cj.folder, env=cj.env, stdout=subprocess.PIPE,
    )  # fmt: skip
    assert process.stdout
    assert process.stdout.readline() == b"up\n"
    process.send_signal(signal.SIGUSR1)
    assert process.communicate(timeout=20)[0].decode() == "got [PW ••••]\n"
    assert process.returncode == 3
    pipe = f"'{PROGRAM}' within dev --mask -- yes 2>/dev/null | head -1; echo ${{PIPESTATUS[0]}}"
    done = subprocess.run(
        pipe,
        shell=True,
        executable="/bin/bash",
        cwd=cj.folder,
        env=cj.env,
        capture_output=True,
        text=True,
        check=False,
        timeout=30,
    )
    assert done.stdout == f"y\n{128 + signal.SIGPIPE}\n"


IN_MEMORY = "/dev/shm/coinjar-edit-"  # noqa: S108 - a folder of our own is made in it
CANARY = "canary7ZqW/x made&up"
FORMS = [
    CANARY.encode(),
    b64encode(CANARY.encode())[:-4],
    quote(CANARY, safe="").encode(),
    json.dumps(CANARY)[1:-1].encode(),
    CANARY[:9].encode(),
]
RUNS: list[list[str]] = [
    ["grid"], ["grid", "--json"], ["grid", "dev", "--by-service"], ["why", "dev", "S"], ["why", "dev", "U"],
    ["why", "dev", "U", "--json"], ["compare", "dev", "prod"], ["compare", "dev", "file:in.env", "--json"],
    ["check"], ["check", "--format", "json"], ["check", "--format", "sarif"], ["value", "dev", "P"],
    ["value", "prod", "NOPE"], ["adopt", "file:in.env", "--stage", "dev"],
    ["adopt", "file:in.env", "--stage", "prod", "--yes"], ["put", "S", "--stage", "dev"],
    ["put", "P", "--stage", "dev"], ["put", "S", "--stage", "nowhere"], ["drop", "S", "--stage", "dev"],
    ["put", "S", "--stage", "dev"], ["generate", "S", "--stage", "prod", "--replace", "--yes"],
    ["generate", "S", "--stage", "dev"], ["edit", "dev"], ["render", "dev", "out", "--dry-run"],
    ["render", "dev", "tracked"],
    ["render", "dev", "--as", "literal"], ["render", "dev", "--as", "example"],
    ["render", "dev", "--as", "exec-script", "--encrypt-to", "RECIPIENT"], ["within", "dev", "--", "true"],
    ["within", "dev", "--mask", "--", "sh", "-c", "echo $S; echo $U >&2; echo $S | base64"],
    ["readers", "list", "--json"], ["readers", "add", "RECIPIENT", "--label", "b", "--stage", "prod", "--yes"],
    ["consent"], ["consent", "--yes"], ["readers", "rekey"], ["readers", "seal"], ["readers", "vouch", "--yes"],
    ["readers", "remove", "b", "--everywhere", "--yes"], ["identity", "show"],
    ["value", "dev", "*", "--json"], ["promote", "dev", "prod", "S", "--json", "--dry-run"],
    ["promote", "dev", "prod", "--yes"], ["undo", "--dry-run"], ["undo", "--yes"], ["lift", "S", "--dry-run"],
    ["declare", "S", "--about", "x"], ["accept", "CJ029", "S", "--reason", "x"], ["stages", "list"],
    ["stages", "copy", "dev", "twin", "--yes"], ["stages", "rename", "twin", "twins", "--yes"],
    ["stages", "remove", "twins", "--yes"], ["services", "list"], ["services", "copy", "web", "also", "--yes"],
    ["services", "remove", "also", "--yes"], ["app", "rename", "trial", "other", "--yes"],
    ["app", "rename", "other", "trial", "--yes"], ["history", "S"], ["history", "S", "--json"],
    ["textconv", "jar/coins/dev.coins"], ["resolve"], ["read", "in.env"], ["read", "in.env", "--json"],
    ["identity", "new", "--out", "c.identity"], ["schema", "jar"], ["platforms"],
    ["platforms", "saltmarsh", "--online", "dev"], ["new", "--jar", "another/jar"],
    ["demo", "--keep", "in.env"],
    ["deliver", "dev", "salt", "--dry-run", "--requests"], ["deliver", "dev", "salt", "--restart"],
    ["deliver", "dev", "box", "--restart"], ["deliver", "dev", "--json"], ["deliver", "dev", "echoes"],
    ["drift", "dev"], ["drift", "dev", "--json", "--all"],
    ["confirm", "dev"], ["confirm", "dev", "--json"], ["deliveries"], ["deliveries", "1"],
    ["deliveries", "undo", "2", "--dry-run"], ["compare", "delivery:1", "dev"], ["compare", "dest:salt@dev", "dev"],
    ["mentions", "."], ["mentions", ".", "--json"], ["rename", "S", "T", ".", "--dry-run"],
    ["rename", "S", "T", ".", "--yes"], ["rename", "T", "S", ".", "--yes"],
    ["adopt", "dest:salt@dev", "--stage", "dev"],
    ["migrate", "dest:salt", "dest:fish", "--stage", "dev", "--out", "move.yaml"],
    ["migrate", "--execute", "move.yaml", "--dry-run", "--requests"], ["migrate", "--execute", "move.yaml", "--yes"],
    ["compare", "dest:salt@dev", "dest:fish@dev", "--sheet", "move.yaml"],
    ["standins", "nope", "--state", "x"],
    ["report", "--out", "report.html", "--plots", "plots"], ["report", "--json"], ["report", "--format", "markdown"],
    ["overdue", "--all"], ["grid", "--ages"], ["put", "S", "--stage", "prod", "--set-on", "2026-01-01"],
    ["rotate", "S", "--stage", "prod", "--yes"], ["rotate", "S", "--stage", "prod", "--yes", "--finish"],
    ["rotate", "S", "--stage", "prod", "--yes", "--until", "switched"],
    ["rotate", "S", "--stage", "prod", "--yes", "--back", "--json"],
]  # fmt: skip


def test_a_canary_is_written_nowhere(jar: Callable[..., Coinjar], tmp_path_factory: pytest.TempPathFactory) -> None:
    """Every command, succeeding and failing, under strace: every byte that it or a child writes to any file, pipe or
    terminal, and every argv.

    What was asked for is let be: the text under the editor (in memory), and the file that a destination is.
    """
    strace = need("strace")
    if subprocess.run([strace, "-qq", "-o", "/dev/null", "true"], capture_output=True, check=False).returncode:
        pytest.skip("strace may not trace programs here (a kernel setting, or a container's rules)")
    elsewhere = tmp_path_factory.mktemp("platforms")
    with (
        standin("saltmarsh", elsewhere / "salt", "line") as salt,
        standin("saltmarsh", elsewhere / "echo", "line") as echo,
        standin("lanternfish", elsewhere / "fish", "line") as fish,
    ):
        echo.standin.answer = _echoing(echo.standin.answer)  # type: ignore[method-assign]  # the same, but for writes
        _canary(jar, strace, salt, echo, fish)


def _echoing(real: Callable[..., Any]) -> Callable[..., Any]:
    """A platform that refuses what is written, and repeats it."""

    def answer(method: str, *rest: Any) -> Any:
        if method == "GET":
            return real(method, *rest)
        raise ErrorResponse(422, f"that is no value: {rest[2]}")

    return answer


def _canary(jar: Callable[..., Coinjar], strace: str, salt: Running, echo: Running, fish: Running) -> None:
    cj = jar(

            "services: {web: {}}\nstages: {dev: {}, prod: {}}\nvariables:\n"
            "  S: {secret: true, generate: {length: 30}}\n  P: {secret: true, kind: port}\n"
            "  U: {default: {text: 'x://${S@url}/'}}\n"


            "destinations:\n  out: {type: file, as: posix, path: out.env}\n"
            "  tracked: {type: file, as: posix, path: tracked.env}\n"


            f"  salt: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}', app: line, "
            f"token: {{from_env: SALT}}, without: [P]}}\n"

        "  box: {type: host, hosts: [root@127.0.0.1:1], path: /tmp/x, without: [P]}\n"

            f"  echoes: {{type: platform, platform: saltmarsh, address: '{echo.standin.address}', app: line, "
            f"token: {{from_env: ECHO}}, without: [P]}}\n"


            f"  fish: {{type: platform, platform: lanternfish, address: '{fish.standin.address}', project: line, "
            f"token: {{from_env: FISH}}, without: [P], stages: [dev]}}\n"


            "proofs: {s: {file: in.env, as: dotenv, variable: S, expect: '${S}'}, t: {file: in.env, pattern: "
            "'S=(.*)', expect: '${U}'}}\n"

    )  # fmt: skip
    cj.env |= {"SALT": salt.token, "ECHO": echo.token, "FISH": fish.token}
    for name in ("S", "P"):
        cj("put", name, "--stage", "dev", stdin=CANARY, code=None)
    cj("put", "S", "--stage", "prod", stdin=CANARY)
    cj.write(
        {
            "in.env": f"S={CANARY}\nOTHER_PASSWORD={CANARY}\nBROKEN_TOKEN='{CANARY}\n",
            "tracked.env": "",
            "noted": "",
            "app.py": f"import os\nos.getenv('P', '{CANARY}')\n",
        }
    )
    subprocess.run([need("git"), "init", "-q"], cwd=cj.folder, check=True)
    subprocess.run([need("git"), "add", "tracked.env"], cwd=cj.folder, check=True)
    recipient = cj("identity", "show").out.strip()
    other = cj("identity", "new", "--out", "b.identity", code=None).out.strip() or recipient
    assert {run[0] for run in RUNS} == set(COMMANDS)
    consent_to_all(cj.folder, (), cj.env)
    visited = set()
    in_memory: set[Path] = set()  # folders of these runs alone: other tests have theirs at the same time
    env = cj.env | {"EDITOR": "sed -i s/made.up/also/"}
    for run in RUNS:
        argv = [(other if run[0] == "readers" else recipient) if name == "RECIPIENT" else name for name in run]
        trace = cj.folder / "trace"
        follow = [
            strace,
            "-f",
            "-qq",
            "-y",
            "-s",
            "1000000",
            "-xx",
            "-e",
            "trace=execve,write,writev,pwrite64,pwritev,sendto,sendmsg,rename,renameat,symlink",
            "-o",
            str(trace),
        ]
        done = subprocess.run(
            [*follow, PROGRAM, *argv],
            cwd=cj.folder,
            env=env,
            input=CANARY.encode() if run[0] == "put" else b"",
            capture_output=True,
            check=False,
        )
        assert b"Traceback" not in done.stderr, (run, done.stderr)
        asked = run[:2] == ["render", "dev"] and "literal" in run
        for form in FORMS:
            assert asked or form not in done.stdout + done.stderr, run
            spelled = "".join(f"\\x{byte:02x}" for byte in form)
            for line in trace.read_text().splitlines():
                if spelled in line:
                    in_memory |= {Path(found) for found in re.findall(IN_MEMORY + "[^/]+", _descriptor(line))}
                    assert _is_asked_for(line, run), (run, line[:200])
                    visited.add(run[0])
        trace.unlink()
    assert visited == {"edit", "render", "within", "deliver"}  # the trace does show what is written
    files = [path for path in cj.folder.rglob("*") if path.is_file()]
    holders = {str(path.relative_to(cj.folder)) for path in files if any(form in path.read_bytes() for form in FORMS)}
    assert holders == {"in.env", "app.py"}
    assert in_memory
    assert not any(path.exists() for path in in_memory)


def _is_asked_for(call: str, run: list[str]) -> bool:
    """Whether a call writes what was asked for: the editor's text in memory, the pipe that is masked, stdout of `render
    --as`.
    """
    if run[0] == "edit":
        return IN_MEMORY in _descriptor(call)
    if run[0] == "deliver":  # to where it is delivered
        return re.search(r"send\w*\(\d+<(socket|TCP)", call) is not None or "socket:" in _descriptor(call)
    if run[0] == "within":
        return "pipe:" in _descriptor(call) or "pipe:" in call.split(",", maxsplit=1)[0]
    return run[0] == "render" and "literal" in run and re.search(r"write\(1", call) is not None


def _descriptor(call: str) -> str:
    """What a call writes to, as strace names it."""
    return bytes.fromhex("".join(re.findall(r"\\x(..)", call.split(",", maxsplit=1)[0]))).decode(errors="replace")


def test_tracked_files_and_readers_are_checked(jar: Callable[..., Coinjar]) -> None:
    """CJ025, CJ026, CJ028, with real git."""
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {S: {secret: true}, T: {secret: true}}\n")
    cj("put", "S", "--stage", "dev", stdin="7fZq02mLxT9vKc4R0")
    cj.write(
        {
            ".env": "S=made-up-value\nPORT=1\n",
            "prod.env.example": "S=change-me\nT=made-up\n",
            "env": "API_TOKEN=j7ksswPM21\n",
            "clean.env": "PORT=1\nT=change-me\n",
            ".gitignore": "*.identity\nignored.env\n",
        }
    )
    cj.write({"ignored.env": "S=made-up\n", "key.txt": "x\nAGE-SECRET-KEY-1" + "Q" * 58 + "\n"})
    subprocess.run([need("git"), "init", "-q"], cwd=cj.folder, check=True)

    def found(*codes: str) -> set[tuple[str, str, str]]:
        every = json.loads(cj("check", "--json", code=None).out)["findings"]
        return {
            (finding["rule"], finding["file"], finding["message"].split(":")[0])
            for finding in every
            if finding["rule"] in codes
        }

    assert found("CJ028") == set()
    subprocess.run([need("git"), "add", "-A"], cwd=cj.folder, check=True)
    held = "version control tracks this file, which contains secrets"
    assert found("CJ028") == {
        ("CJ028", ".env", held),
        ("CJ028", "env", held),
        ("CJ028", "key.txt", "version control tracks a private key"),
    }
    assert found("CJ025", "CJ026") == {("CJ025", "jar/readers.yaml", f"only {_user()} can decrypt all of dev")}
    for label, more in (("service", ["--service", "web"]), ("berta", [])):
        recipient = cj("identity", "new", "--out", f"{label}.identity").out.strip()
        cj("readers", "add", recipient, "--label", label, "--stage", "dev", "--yes", *more)
    assert found("CJ025", "CJ026") == {("CJ026", "jar/readers.yaml", "no recovery reader can decrypt shared, dev")}
    recipient = cj("identity", "new", "--out", "box.identity").out.strip()
    cj("readers", "add", recipient, "--label", "recovery", "--stage", "dev", "--offline", "--yes")
    assert found("CJ025", "CJ026") == set()


def _user() -> str:
    return re.sub(r"[^a-z0-9]+", "-", subprocess.check_output(["id", "-un"], text=True).strip().lower())


def test_nothing_waits_for_a_terminal_that_is_not_there(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR)
    cj("identity", "new", "--passphrase", "--out", "p.identity", env={"COINJAR_PASSPHRASE": "made up phrase"})
    started = time.monotonic()
    process = subprocess.run(
        [PROGRAM, "put", "PW", "--stage", "dev"], cwd=cj.folder,
        env=cj.env | {"COINJAR_IDENTITY": "", "COINJAR_IDENTITY_FILE": "p.identity"}, input=b"x", capture_output=True,
        check=False, start_new_session=True
    )  # fmt: skip
    assert process.returncode == 4
    assert b"protected by a passphrase, which was not given" in process.stderr
    assert time.monotonic() - started < 20
