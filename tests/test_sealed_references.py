"""Encrypted texts with references: what they refer to is renamed, and not removed, as for those in plain text."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from tests.conftest import Coinjar
from tests.jars import somebody

JAR = """\
services: {web: {}, mail: {}, spare: {}}
stages: {dev: {}, prod: {}}
variables:
  HOST: {default: h}
  PORT: {default: 1}
  ONE: {secret: true}
  TWO: {secret: true}
  MAIL: {secret: true, services: [mail]}
"""
TEXT = "made-up-{}-${{HOST}}:${{PORT}}-${{HOST@of:spare}}"
VALUES = [(name, layer) for layer in ("shared", "dev", "prod") for name in ("ONE", "TWO", "MAIL")]


@pytest.fixture
def referring(jar: Callable[..., Coinjar]) -> Coinjar:
    """Three encrypted texts on each of three layers, all of which refer to the same."""
    cj = jar(JAR)
    for name, layer in VALUES:
        cj("put", name, "--stage", layer, "--text", stdin=TEXT.format(f"{name}-{layer}"))
    return cj


def values(cj: Coinjar) -> list[str]:
    return [cj("value", stage, name, "--service", "mail").out for stage in ("dev", "prod") for name in ("ONE", "TWO")]


def test_what_several_refer_to_is_renamed(referring: Coinjar) -> None:
    """Each is decrypted and encrypted again while the others still have the old name."""
    cj = referring
    before = values(cj)
    assert before[0] == "made-up-ONE-dev-h:1-h"
    done = cj("rename", "HOST", "MAIN_HOST", "--yes")
    assert "9 sealed values encrypted again" in done.out
    assert "made-up" not in done.out + done.err
    cj.write({"table": "MAIN_HOST PORT\nPORT MAIN_HOST\n"})
    cj("rename", "--table", "table", "--yes")  # exchanged
    assert values(cj) == before
    cj("rename", "--table", "table", "--yes")
    cj("services", "rename", "spare", "other", "--yes")
    cj("stages", "rename", "dev", "lab", "--yes")
    cj("stages", "rename", "lab", "dev", "--yes")
    assert values(cj) == before
    cj("check")


def test_what_they_refer_to_is_not_removed(referring: Coinjar) -> None:
    cj = referring
    before = values(cj)
    assert "the value of ONE still refers to HOST" in cj("drop", "HOST", "--everywhere", "--yes", code=3).err
    assert "refers to the service spare" in cj("services", "remove", "spare", "--yes", code=3).err
    assert values(cj) == before


def test_what_cannot_be_decrypted_is_not_called_unused(referring: Coinjar) -> None:
    """Somebody who reads nothing learns that what others encrypted was not searched."""
    other, _ = somebody(referring, "berta")
    done = referring("services", "remove", "spare", "--dry-run", env=other, code=1)
    assert "9 values are encrypted for others: whether they refer to spare is not known here" in done.err
    done = referring("drop", "MAIL", "--everywhere", "--dry-run", env=other, code=1)
    assert "6 values are encrypted for others: whether they refer to MAIL is not known here" in done.err
    assert "encrypted for others" not in referring("drop", "MAIL", "--everywhere", "--dry-run", code=1).err
    referring("rename", "PORT", "MAIN_PORT", "--yes")
    for how in ({"COINJAR_IDENTITY": ""}, other):  # without any identity, and with one that decrypts nothing
        done = referring("services", "remove", "spare", "--dry-run", env=how, code=1)
        assert "9 values are encrypted for others" in done.err
        done = referring("rename", "--finish", "PORT", env=how)
        assert "9 values are encrypted for others: whether they refer to PORT is not known here" in done.err
        referring("undo", "--yes")
    own = {"XDG_CONFIG_HOME": str(referring.folder / "elsewhere")}  # one that could, before it has consent
    for words in ("services remove spare --yes", "drop MAIL --everywhere --yes", "rename --finish PORT"):
        done = referring(*words.split(), env=own, consented=False, code=4)
        assert "coinjar consent" in done.err


def test_a_rename_by_somebody_who_cannot_decrypt_is_completed(referring: Coinjar) -> None:
    """Until then the texts are read with the new name; the old one cannot be released before."""
    cj = referring
    before = values(cj)
    other, recipient = somebody(cj, "berta")
    cj("readers", "add", recipient, "--label", "berta", "--stage", "dev", "--yes")
    cj("rename", "HOST", "MAIN_HOST", "--yes", env=other)  # she cannot decrypt prod
    assert values(cj) == before
    assert "whether they refer to HOST is not known here" in cj("rename", "--finish", "HOST", env=other).err
    cj("undo", "--yes")
    fault = cj("rename", "--finish", "HOST", code=3).err
    assert fault.count("still refers to HOST") == 3  # all of them at once
    assert "on prod still refers to HOST\n    first run `coinjar rename HOST MAIN_HOST`" in fault
    assert "3 sealed values encrypted again" in cj("rename", "HOST", "MAIN_HOST", "--yes").out
    assert "Nothing to change" in cj("rename", "HOST", "MAIN_HOST", "--yes").err
    cj("rename", "--finish", "HOST")
    assert values(cj) == before
    cj("check")


def test_a_text_that_refers_to_nothing_is_not_called_encrypted_for_others(referring: Coinjar) -> None:
    referring.write({"jar/jar.yaml": referring.read("jar/jar.yaml").replace("  HOST: {", "  OTHER_HOST: {")})
    shown = referring("why", "prod", "ONE", "--service", "mail").out
    assert "refers to HOST, which is not declared" in shown
    assert "prod, all services    cannot be decrypted" in shown
    assert "encrypted for others" not in shown
