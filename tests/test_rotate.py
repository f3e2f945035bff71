"""Rotation: a new value everywhere, the old one kept until then, and a way back at every step."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Coinjar
from tests.consenting import consent_to_all
from tests.jars import somebody
from tests.systems import standin
from tests.test_killed_changes import KILLED

JAR = """\
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {}, prod-isles: {follows: prod}}
variables:
  DB_PASSWORD:
    secret: true
    services: [web]
    valid: 90d
    rotate: {change: [./change], revoke: [./revoke], turns: {DB_USER: [app_a, app_b]}, proofs: [login], service: web}
  DB_USER: {services: [web], default: app_a}
  DB_URL: {services: [web], default: {text: "pg://${DB_USER}:${DB_PASSWORD@url}@db/x"}}
  SESSION_KEY: {secret: true, generate: {length: 32}}
  OTHER: {secret: true}
destinations:
  env: {type: file, as: dotenv, path: "build/{stage}/{service}.env"}
proofs:
  login: {service: web, program: [./can-log-in]}
"""
ACCOUNTS = "accounts"
"""A file with a line per role and password that can log in: the system that the secret belongs to."""
CHANGE = f"""\
#!/bin/sh
set -eu
cat > received
[ ! -e broken ] || {{ echo "cannot reach it with $NEW_DB_PASSWORD" >&2; exit 7; }}
[ "$ROTATION_STAGE" = prod ] && [ -n "$DB_URL" ]
grep -v "^$NEW_DB_USER " {ACCOUNTS} > new || true
echo "$NEW_DB_USER $NEW_DB_PASSWORD" >> new
mv new {ACCOUNTS}
"""
REVOKE = f"""\
#!/bin/sh
grep -vxF "$OLD_DB_USER $OLD_DB_PASSWORD" {ACCOUNTS} > new || true
mv new {ACCOUNTS}
"""
CAN_LOG_IN = f"""\
#!/bin/sh
grep -qxF "$DB_USER $DB_PASSWORD" {ACCOUNTS}
"""
OLD = "made-up-ö #@:%old"
ROTATE = ("rotate", "DB_PASSWORD", "--stage", "prod", "--yes")


@pytest.fixture
def rotating(jar: Callable[..., Coinjar]) -> Coinjar:
    cj = jar(JAR, prod="all:\n  DB_USER: app_a # in turns\r\n")
    cj.write({"change": CHANGE, "revoke": REVOKE, "can-log-in": CAN_LOG_IN, ACCOUNTS: f"app_a {OLD}\n"})
    for name in ("change", "revoke", "can-log-in"):
        (cj.folder / name).chmod(0o755)
    cj("put", "DB_PASSWORD", "--stage", "prod", "--set-on", "2026-01-31", stdin=OLD)
    cj("put", "SESSION_KEY", "--stage", "prod", stdin="made-up-session")
    cj("render", "prod")
    return cj


def value(cj: Coinjar, name: str, stage: str = "prod") -> str:
    return cj("value", stage, name, "--service", "web").out


def in_use(cj: Coinjar) -> tuple[str, str]:
    """The role and the password that the jar gives the service; these can log in, as those in its file."""
    role, password = value(cj, "DB_USER"), value(cj, "DB_PASSWORD")
    assert f"{role} {password}" in cj.read(ACCOUNTS).splitlines()
    assert f"DB_USER={role}" in cj.read("build/prod/web.env")
    return role, password


def test_a_secret_is_replaced_everywhere(rotating: Coinjar) -> None:
    before = rotating.read("jar/coins/prod.coins")
    shown = rotating("rotate", "DB_PASSWORD", "--stage", "prod", "--dry-run", code=1)
    assert "DB_USER: app_a → app_b" in shown.out
    assert rotating.read("jar/coins/prod.coins") == before
    done = rotating(*ROTATE, code=1)  # nothing shows whether those who read the file have the new value
    role, password = in_use(rotating)
    assert role == "app_b"
    assert password != OLD
    assert "nothing shows whether prod (env), prod-isles (env) has the new one" in done.err
    assert f"app_a {OLD}" in rotating.read(ACCOUNTS), "the old one works until the end"
    assert json.loads(rotating.read("received")) == {
        "stage": "prod",
        "old": {"DB_PASSWORD": OLD, "DB_USER": "app_a"},
        "new": {"DB_PASSWORD": password, "DB_USER": "app_b"},
    }
    assert "CJ050" in rotating("check", "--rule", "CJ050", code=0).out
    done = rotating(*ROTATE, "--finish")
    assert in_use(rotating) == (role, password)
    assert rotating.read(ACCOUNTS) == f"app_b {password}\n"
    assert rotating.read("jar/plain/prod.yaml") == "all:\n  DB_USER: app_b # in turns\r\n"
    assert "is being rotated" not in rotating("check", "--rule", "CJ050").out
    for text in (OLD, password):
        assert text not in shown.out + shown.err + done.out + done.err
    rotating(*ROTATE, code=1)
    rotating(*ROTATE, "--finish")
    assert in_use(rotating)[0] == "app_a"
    neighbours = [line for line in before.splitlines() if "SESSION_KEY" in line]
    assert [line for line in rotating.read("jar/coins/prod.coins").splitlines() if "SESSION_KEY" in line] == neighbours


@pytest.mark.parametrize("step", ["made", "changed", "switched", "delivered"])
def test_there_is_a_way_back_from_every_step(rotating: Coinjar, step: str) -> None:
    rotating(*ROTATE, "--until", step)
    for command in (
        ("put", "DB_PASSWORD", "--stage", "prod"),
        ("generate", "DB_PASSWORD", "--stage", "prod", "--replace", "--yes"),
    ):
        assert "is being rotated" in rotating(*command, stdin="made-up-other", code=3).err
    rotating(*ROTATE, "--until", step)  # again: nothing else happens
    rotating("readers", "rekey", "--stage", "prod")
    rotating("rename", "DB_PASSWORD", "DATABASE_PASSWORD", "--yes")
    rotating("rename", "DATABASE_PASSWORD", "DB_PASSWORD", "--yes")
    rotating("stages", "rename", "prod", "live", "--yes")
    rotating("stages", "rename", "live", "prod", "--yes")
    back = rotating(*ROTATE, "--back", "--finish")
    assert OLD not in back.out + back.err
    assert in_use(rotating) == ("app_a", OLD)
    assert rotating.read(ACCOUNTS) == f"app_a {OLD}\n"
    assert "2026-01-31" in rotating("why", "prod", "DB_PASSWORD", "--service", "web").out
    assert "is not being rotated" in rotating(*ROTATE, "--back", code=2).err


def test_a_program_that_fails_stops_the_rotation(rotating: Coinjar) -> None:
    (rotating.folder / "broken").write_text("")
    done = rotating(*ROTATE, code=5)
    assert "./change ended with exit code 7: cannot reach it with ••••" in done.err
    assert value(rotating, "DB_PASSWORD") == OLD
    (rotating.folder / "broken").unlink()
    rotating(*ROTATE, "--finish")
    assert in_use(rotating)[0] == "app_b"


def test_what_cannot_be_rendered_is_known_before_anything_changes(rotating: Coinjar) -> None:
    subprocess.run(["git", "init", "-q"], cwd=rotating.folder, check=True)
    subprocess.run(["git", "add", "-f", "build/prod/web.env"], cwd=rotating.folder, check=True)
    assert "would write a secret to a file that version control tracks" in rotating(*ROTATE, code=3).err
    assert not (rotating.folder / "received").exists()
    assert value(rotating, "DB_PASSWORD") == OLD


def test_nothing_is_switched_that_does_not_hold(rotating: Coinjar) -> None:
    rotating.write({"can-log-in": "#!/bin/sh\nexit 3\n"})
    done = rotating(*ROTATE, code=5)
    assert "login does not hold on prod with the new value of DB_PASSWORD: it ended with exit code 3" in done.err
    assert (value(rotating, "DB_USER"), value(rotating, "DB_PASSWORD")) == ("app_a", OLD)


def test_a_killed_rotation_goes_on(rotating: Coinjar) -> None:
    """Killed before and after all that the programs do, which live on, and around every file that is replaced."""
    rotating.write(
        {"change": CHANGE.replace("set -eu\n", "set -eu\n[ -e once ] || { touch once; kill -9 $PPID; exit; }\n")}
    )
    assert rotating(*ROTATE, process=True, code=None).code == -9
    assert value(rotating, "DB_PASSWORD") == OLD
    rotating.write(
        {
            "change": CHANGE.replace(
                "mv new", "[ -e twice ] || { touch twice; mv new accounts; kill -9 $PPID; exit; }\nmv new"
            )
        }
    )
    assert rotating(*ROTATE, process=True, code=None).code == -9
    rotating(*ROTATE, "--until", "switched")
    rotating.write({"revoke": "#!/bin/sh\n[ -e third ] || { touch third; kill -9 $PPID; exit; }\n" + REVOKE})
    assert rotating(*ROTATE, "--finish", process=True, code=None).code == -9
    rotating(*ROTATE, "--finish")
    role, password = in_use(rotating)
    assert rotating.read(ACCOUNTS) == f"{role} {password}\n"


def test_a_value_can_be_given(rotating: Coinjar) -> None:
    given = ("rotate", "OTHER", "--stage", "prod", "--given", "--yes", "--finish")
    assert "has no encrypted value on prod" in rotating(*given, stdin="x", code=2).err
    rotating("put", "OTHER", "--stage", "prod", stdin="made-up-1")
    assert (
        "jar.yaml does not define how OTHER gets a new value"
        in rotating("rotate", "OTHER", "--stage", "prod", code=2).err
    )
    assert "there is no new value" in rotating(*given, stdin="\n", code=2).err
    assert "is the one that it has" in rotating(*given, stdin="made-up-1", code=3).err
    rotating(*given, stdin="made-up-2\r\n")
    assert value(rotating, "OTHER") == "made-up-2"
    rotating(*given, stdin="made-up-3")
    assert value(rotating, "OTHER") == "made-up-3"


def test_a_program_can_make_the_value(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {prod: {}}\nvariables:\n"
        "  KEY: {secret: true, rotate: {make: [sh, -c, 'echo new-after-$OLD_KEY']}}\n"
    )
    cj("put", "KEY", "--stage", "prod", stdin="made-up")
    cj("rotate", "KEY", "--stage", "prod", "--yes", "--finish")
    assert value(cj, "KEY") == "new-after-made-up"
    cj("put", "KEY", "--stage", "shared", stdin="shared-made-up")
    cj("rotate", "KEY", "--stage", "shared", "--yes", "--finish")
    shown = json.loads(cj("rotate", "KEY", "--stage", "shared", "--json", "--yes").out)
    assert [step["step"] for step in shown["steps"]] == ["made", "switched", "finished"]
    assert cj("drop", "KEY", "--stage", "prod").code == 0
    assert value(cj, "KEY") == "new-after-new-after-shared-made-up"


def test_two_at_once_and_those_that_share_a_text(rotating: Coinjar) -> None:
    rotating("put", "SESSION_KEY", "--stage", "dev", stdin="made-up-session")
    rotating("put", "OTHER", "--stage", "prod", stdin="made-up-session")
    done = rotating("rotate", "SESSION_*", "--stage", "prod", "--yes", "--finish")
    assert "SESSION_KEY on dev, OTHER on prod" in done.err
    assert value(rotating, "SESSION_KEY", "dev") == value(rotating, "OTHER") == "made-up-session"
    assert value(rotating, "SESSION_KEY", "prod-isles") == value(rotating, "SESSION_KEY") != "made-up-session"
    rotating("put", "SESSION_KEY", "--stage", "prod", "--service", "web", stdin="made-up-web")
    both = ("rotate", "SESSION_KEY", "DB_PASSWORD", "--stage", "prod", "--yes", "--finish")
    assert "has different values for" in rotating(*both, code=2).err
    rotating(*both, "--service", "web")
    assert value(rotating, "SESSION_KEY") != "made-up-web"
    in_use(rotating)


def test_what_cannot_be_rotated(rotating: Coinjar) -> None:
    def refused(*words: str, code: int = 2) -> str:
        return rotating("rotate", *words, "--yes", code=code).err

    assert "is not a secret" in refused("DB_USER", "--stage", "prod")
    assert "it is set on prod: add --stage prod" in refused("DB_PASSWORD", "--stage", "prod-isles")
    assert "there is no step 'swiched'" in refused("DB_PASSWORD", "--stage", "prod", "--until", "swiched")
    assert "there is no stage 'prd'" in refused("DB_PASSWORD", "--stage", "prd")
    assert "none for mailer" in refused("SESSION_KEY", "--stage", "prod", "--service", "mailer")
    rotating("put", "DB_USER=elsewhere", "--stage", "prod")
    assert "neither app_a nor app_b" in refused("DB_PASSWORD", "--stage", "prod", code=3)
    rotating("put", "SESSION_KEY", "--stage", "prod", "--text", stdin="${OTHER}")
    assert "has no text of its own" in refused("SESSION_KEY", "--stage", "prod", code=3)
    nobody, _ = somebody(rotating, "nobody")
    assert rotating("rotate", "OTHER", "--stage", "prod", "--yes", code=2).code
    rotating("put", "OTHER", "--stage", "prod", stdin="made-up")
    assert rotating("rotate", "OTHER", "--stage", "prod", "--yes", env=nobody, code=4).code == 4
    assert "still refers to DB_USER" in rotating("drop", "DB_USER", "--everywhere", "--yes", code=3).err
    assert "get the variables of web" in rotating("services", "remove", "web", "--yes", code=3).err
    rotating("services", "rename", "web", "site", "--yes")
    rotating("rename", "DB_USER", "DB_ROLE", "--yes")
    assert "turns: {DB_ROLE: [app_a, app_b]}, proofs: [login], service: site" in rotating.read("jar/jar.yaml")


def test_programs_need_consent(rotating: Coinjar, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(rotating, "needs_consents", True)
    for name in Path(rotating.env["HOME"], ".config/coinjar").glob("consents*"):
        name.unlink()
    done = rotating(*ROTATE, consented=False, code=None)
    assert done.code in (3, 4)
    assert not (rotating.folder / "received").exists()


def test_running_systems_get_it_and_are_restarted(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with standin("saltmarsh", cj.folder / "s", "trial-web-prod", "trial-web-test") as system:
        jar(
            "services: {web: {}}\nstages: {prod: {guarded: true}, test: {follows: prod}, dev: {}}\nvariables:\n"
            "  KEY: {secret: true, generate: {length: 30}}\n  LEVEL: {default: info}\ndestinations:\n"
            f"  marsh: {{type: platform, platform: saltmarsh, address: '{system.standin.address}', stages: [prod],\n"
            "    app: 'trial-{service}-{stage}', token: {from_env: TOKEN}}\n"
        )
        cj.env["TOKEN"] = system.token
        cj("put", "KEY", "--stage", "prod", stdin="made-up-first")
        cj("deliver", "prod", "--allow-guarded", "prod", "--restart")
        cj("deliver", "test", "--restart")
        rotate = ("rotate", "KEY", "--stage", "prod", "--yes")
        assert "prod is guarded" in cj(*rotate, code=2).err
        assert value(cj, "KEY") == "made-up-first"
        done = cj(*rotate, "--allow-guarded", "prod")
        assert "finished" in done.err
        assert value(cj, "KEY") not in ("made-up-first", "")
        for stage in ("prod", "test"):
            assert cj("drift", stage).out.startswith(f"{stage}: 1 target up to date")
    cj(*rotate, "--allow-guarded", "prod", code=5)  # it cannot be reached: nothing is begun
    assert "CJ050" not in cj("check", code=None).out


FAULTS = {
    "KEY: {secret: true, valid: soon}": "is not a span of time",
    "KEY: {valid: 90d}": "KEY has valid, but is not a secret",
    "KEY: {rotate: {change: [x]}}": "KEY has rotate, but is not a secret",
    "KEY: {secret: true, rotate: {change: []}}": "names no program",
    "KEY: {secret: true, rotate: {proofs: [none]}}": "names the proof 'none', which is not declared",
    "KEY: {secret: true, rotate: {service: none}}": "there is no service 'none'",
    "KEY: {secret: true, rotate: {turns: {USER: [a, b]}}}": "names USER, which is not declared",
    "KEY: {secret: true, rotate: {turns: {KEY: [a, b]}}}": "KEY takes turns, but is a secret",
    "KEY: {secret: true, rotate: {turns: {KEY: [a, a]}}}": "takes turns between two values",
    "KEY: {secret: true, rotate: {chnage: [x]}}": "unknown key 'chnage'",
}


@pytest.mark.parametrize("declaration", FAULTS)
def test_faults_of_declarations(jar: Callable[..., Coinjar], declaration: str) -> None:
    cj = jar(f"services: {{web: {{}}}}\nstages: {{dev: {{}}}}\nvariables:\n  {declaration}\n")
    assert re.search(rf"jar\.yaml:6:\d+.*{re.escape(FAULTS[declaration])}", cj("check", code=3).err)


def test_a_proof_by_a_program(rotating: Coinjar) -> None:
    assert "✓ it succeeds" in rotating("confirm", "prod").out
    rotating.write({"can-log-in": "#!/bin/sh\necho $DB_PASSWORD; exit $((1-1))\n"})
    shown = rotating("confirm", "prod", code=1)
    assert "its output contains the secret DB_PASSWORD, and is not shown" in shown.out
    assert OLD not in shown.out + shown.err
    rotating.write(
        {"jar/jar.yaml": rotating.read("jar/jar.yaml").replace("[./can-log-in]", "[./absent, '${DB_USER}']")}
    )
    assert "cannot run ./absent" in rotating("confirm", "prod", code=5).err
    assert os.environ.get("DB_PASSWORD") is None
    rotating.write({"jar/jar.yaml": rotating.read("jar/jar.yaml").replace("${DB_USER}", "${DB_PASSWORD}")})
    assert "which the process list would show" in rotating("confirm", "prod", code=3).err


def test_a_shared_secret_reaches_the_place_of_all_stages(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """One project of a platform for all stages has it without a stage: it is delivered there too."""
    with standin("sluiceway", cj.folder / "s", "line") as system:
        jar(
            "services: {web: {}}\nstages: {prod: {}, test: {}}\nvariables:\n"
            "  KEY: {secret: true, generate: {length: 30}}\n  LEVEL: {default: info}\ndestinations:\n"
            f"  line: {{type: platform, platform: sluiceway, address: '{system.standin.address}', project: line,\n"
            "    token: {from_env: TOKEN}}\n"
        )
        cj.env["TOKEN"] = system.token
        cj("put", "KEY", "--stage", "shared", stdin="made-up-first")
        cj("deliver", "shared", "line")
        shown = cj("rotate", "KEY", "--stage", "shared", "--yes", code=None)
        assert "delivered shared: line" in shown.err
        cj("rotate", "KEY", "--stage", "shared", "--yes", "--finish", code=None)
        assert cj("drift", "shared", "line").out.startswith("shared: 1 target up to date")


def test_killed_at_every_file(rotating: Coinjar, tmp_path_factory: pytest.TempPathFactory) -> None:
    """After each file that is replaced the next run goes on, and what the jar says can log in at every moment."""
    consent_to_all(rotating.folder, (), rotating.env)
    kept = tmp_path_factory.mktemp("kept") / "app"
    shutil.copytree(rotating.folder, kept)
    ended, number = -signal.SIGKILL, 0
    while ended == -signal.SIGKILL:
        number += 1
        argv = [sys.executable, "-c", KILLED, str(number), *ROTATE, "--finish"]
        done = subprocess.run(argv, cwd=rotating.folder, env=rotating.env, capture_output=True, check=False)
        ended = done.returncode
        role, password = value(rotating, "DB_USER"), value(rotating, "DB_PASSWORD")
        assert f"{role} {password}" in rotating.read(ACCOUNTS).splitlines(), number
        if ended == -signal.SIGKILL:
            rotating(*ROTATE, "--finish")  # goes on, or rotates once more after all was done
        role, password = in_use(rotating)
        assert rotating.read(ACCOUNTS) == f"{role} {password}\n", number
        assert rotating("check", "--rule", "CJ050").out.startswith("nothing found")
        shutil.rmtree(rotating.folder)
        shutil.copytree(kept, rotating.folder)
    assert ended == 0, done.stderr
    assert number > 4
