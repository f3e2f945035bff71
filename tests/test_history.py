"""What version control knows of a jar: a stage at a revision, the history of a variable, encrypted values in
`git diff`, and secrets that two branches changed.
"""

from __future__ import annotations

import json
import re
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import PROGRAM, Coinjar
from tests.jars import somebody
from tests.systems import standin

JAR = """\
services: {web: {}, worker: {}}
stages: {dev: {}, prod: {}, isles: {follows: prod}}
variables:
  HOST: {}
  TOKEN: {secret: true}
  KEY: {secret: true, services: [worker]}
  LINK: {default: {text: "http://${HOST:-none}/"}}
"""


def git(cj: Coinjar, *words: str) -> str:
    names = {
        f"GIT_{role}_{key}": text
        for role in ("AUTHOR", "COMMITTER")
        for key, text in (("NAME", "anna"), ("EMAIL", "a@b.example"))
    }
    env = cj.env | names | {"GIT_CONFIG_GLOBAL": "/dev/null"}
    return subprocess.run(["git", *words], cwd=cj.folder, env=env, check=True, capture_output=True, text=True).stdout


@pytest.fixture
def committed(jar: Callable[..., Coinjar]) -> Coinjar:
    cj = jar(JAR, prod="all:\n  HOST: h1\n")
    cj.write({".gitignore": "*.identity\n"})
    git(cj, "init", "-q", "-b", "main")
    cj("put", "TOKEN", "--stage", "prod", stdin="made-up-first")
    commit(cj, "First: #1")
    git(cj, "tag", "v1")
    cj("put", "TOKEN", "--stage", "prod", stdin="made-up-second-token")
    cj("put", "HOST=h2", "--stage", "prod", "-s", "worker")
    commit(cj, "Second")
    return cj


def commit(cj: Coinjar, message: str) -> None:
    git(cj, "add", "-A")
    git(cj, "commit", "-q", "-m", message)


def rows(cj: Coinjar, *words: str) -> dict[tuple[str, str | None], str]:
    data = json.loads(cj("compare", *words, "--json", code=None).out)["rows"]
    return {(row["name"], row["service"]): row["verdict"] for row in data if row["verdict"] != "same"}


def test_a_stage_is_compared_with_itself_at_a_revision(committed: Coinjar) -> None:
    expected = {("TOKEN", None): "different", ("HOST", "worker"): "different", ("LINK", "worker"): "different"}
    assert rows(committed, "prod", "commit:v1") == expected
    assert rows(committed, "commit:v1@prod", "commit:HEAD@prod") == expected
    assert rows(committed, "isles", "commit:v1@prod") == expected  # which follows it
    assert rows(committed, "prod", "commit:HEAD") == {}
    assert rows(committed, "prod", "commit:HEAD@{0}") == {}
    assert "made-up" not in committed("compare", "prod", "commit:v1", code=1).out


def test_new_keys_and_new_names_since_then_do_not_matter(committed: Coinjar) -> None:
    committed("readers", "rekey", "--stage", "prod")
    committed("stages", "rename", "prod", "live", "--yes")
    committed("app", "rename", "trial", "ferry", "--yes")
    assert ("TOKEN", None) in rows(committed, "live", "commit:v1")
    committed("adopt", "commit:v1@prod", "--stage", "live", "--yes")
    assert committed("value", "live", "TOKEN", "-s", "web").out == "made-up-first"
    assert "value" in committed("history", "TOKEN").out


@pytest.mark.parametrize(
    ("source", "fault"),
    [
        ("commit:v9", "there is no revision 'v9'"),
        ("commit:--all", "there is no revision '--all'"),
        ("commit:v1@prdo", "there is no stage 'prdo'"),
        ("commit+posix:v1@prod", "write commit:REVISION@STAGE"),
    ],
)
def test_a_revision_that_means_nothing(committed: Coinjar, source: str, fault: str) -> None:
    done = committed("compare", "prod", source, code=2)
    assert fault in done.err


def test_the_jar_of_a_revision_is_read_from_version_control_alone(committed: Coinjar) -> None:
    """Nothing of it runs, and no link of it is followed."""
    committed.write({"outside.yaml": "all: {HOST: outside}\n"})
    (committed.folder / "jar/plain/dev.yaml").unlink(missing_ok=True)
    (committed.folder / "jar/plain/dev.yaml").symlink_to("../../outside.yaml")
    text = committed.read("jar/jar.yaml").replace("HOST: {}", "HOST: {default: {command: [touch, ran]}}")
    committed.write({"jar/jar.yaml": text})
    commit(committed, "Untrusted")
    git(committed, "checkout", "-q", "HEAD~1")
    done = committed("compare", "dev", "commit:main@dev", code=None)
    assert "outside" not in done.out
    assert not (committed.folder / "ran").exists()


def test_the_history_of_a_variable_with_deliveries(committed: Coinjar, tmp_path: Path) -> None:
    with standin("saltmarsh", tmp_path / "s", "web") as salt:
        text = committed.read("jar/jar.yaml")
        declared = (
            f"destinations:\n  salt: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}', "
            "app: web, services: [web], stages: [prod], token: {from_env: SALT}}\n"
        )
        committed.write({"jar/jar.yaml": text + declared})
        committed.env |= {"SALT": salt.token}
        committed("deliver", "prod")
        committed("put", "TOKEN", "--stage", "prod", stdin="made-up-first")  # as it was first
        data = json.loads(committed("history", "TOKEN", "--json").out)
        shown = committed("history", "TOKEN").out
    events = [
        (event["action"], event["layer"], event.get("masked"), event["origin"].partition(" ")[2])
        for event in data["events"]
    ]
    assert events[0] == ("set", "prod", "•••• 13 chars #1", "First: #1")
    assert events[1] == ("changed", "prod", "•••• 20 chars #2", "Second")
    assert events[2][0] == "delivered: new"
    assert events[3] == ("changed", "prod", "•••• 13 chars #1", "committed")
    assert "made-up" not in shown + json.dumps(data)
    hosts = json.loads(committed("history", "HOST", "--json").out)["events"]
    assert [event["scope"] for event in hosts if event["action"] == "set"] == ["all", "worker"]
    assert json.loads(committed("history", "HOST", "--stage", "dev", "--json").out)["events"] == []


def test_a_history_says_what_it_could_not_look_at(committed: Coinjar) -> None:
    good = committed.read("jar/jar.yaml")
    committed.write({"jar/jar.yaml": "coinjar: 1\n"})
    commit(committed, "Broken")
    committed.write({"jar/jar.yaml": good})
    commit(committed, "Mended")
    done = committed("history", "HOST", code=1)
    assert "(Broken): 'app' is missing" in done.err
    nobody, _ = somebody(committed, "nobody")
    assert "(encrypted for others)" in committed("history", "TOKEN", code=1, env=nobody).out


def test_changes_that_one_cannot_decrypt_are_not_passed_over(committed: Coinjar) -> None:
    nobody, _ = somebody(committed, "nobody")
    assert "not looked at: changes of encrypted values" in committed("history", "TOKEN", code=1, env=nobody).err
    committed("history", "HOST", env=nobody)


def test_no_history_without_version_control(jar: Callable[..., Coinjar]) -> None:
    assert "there is no repository" in jar(JAR, prod="all: {HOST: x}\n")("history", "HOST", code=2).err


def test_git_shows_encrypted_values_as_text(committed: Coinjar) -> None:
    committed("textconv", "--setup")
    committed("textconv", "--setup")
    assert committed.read("jar/.gitattributes").count("diff=coinjar") == 1
    commit(committed, "Set up")
    committed("readers", "rekey", "--stage", "prod")
    assert "TOKEN" not in git(committed, "diff", "--", "jar/coins/prod.coins")  # the same value, under another key
    committed("put", "TOKEN", "--stage", "prod", stdin="made-up-thirds-token")
    assert Path(PROGRAM).is_file()
    lines = [line for line in git(committed, "diff", "--", "jar/coins/prod.coins").splitlines() if "TOKEN" in line]
    shown = [
        re.fullmatch(r"([-+])TOKEN \(all\): •••• 20 characters #([0-9a-f]{8}), set \d{4}-\d\d-\d\d", line)
        for line in lines
    ]
    assert [match and match[1] for match in shown] == ["-", "+"]
    assert len({match and match[2] for match in shown}) == 2
    log = git(committed, "log", "-p", "--", "jar/coins/prod.coins")
    assert "-TOKEN (all): •••• 13 characters" in log
    assert "made-up" not in log
    nobody, _ = somebody(committed, "nobody")
    assert committed("textconv", "jar/coins/prod.coins", env=nobody).out == "TOKEN (all): •••• (encrypted for others)\n"


@pytest.fixture
def merged(committed: Coinjar) -> Coinjar:
    git(committed, "checkout", "-q", "-b", "side")
    for branch in ("side", "main"):
        git(committed, "checkout", "-q", branch)
        committed("put", "TOKEN", "--stage", "prod", stdin=f"made-up-{branch}-token")
        commit(committed, branch)
    git(committed, "merge", "-q", "side")
    return committed


def test_a_secret_that_two_branches_changed_is_resolved_by_a_command(merged: Coinjar) -> None:
    assert "take one: `coinjar resolve`" in merged("value", "prod", "TOKEN", "-s", "web", code=4).err
    done = merged("resolve", code=1)
    assert "made-up" not in done.out
    assert [line.split()[-1] for line in done.out.splitlines()[2:]] == ["ours", "theirs"]
    assert "there is no version 3" in merged("resolve", "TOKEN", "--take", "3", code=2).err
    assert "there is no variable 'TOKNE'" in merged("resolve", "TOKNE", code=2).err
    assert "1 value elsewhere" in merged("resolve", "--stage", "dev").err
    merged("resolve", "TOKEN", "--take", "2")
    assert merged("value", "prod", "TOKEN", "-s", "web").out == "made-up-side-token"
    assert "Nothing to resolve" in merged("resolve").err
    assert "nothing to resolve" in merged("resolve", "--take", "1", code=2).err
    merged("undo", "--yes")
    merged("resolve", code=1)
