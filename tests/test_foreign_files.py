"""Files that belong to another copy, another account or a killed run: refused, or removed."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
from collections.abc import Callable

import pytest

from coinjar.core.masking import forms
from coinjar.core.secret import reveal
from tests.conftest import IDENTITY, Coinjar
from tests.consumers import need
from tests.systems import standin


def test_a_local_folder_from_elsewhere_is_refused(
    jar: Callable[..., Coinjar], tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Tracked, a link, or somebody else's; and an interrupted change that this account did not begin."""
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {default: x}}\n")
    outside = tmp_path_factory.mktemp("outside")
    subprocess.run([need("git"), "init", "-q"], cwd=cj.folder, check=True)
    cj("put", "A=mine", "--stage", "dev", "--mine")
    assert cj("within", "dev", "--", "printenv", "A").out == "mine\n"
    subprocess.run([need("git"), "add", "-f", "jar/.local/dev.yaml"], cwd=cj.folder, check=True)
    for line in ("within dev -- printenv A", "render dev --as json", "put A=1 --stage dev", "rename A B --yes"):
        assert "version control tracks it" in cj(*line.split(), code=3).err, line
    subprocess.run([need("git"), "rm", "-q", "--cached", "jar/.local/dev.yaml"], cwd=cj.folder, check=True)
    assert cj("within", "dev", "--", "printenv", "A").out == "mine\n"
    journal = cj.folder / "jar/.local/unfinished-change"
    journal.mkdir()
    (journal / "0").write_text("planted")
    victim = outside / "victim"
    victim.write_text("before")
    for path in (victim, cj.folder / "app.py"):
        path.write_text("before")
        entry = {"path": str(path), "old": _digest("before"), "new": _digest("planted")}
        for text in ([entry], {"files": [entry], "code": "0" * 64}, {"files": "x", "code": 1}):
            (journal / "list.json").write_text(json.dumps(text))
            assert "not begun here by you" in cj("rename", "A", "B", "--yes", code=3).err
            assert path.read_text() == "before"
    for name in ("0", "list.json"):
        (journal / name).unlink()
    journal.rmdir()
    subprocess.run(["rm", "-r", str(cj.folder / "jar/.local")], check=True)
    (cj.folder / "jar/.local").symlink_to(outside)
    assert "it is a symlink" in cj("put", "A=1", "--stage", "dev", code=3).err
    assert {path.name for path in outside.iterdir()} == {"victim"}


def _digest(text: str) -> str:
    import hashlib

    return hashlib.sha256(text.encode()).hexdigest()


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can give files to another account")
def test_files_of_another_account_are_refused(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {default: x}}\n")
    below = cj.folder / "below"
    below.mkdir()
    inner = Coinjar(below)
    inner.env = cj.env
    assert inner("value", "dev", "A", consented=False).out == "x"
    os.chown(cj.folder / "jar/jar.yaml", 4321, 4321)
    assert "belongs to another account" in inner("value", "dev", "A", code=3, consented=False).err
    assert inner("--jar", "..", "value", "dev", "A", consented=False).out == "x"
    assert cj("value", "dev", "A", consented=False).out == "x"
    cj("put", "A=own", "--stage", "dev", "--mine")
    os.chown(cj.folder / "jar/.local", 4321, 4321)
    assert "belongs to another account" in cj("put", "A=2", "--stage", "dev", code=3).err
    cj.write({"my.identity": reveal(IDENTITY)})
    (cj.folder / "my.identity").chmod(0o600)
    os.chown(cj.folder / "my.identity", 4321, 4321)
    env = {"COINJAR_IDENTITY": "", "COINJAR_IDENTITY_FILE": "my.identity"}
    assert "belongs to another account" in cj("identity", "show", env=env, code=4).err


def test_who_can_write_the_records_does_not_choose_what_undo_delivers(
    jar: Callable[..., Coinjar], tmp_path_factory: pytest.TempPathFactory
) -> None:
    """A snapshot that is made up, changed, of another delivery, or readable although the stage has readers."""
    with standin("saltmarsh", tmp_path_factory.mktemp("salt"), "line") as salt:
        cj = jar(
            "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {default: one}, TOKEN: {secret: true}}\n"
            f"destinations: {{salt: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}',"
            f" app: line, token: {{from_env: T}}}}}}\n"
        )
        cj.env["T"] = salt.token
        cj("put", "TOKEN", "--stage", "dev", stdin="made-up-secret")
        for text in ("two", "three", "four"):
            cj("put", f"A={text}", "--stage", "dev")
            cj("deliver", "dev")
        shown = cj("deliveries", "undo", "3", "--dry-run", code=None)
        assert "three" in shown.out + shown.err
        database = sqlite3.connect(cj.folder / "jar/.local/deliveries.sqlite")
        ours = dict(database.execute("select delivery, snapshot from coinjar_parts"))
        plain = b'plain\n{"before": {"A": "theirs"}, "after": {}, "secret": [], "left_out": []}'
        head = ours[3].partition(b"\n")[0]
        for forged in (
            plain,
            head + b"\n" + plain,
            b"snapshot " + b"0" * 64 + b"\n" + plain,
            ours[2],
            ours[3][:-1],
            ours[3][:-9] + b"x" * 9,
            b"",
            b"\xff",
        ):
            database.execute("update coinjar_parts set snapshot = ? where delivery = 3", (forged,))
            database.commit()
            refused = cj("deliveries", "undo", "3", "--dry-run", code=4)
            assert "was not made by a reader of the stage" in refused.err, forged
            assert "theirs" not in refused.out + refused.err
            assert "was not made" in cj("compare", "delivery:3", "dev", code=4).err
        database.close()
        held = (cj.folder / "jar/.local/deliveries.sqlite").read_bytes()
        assert not [form for form in forms("made-up-secret") if form in held]


def test_what_a_killed_run_left_is_removed_and_no_core_file_is_written(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {default: x}, TOKEN: {secret: true}}\n",
        dev="all: {A: y}\n",
    )
    left = [f"jar/{folder}.x.coinjar-unfinished" for folder in ("", "plain/", ".local/")]
    cj.write(dict.fromkeys(left, "made-up-left"))
    cj("put", "TOKEN", "--stage", "dev", stdin="made-up")
    assert not [name for name in left if (cj.folder / name).exists()]
    for options in ([], ["--mask"]):
        done = cj("within", "dev", *options, "--", "sh", "-c", "ulimit -c", process=True)
        assert done.out == subprocess.run(["sh", "-c", "ulimit -c"], capture_output=True, text=True, check=True).stdout


def test_a_pattern_that_would_take_a_life_is_an_error(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {pattern: '(a+)+b'}}\ncode: {paths: [src]}\n",
        dev=f"all: {{A: {'a' * 60}}}\n",
    )
    cj.write({"src/app.py": "import os\n"})
    assert "takes too long to compare with the pattern (a+)+b" in cj("value", "dev", "A", code=3).err
    cj.write({"src/.gitignore": "a*a*a*a*a*a*a*a*a*b.py\n", f"src/{'a' * 200}.py": "import os\n"})
    assert "takes too long to compare with the pattern .gitignore" in cj("mentions", ".", code=3).err
