"""Undo: exact bytes back, only of the last change, only while nothing came after it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Coinjar

JAR = """\
services: {web: {code: [app.sh]}, worker: {}}
stages: {dev: {}, prod: {}}
variables:
  HOST: {}  # beside
  TOKEN: {secret: true}
  PORT: {default: 80}
"""
CHANGES = {
    "put HOST=other --stage dev": "put",
    "put NEW=x --declare --stage prod": "put",
    "put FIRST_TOKEN --declare --stage prod < made-up-first": "put",  # with the stage's first key
    "put TOKEN --stage dev < made-up-other": "put",
    "put TOKEN --stage dev --mine < made-up-mine": "put",
    "drop TOKEN --stage dev": "drop",
    "drop HOST --everywhere --yes": "drop",
    "adopt file:more.env --stage dev --yes": "adopt",
    "generate TOKEN --stage prod": "generate",
    "rename HOST HOSTNAME --yes": "rename",
    "promote dev prod --yes": "promote",
    "lift HOST --yes": "lift",
    "declare HOST --kind host": "declare",
    "accept CJ013 PORT --reason x": "accept",
    "stages add later": "stages add",
    "stages copy dev twin --yes": "stages copy",
    "stages rename dev early --yes": "stages rename",
    "stages remove dev --yes": "stages remove",
    "services rename web site --yes": "services rename",
    "services remove worker --yes": "services remove",
    "app rename trial ferry --yes": "app rename",
}


@pytest.fixture
def changed(jar: Callable[..., Coinjar]) -> Coinjar:
    cj = jar(JAR, dev="all:\n  HOST: h\n  PORT: 80\n", prod="all: {HOST: h}\r\n")
    cj.write({"app.sh": "echo $HOST\n", "more.env": "HOST=adopted\nMORE=1\n"})
    cj("put", "TOKEN", "--stage", "dev", stdin="made-up-token")
    return cj


def files(folder: Path) -> dict[str, bytes]:
    jar = folder / "jar"
    paths = [
        path for path in jar.rglob("*") if path.is_file() and (".local" not in path.parts or path.suffix == ".yaml")
    ]
    return {str(path): path.read_bytes() for path in [*paths, folder / "app.sh"]}


@pytest.mark.parametrize("words", CHANGES)
def test_every_byte_comes_back(changed: Coinjar, words: str) -> None:
    before = files(changed.folder)
    command, _, given = words.partition(" < ")
    changed(*command.split(), stdin=given)
    after = files(changed.folder)
    assert after != before
    shown = changed("undo", "--dry-run", code=1)
    assert shown.out.startswith(f"undo of `{CHANGES[words]}` from 20")
    assert files(changed.folder) == after
    changed("undo", "--yes")
    assert files(changed.folder) == before
    assert "nothing" not in changed("undo", "--yes", code=2).out
    assert "there is no change to undo" in changed("undo", "--yes", code=2).err


def test_only_while_nothing_came_after(changed: Coinjar) -> None:
    changed("put", "HOST=other", "--stage", "dev")
    changed.write({"jar/plain/dev.yaml": changed.read("jar/plain/dev.yaml") + "# by hand\n"})
    assert "jar/plain/dev.yaml: it was changed after `put`" in changed("undo", "--yes", code=3).err
    changed("put", "HOST=third", "--stage", "prod")
    changed("put", "HOST=third", "--stage", "prod")  # which changes nothing, and is not the last change
    changed("undo", "--yes")
    assert changed("value", "prod", "HOST").out == "h"
    assert changed("value", "dev", "HOST").out == "other"  # only the last one


def test_other_commands_are_no_change(changed: Coinjar) -> None:
    changed("put", "HOST=other", "--stage", "dev")
    for words in (["grid"], ["check"], ["render", "dev", "--service", "web", "--as", "posix"], ["mentions"]):
        changed(*words, code=None)
    changed("undo", "--yes")


def test_new_keys_after_it_are_a_change_after_it(changed: Coinjar) -> None:
    changed("put", "TOKEN", "--stage", "dev", stdin="made-up-other")
    changed("readers", "rekey", "--stage", "dev")
    assert "which therefore cannot be undone" in changed("undo", "--yes", code=3).err
    assert changed("value", "dev", "TOKEN", "-s", "web").out == "made-up-other"


def test_what_is_kept_is_encrypted_and_another_accounts_record_is_nothing(changed: Coinjar) -> None:
    changed.write({"jar/plain/prod.yaml": "all: {TOKEN: made-up-plain}\n"})
    changed("put", "TOKEN", "--stage", "prod", stdin="made-up-other")
    kept = [path.read_bytes() for path in (changed.folder / "jar/.local/last-change").iterdir()]
    assert kept
    assert not any(b"made-up" in data or b"TOKEN" in data or b"put" in data for data in kept)
    (changed.folder / "elsewhere").mkdir()
    other = {"XDG_CONFIG_HOME": str(changed.folder / "elsewhere")}
    assert "there is no change to undo" in changed("undo", "--yes", code=2, env=other).err
