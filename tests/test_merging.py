"""Branches that change sealed values, and changes of keys that are cut short: what is left opens, or
says what to do.
"""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from collections.abc import Callable

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from coinjar.core.definition import SealedEntry
from coinjar.core.secret import reveal
from coinjar.crypto.sealed_file import changed, parse
from tests.conftest import IDENTITY, SEALED, Coinjar
from tests.consumers import need
from tests.jars import readers_of, somebody

NAMES = st.sampled_from([f"{letter}{number}" for letter in "ABC" for number in range(3)])


def coins(names: dict[str, str]) -> dict[tuple[str, str], SealedEntry | None]:
    """Lines whose sealed text tells which branch wrote them."""
    return {
        ("all", name): SealedEntry(scope="all", name=name, key="0" * 8, sealed=text * 4) for name, text in names.items()
    }


@settings(max_examples=150)
@given(
    st.sets(NAMES),
    st.dictionaries(NAMES, st.sampled_from(["put", "drop"])),
    st.dictionaries(NAMES, st.sampled_from(["put", "drop"])),
)
def test_branches_that_change_different_secrets_merge(
    tmp_path_factory: pytest.TempPathFactory, there: set[str], ours: dict[str, str], theirs: dict[str, str]
) -> None:
    """Whatever two branches put and drop of different names, git's own merge gives what doing both would."""
    theirs = {name: what for name, what in theirs.items() if name not in ours}
    base = changed(b"", "f", coins(dict.fromkeys(there, "b")))
    sides = [
        changed(
            base,
            "f",
            {
                ("all", name): coins({name: letter})["all", name] if what == "put" else None
                for name, what in side.items()
            },
        )
        for side, letter in ((ours, "o"), (theirs, "t"))
    ]
    folder = tmp_path_factory.mktemp("merge")
    for name, data in (("ours", sides[0]), ("base", base), ("theirs", sides[1])):
        (folder / name).write_bytes(data)
    merged = subprocess.run(
        [need("git"), "merge-file", "--union", "-p", "ours", "base", "theirs"],
        cwd=folder,
        capture_output=True,
        check=True,
    ).stdout
    shutil.rmtree(folder)
    wanted = dict.fromkeys(there, "b")
    for side, letter in ((ours, "o"), (theirs, "t")):
        for name, what in side.items():
            wanted.pop(name, None)
            if what == "put":
                wanted[name] = letter
    assert sorted((coin.name, coin.sealed[0]) for coin in parse(merged, "f")) == sorted(wanted.items())


def test_two_branches_in_a_repository(prod: Coinjar) -> None:
    """The whole way with real git: different secrets, the same secret, a reader on both sides."""

    def git(*arguments: str, ok: bool = True) -> str:
        done = subprocess.run(
            [need("git"), "-c", "user.name=a", "-c", "user.email=a@example", *arguments],
            cwd=prod.folder,
            capture_output=True,
            text=True,
            check=False,
        )
        assert (done.returncode == 0) is ok, done.stdout + done.stderr
        return done.stdout

    def commit() -> None:
        git("add", "-A")
        git("commit", "-qm", "x")

    prod.write({".gitignore": "*.identity\n"})
    git("init", "-q", "-b", "main")
    commit()
    git("checkout", "-qb", "other")
    prod("put", "LOGIN", "--stage", "prod", stdin="theirs")
    prod("put", "TOKEN", "--stage", "dev", stdin="new on dev")
    commit()
    git("checkout", "-q", "main")
    prod("put", "TOKEN", "--stage", "prod", stdin="ours")
    commit()
    git("merge", "-q", "--no-edit", "other")
    assert [prod("value", *item).out for item in (("prod", "LOGIN"), ("prod", "TOKEN"), ("dev", "TOKEN"))] == [
        "theirs",
        "ours",
        "new on dev",
    ]
    for branch in ("other", "main"):
        git("checkout", "-q", branch)
        git("merge", "-q", "main") if branch == "other" else None
        prod("put", "TOKEN", "--stage", "prod", stdin=f"of {branch}")
        commit()
    git("merge", "-q", "--no-edit", "other")
    message = prod("value", "prod", "TOKEN", code=4).err
    assert re.search(
        r"jar/coins/prod.coins:\d+:1: TOKEN is in lines \d+ and \d+ for all: two branches changed it", message
    )
    assert prod("value", "prod", "LOGIN").out == "theirs"
    prod("put", "TOKEN", "--stage", "prod", stdin="settled")
    assert prod("value", "prod", "TOKEN").out == "settled"
    commit()
    recipients = {name: somebody(prod, name) for name in ("berta", "carl")}
    for branch, name in (("third", "berta"), ("main", "carl")):
        git("checkout", "-qB" if branch == "third" else "-q", branch)
        prod("readers", "add", recipients[name][1], "--label", name, "--stage", "prod", "--yes")
        commit()
    git("merge", "-q", "third", ok=False)
    conflicts = git("diff", "--name-only", "--diff-filter=U").split()
    assert "jar/coins/keys/prod.all.age" in conflicts
    git("checkout", "-q", "--ours", "jar/coins")
    assert (
        "are not approved by anybody who can decrypt all of it"
        in prod("put", "TOKEN", "--stage", "prod", stdin="x", code=3).err
    )
    prod("readers", "vouch", code=1)
    prod("readers", "vouch", "--yes")
    for env, _ in recipients.values():
        assert prod("value", "prod", "TOKEN", env=env).out == "settled"
    prod("put", "TOKEN", "--stage", "prod", stdin="x")
    assert "an unfinished merge" not in prod("check", code=None).err


def test_a_killed_change_of_keys_loses_nothing(prod: Coinjar) -> None:
    """Killed after each of its writes: every value still opens, the leaver's new key does not, and doing it again
    finishes it.
    """
    env, recipient = somebody(prod, "berta")
    prod("readers", "add", recipient, "--label", "berta", "--stage", "prod", "--yes")
    start = prod.folder / "start"
    shutil.copytree(prod.folder / "jar", start)
    killed = (
        "import sys, os\nfrom coinjar.actions.secrets import approval, transaction\n"
        "from coinjar.cli.main import main\n"
        "left = int(sys.argv.pop(1))\nreal = transaction.replace_sealed_file\n"
        "def counting(path, data):\n    global left\n"
        "    if left == 0: os.kill(os.getpid(), 9)\n    left -= 1\n    real(path, data)\n"
        "approval.replace_sealed_file = transaction.replace_sealed_file = counting\nsys.exit(main(sys.argv[1:]))"
    )
    wanted = {name: prod("value", "prod", name, "-s", "mailer").out for name in ("TOKEN", "LOGIN", "BOTH")}
    for writes in range(30):
        shutil.rmtree(prod.folder / "jar")
        shutil.copytree(start, prod.folder / "jar")
        prod("consent", "--yes")
        argv = [sys.executable, "-c", killed, str(writes), "readers", "remove", "berta", "--stage", "prod", "--yes"]
        done = subprocess.run(argv, cwd=prod.folder, env=prod.env, capture_output=True, check=False)
        assert {name: prod("value", "prod", name, "-s", "mailer").out for name in wanted} == wanted, writes
        if done.returncode == 0:
            break
        for again in (3, 5, 7):  # and killed once more, with what the first not moved
            left = prod.folder / "left"
            shutil.copytree(prod.folder / "jar", left)
            argv = [sys.executable, "-c", killed, str(again), "readers", "rekey", "--stage", "prod"]
            subprocess.run(argv, cwd=prod.folder, env=prod.env, capture_output=True, check=False)
            seen = [prod("value", "prod", name, "-s", "mailer").out for name in wanted]
            assert seen == list(wanted.values()), (writes, again)
            shutil.rmtree(prod.folder / "jar")
            left.rename(prod.folder / "jar")
        if any("prod" in reader["opens"] for reader in readers_of(prod) if reader["label"] == "berta"):
            prod("readers", "remove", "berta", "--stage", "prod", "--yes")
        prod("put", "TOKEN", "--stage", "prod", stdin=wanted["TOKEN"])
        prod("readers", "rekey", "--stage", "prod")
        assert {name: prod("value", "prod", name, "-s", "mailer").out for name in wanted} == wanted, writes
        prod("value", "prod", "TOKEN", code=4, env=env)
        prod.write({"me": reveal(IDENTITY)})
        opened = subprocess.check_output(
            [need("age"), "-d", "-i", "me", "jar/coins/keys/prod.all.age"], cwd=prod.folder, text=True
        )
        assert [line.split()[0] for line in opened.splitlines()] == ["data", "naming"]
    assert done.returncode == 0
    assert writes > 6


def test_a_key_that_was_cut_short_is_created_again(jar: Callable[..., Coinjar]) -> None:
    """Killed between the first key file and the list of readers."""
    cj = jar(SEALED)
    cj("put", "TOKEN", "--stage", "dev", stdin="x")
    (cj.folder / "jar/coins/dev.coins").unlink()
    (cj.folder / "jar/readers.yaml").unlink()
    cj("put", "TOKEN", "--stage", "dev", stdin="y")
    assert cj("value", "dev", "TOKEN").out == "y"
