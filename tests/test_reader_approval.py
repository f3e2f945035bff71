"""Nobody is encrypted for, and no value gets another name, before somebody who may decide it has approved it."""

from __future__ import annotations

import re
from collections.abc import Callable

import pyrage
import pytest

from coinjar.crypto.sealing import Key, Unsealer, UnsealError, associated
from coinjar.jarfile.readers import load_readers
from tests.attacker import ATTACKER, line_of, swapped_approval
from tests.conftest import RECIPIENT, SECRETS, Coinjar


def test_a_reader_added_by_hand_gets_nothing(jar_with_secrets: Coinjar) -> None:
    """Not at the next value, not with a new scope, not by a change of keys; only after somebody has looked."""
    cj = jar_with_secrets
    cj("check", code=None)
    text = cj.read("jar/readers.yaml") + f"  mallory:\n    opens: [prod]\n    recipient: {ATTACKER.to_public()}\n"
    cj.write({"jar/readers.yaml": text})
    attempts = (
        ["put", "TOKEN", "--stage", "prod"], ["put", "TOKEN", "--stage", "prod", "--service", "web"],
        ["readers", "rekey", "--stage", "prod"],
        ["generate", "TOKEN", "--stage", "prod", "--replace", "--yes"],
        ["readers", "remove", "mallory", "--everywhere", "--yes"],
    )  # fmt: skip
    first = next(iter(load_readers(cj.folder / "jar").readers.values()))
    regrouped = f'  {first.label}:\n    opens: [prod]\n    service: "\\0\\nx\\0y"\n    recipient: {first.recipient}\n'
    for entry, words in (
        (regrouped, "is not a service's name"),
        (f"  x: {{opens: [prod], recipient: '{RECIPIENT} x'}}\n", "a recipient is age1"),
        ("  x: {opens: [prod], recipient: ssh-ed25519 AAAA y}\n", "the recipient of x is not valid"),
    ):
        cj.write({"jar/readers.yaml": f"readers:\n{entry}"})
        assert words in cj("readers", "list", code=3).err
    cj.write({"jar/readers.yaml": text})
    for command in attempts:
        done = cj(*command, stdin="made-up new", code=3)
        assert "the readers of prod in this file are not approved" in done.err
        assert "`coinjar readers vouch --stage prod`" in done.err
    assert "CJ027: the readers of prod are not approved by anybody" in cj("check", code=1).out
    assert "‼" in cj("readers", "list").out
    cj(
        "put", "TOKEN", "--stage", "shared", stdin="made-up"
    )  # a new stage asks those that follow it: mallory is not taken along
    with pytest.raises(pyrage.DecryptError):
        pyrage.decrypt((cj.folder / "jar/coins/keys/shared.all.age").read_bytes(), [ATTACKER])
    cj("put", "TOKEN", "--stage", "dev", stdin="made-up new")  # the other stage is not concerned
    cj.write({"jar/readers.yaml": cj.read("jar/readers.yaml").partition("  mallory")[0]})
    cj("readers", "vouch", "--stage", "prod", "--yes", code=None)
    cj("put", "TOKEN", "--stage", "prod", stdin="made-up new")
    for path in (cj.folder / "jar/coins/keys").iterdir():
        with pytest.raises(pyrage.DecryptError):
            pyrage.decrypt(path.read_bytes(), [ATTACKER])


def test_keys_that_nothing_is_sealed_under_are_not_trusted(jar: Callable[..., Coinjar]) -> None:
    """A stage with a service's secret only: the key of `all` is swapped, the approval made or removed, a reader slipped
    in, before its first value comes.
    """
    cj = jar(SECRETS)
    evil = f"  x:\n    opens: [prod]\n    recipient: {ATTACKER.to_public()}\n"
    text = f"data 00000000 {'ab' * 32}\nnaming {'cd' * 32}\n".encode()
    cj("put", "LOGIN", "--stage", "prod", stdin="made-up of the mailer")
    readers, key = cj.read("jar/readers.yaml"), cj.folder / "jar/coins/keys/prod.all.age"
    start, approval = key.read_bytes(), cj.folder / "jar/coins/approvals/prod.age"
    own_approval = approval.read_bytes()
    cj("check", code=None)  # and consents to what there is now
    for reader in ("", evil):
        for code in ("kept", "made", "removed"):
            for swapped in (False, True):
                cj.write({"jar/readers.yaml": readers + reader})
                approval.write_bytes(own_approval)
                key.write_bytes(
                    pyrage.encrypt(
                        text, [pyrage.x25519.Recipient.from_str(RECIPIENT), ATTACKER.to_public()], armored=True
                    )
                    if swapped
                    else start
                )
                if code == "made":
                    swapped_approval(cj)
                elif code == "removed":
                    cj.write({"jar/readers.yaml": re.sub(r"  prod: .*\n", "", cj.read("jar/readers.yaml"))})
                done = cj("put", "TOKEN", "--stage", "prod", stdin="made-up new", code=None, consented=False)
                assert done.code == (3 if reader or code != "kept" else 0), (reader, code, swapped, done.err)
                if done.code == 0:
                    assert cj("value", "prod", "TOKEN").out == "made-up new"
                    with pytest.raises(pyrage.DecryptError):
                        pyrage.decrypt(key.read_bytes(), [ATTACKER])
                    with pytest.raises(UnsealError):
                        Unsealer(Key("00000000", b"\xab" * 32)).open(
                            line_of(cj, "all TOKEN").split()[3], associated("trial", "prod", "all", "TOKEN")
                        )
                    cj("drop", "TOKEN", "--stage", "prod")
    cj.write({"jar/readers.yaml": readers.replace("readers:\n", "readers:\n" + evil.replace("prod", "dev"))})
    assert (
        "readers.yaml lists x for dev, which has no key yet"
        in cj("put", "TOKEN", "--stage", "dev", stdin="made-up", code=3).err
    )


def test_a_service_cannot_let_others_in(jar_with_secrets: Coinjar) -> None:
    """Who holds a service's identity knows every key under which a stage has values, and still decides nothing."""
    cj = jar_with_secrets
    recipient = cj("identity", "new", "--out", "mailer.identity").out.strip()
    cj("readers", "add", recipient, "--label", "mailer-prod", "--stage", "prod", "--service", "mailer", "--yes")
    cj("check", code=None)  # and consents to what there is now
    mailer = {"COINJAR_IDENTITY": "", "COINJAR_IDENTITY_FILE": "mailer.identity"}
    adding = ["readers", "add", str(ATTACKER.to_public()), "--label", "x", "--stage", "prod", "--yes"]
    for command in (
        adding,
        ["readers", "vouch", "--stage", "prod", "--yes"],
        ["readers", "rekey", "--stage", "prod"],
        ["put", "TOKEN", "--stage", "prod", "--service", "web"],  # which has no key yet
    ):
        assert "it is not a reader of all of it" in cj(*command, stdin="x", env=mailer, code=4).err, command
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("prod: {}", "prod: {}, new: {}")})
    first = cj("put", "TOKEN", "--stage", "new", stdin="x", env=mailer, code=3).err
    assert "mailer-prod is a reader of mailer alone, and cannot create the first key of new" in first
    cj("put", "TOKEN", "--stage", "prod", stdin="made-up by the mailer", env=mailer)  # a value is not a reader
    assert cj("value", "prod", "TOKEN").out == "made-up by the mailer"
    honest = cj.read("jar/readers.yaml")
    cj.write({"jar/readers.yaml": f"{honest}  x:\n    opens: [prod]\n    recipient: {ATTACKER.to_public()}\n"})
    swapped_approval(cj)
    for command in (["readers", "rekey", "--stage", "prod"], ["put", "TOKEN", "--stage", "prod", "--service", "web"]):
        message = cj(*command, stdin="x", code=3, consented=False).err
        assert "this needs your consent: encrypts secrets of prod, for the readers approved with the key" in message
    for path in (cj.folder / "jar/coins/keys").iterdir():
        with pytest.raises(pyrage.DecryptError):
            pyrage.decrypt(path.read_bytes(), [ATTACKER])
    (cj.folder / "jar/coins/approvals/prod.age").unlink()
    assert "are not approved by anybody" in cj("readers", "rekey", "--stage", "prod", code=3, consented=False).err
    cj.write({"jar/readers.yaml": honest})
    cj("readers", "vouch", "--stage", "prod", "--yes", consented=False)  # makes a key of its own
    cj("put", "TOKEN", "--stage", "prod", "--service", "web", stdin="made-up of web", consented=False)


def test_a_committer_moves_no_value_to_another_name(jar_with_secrets: Coinjar) -> None:
    """`formerly:` gives nobody a secret under another name, until somebody who can decrypt it approves the rename."""
    cj = jar_with_secrets
    cj("put", "TOKEN", "--stage", "prod", stdin="made-up-canary")
    renamed = cj.read("jar/jar.yaml").replace("  TOKEN: {", "  PUBLIC_NOTE: {formerly: [TOKEN], ")
    assert "PUBLIC_NOTE" in renamed
    cj.write({"jar/jar.yaml": renamed})
    words = "the value of PUBLIC_NOTE on prod is still encrypted under its earlier name TOKEN"
    for command in (["value", "prod", "PUBLIC_NOTE"], ["within", "prod", "-s", "web", "--", "env"]):
        done = cj(*command, code=4)
        assert words in done.err
        assert "approves the rename: `coinjar rename TOKEN PUBLIC_NOTE`" in done.err
        assert "made-up-canary" not in done.out + done.err
    assert words in cj("check", code=None).out
    cj("rename", "TOKEN", "PUBLIC_NOTE", "--yes")
    assert cj("value", "prod", "PUBLIC_NOTE").out == "made-up-canary"


def test_a_review_of_the_list_does_not_adopt_a_key_of_somebody_else(jar_with_secrets: Coinjar) -> None:
    """The list looks right, but was approved with a key that an attacker has, too: `vouch` makes a key of its own."""
    cj = jar_with_secrets
    cj("check", code=None)  # and consents to what there is now
    swapped_approval(cj)
    refused = cj("put", "TOKEN", "--stage", "prod", stdin="x", code=3, consented=False).err
    assert "this needs your consent: encrypts secrets of prod" in refused
    done = cj("readers", "vouch", "--stage", "prod", "--yes", consented=False)
    assert "the approval of prod has a new key" in done.err
    with pytest.raises(pyrage.DecryptError):
        pyrage.decrypt((cj.folder / "jar/coins/approvals/prod.age").read_bytes(), [ATTACKER])
    cj("put", "TOKEN", "--stage", "prod", stdin="made-up new", consented=False)
    again = cj("readers", "vouch", "--stage", "prod", "--yes", consented=False)
    assert "new key" not in again.err
