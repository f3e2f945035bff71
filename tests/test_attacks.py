"""What somebody does who may commit but cannot read a stage, or who reads what he should not: each must fail, and say
what to do.
"""

from __future__ import annotations

import re
import shutil
from base64 import b64decode, b64encode
from collections.abc import Callable

import pyrage
import pytest
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

from coinjar.core.secret import reveal
from coinjar.crypto.approval import ApprovalKey, approve
from coinjar.crypto.sealing import Key, Unsealer, UnsealError, associated
from coinjar.jarfile.readers import load_readers
from tests.conftest import IDENTITY, RECIPIENT, SECRETS, Coinjar

ATTACKER = pyrage.x25519.Identity.generate()


def line_of(cj: Coinjar, slot: str, stage: str = "prod") -> str:
    return next(line for line in cj.read(f"jar/coins/{stage}.coins").splitlines() if line.startswith(f"{slot} "))


def replaced(cj: Coinjar, old: str, new: str, stage: str = "prod") -> None:
    path = f"jar/coins/{stage}.coins"
    cj.write({path: cj.read(path).replace(old, new)})


def _flipped(cj: Coinjar) -> None:
    line = line_of(cj, "all TOKEN")
    data = bytearray(b64decode(line.split()[3]))
    data[20] ^= 1
    replaced(cj, line, f"{line.rpartition(' ')[0]} {b64encode(data).decode()}")


def _cut(cj: Coinjar) -> None:
    line = line_of(cj, "all TOKEN")
    replaced(cj, line, line[:-7])


def _cut_whole(cj: Coinjar) -> None:
    line = line_of(cj, "all TOKEN")
    replaced(cj, line, line[:-8])


def _moved_name(cj: Coinjar) -> None:
    replaced(cj, line_of(cj, "all TOKEN"), line_of(cj, "all OTHER").replace("OTHER", "TOKEN"))


def _moved_service(cj: Coinjar) -> None:
    cj("put", "TOKEN", "--stage", "prod", "--service", "web", stdin="web's")
    own, common = line_of(cj, "web TOKEN"), line_of(cj, "all TOKEN")
    replaced(cj, own, common.replace("all TOKEN", "web TOKEN"))


def _moved_stage(cj: Coinjar) -> None:
    replaced(cj, line_of(cj, "all TOKEN"), line_of(cj, "all TOKEN", "dev"))


def _moved_stage_with_key(cj: Coinjar) -> None:
    _moved_stage(cj)
    shutil.copy(cj.folder / "jar/coins/keys/dev.all.age", cj.folder / "jar/coins/keys/prod.all.age")


def _earlier_key(cj: Coinjar) -> None:
    line = line_of(cj, "all TOKEN")
    cj("readers", "rekey")
    replaced(cj, line_of(cj, "all TOKEN"), line)


def _swapped_key(cj: Coinjar) -> None:
    """A key of the attacker's, wrapped for everybody: recipients are no secret."""
    line = line_of(cj, "all TOKEN")
    text = f"data {line.split()[2]} {'ab' * 32}\nnaming {'cd' * 32}\n".encode()
    recipients = [pyrage.x25519.Recipient.from_str(RECIPIENT), ATTACKER.to_public()]
    (cj.folder / "jar/coins/keys/prod.all.age").write_bytes(pyrage.encrypt(text, recipients, armored=True))


def _swapped_key_and_vouched(cj: Coinjar) -> None:
    """The same, and the list of readers approved with a key of the attacker's."""
    _swapped_key(cj)
    _swapped_approval(cj)


def _swapped_approval(cj: Coinjar) -> None:
    key = ApprovalKey(b"\xab" * 32)
    recipients = [pyrage.x25519.Recipient.from_str(RECIPIENT), ATTACKER.to_public()]
    path = cj.folder / "jar/coins/approvals/prod.age"
    path.write_bytes(pyrage.encrypt(key.text(), recipients, armored=True))
    line = approve(key.key, "trial", "prod", load_readers(cj.folder / "jar").rows("prod"))
    cj.write({"jar/readers.yaml": re.sub(r"(  prod: )\w+ \w+", rf"\g<1>{line}", cj.read("jar/readers.yaml"))})


CHANGES: dict[str, tuple[Callable[[Coinjar], None], int, str]] = {
    "a changed byte": (_flipped, 4, "TOKEN cannot be decrypted: it was changed"),
    "a truncated line": (_cut, 3, "this line is not a sealed value: it is truncated"),
    "a truncated line that is base64": (_cut_whole, 4, "TOKEN cannot be decrypted: it was changed"),
    "moved to another name": (_moved_name, 4, "belongs to another name, service, stage or application"),
    "moved to another service": (_moved_service, 4, "TOKEN is encrypted with another key"),
    "moved to another stage": (_moved_stage, 4, "TOKEN is encrypted with another key"),
    "moved to another stage with its key": (
        _moved_stage_with_key,
        4,
        "belongs to another name, service, stage or application",
    ),
    "sealed under an earlier key": (
        _earlier_key,
        4,
        "encrypted with another key than jar/coins/keys/prod.all.age contains: an earlier key",
    ),
    "a swapped key": (_swapped_key, 4, "TOKEN cannot be decrypted: it was changed"),
    "a swapped key that vouches": (_swapped_key_and_vouched, 4, "TOKEN cannot be decrypted: it was changed"),
}


@pytest.mark.parametrize("change", CHANGES)
def test_a_change_by_somebody_who_cannot_read_is_noticed(jar_with_secrets: Coinjar, change: str) -> None:
    """On reading, by `check`, and before anything is sealed or wrapped under what may not be ours."""
    cj = jar_with_secrets
    attack, code, words = CHANGES[change]
    attack(cj)
    done = cj("value", "prod", "TOKEN", "--service", "web", code=code)
    assert words in done.err
    assert re.match(r"jar/coins/prod\.coins:\d+:1: ", done.err)
    checked = cj("check", code=None)
    assert words in checked.out + checked.err
    service = ["--service", "web"] if "service" in change else []
    before = {
        path: path.read_bytes() for path in (cj.folder / "jar").rglob("*") if path.is_file() and path.name != "lock"
    }
    for command in (
        ["put", "OTHER", "--stage", "prod", *service],
        ["readers", "rekey", "--stage", "prod"],
        ["readers", "add", str(ATTACKER.to_public()), "--label", "x", "--stage", "prod", "--yes"],
    ):
        assert cj(*command, stdin="made-up new", code=None).code in (3, 4), command
    assert {
        path: path.read_bytes() for path in (cj.folder / "jar").rglob("*") if path.is_file() and path.name != "lock"
    } == before


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
                    _swapped_approval(cj)
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


@pytest.mark.parametrize(
    "text",
    [
        "",
        "data",
        "naming\n",
        f"data 00000000 {'ab' * 16}\n",
        f"data 00000000 {'ab' * 32}\nearlier 00000000 ab\n",
        "\xe9",
        "x" * 100_000,
    ],
)
def test_key_files_with_anything_in_them(jar_with_secrets: Coinjar, text: str) -> None:
    recipient = pyrage.x25519.Recipient.from_str(RECIPIENT)
    (jar_with_secrets.folder / "jar/coins/keys/prod.all.age").write_bytes(
        pyrage.encrypt(text.encode("latin-1"), [recipient])
    )
    for command in (
        ["value", "prod", "TOKEN"],
        ["put", "TOKEN", "--stage", "prod"],
        ["readers", "rekey"],
        ["edit", "prod"],
    ):
        assert (
            "the key of the secrets of prod is damaged or not a key"
            in jar_with_secrets(*command, stdin="x", code=4, env={"EDITOR": "true"}).err
        )


def test_values_with_anything_in_them(jar_with_secrets: Coinjar) -> None:
    """Sealed under the right key, by somebody who has it, but not as we would."""
    cj = jar_with_secrets
    me = pyrage.x25519.Identity.from_str(reveal(IDENTITY))
    key = bytes.fromhex(
        pyrage.decrypt((cj.folder / "jar/coins/keys/prod.all.age").read_bytes(), [me]).decode().split()[2]
    )
    for plain in (b"", b"\0" * 32, b"?made-up", b"$made-up ${canary@nope}", b"$${NOPE}x", b"=\xff", b"-made-up"):
        sealed = b64encode(
            b"n" * 12 + ChaCha20Poly1305(key).encrypt(b"n" * 12, plain, associated("trial", "prod", "all", "TOKEN"))
        ).decode()
        line = line_of(cj, "all TOKEN")
        replaced(cj, line, f"{line.rpartition(' ')[0]} {sealed}")
        message = cj("value", "prod", "TOKEN", code=4).err
        assert "cannot be decrypted" in message or "refers to NOPE, which is not declared" in message, (plain, message)
        assert "canary" not in message
        cj("grid")


def test_a_broken_value_can_be_put_anew_where_others_stand_for_the_key(jar_with_secrets: Coinjar) -> None:
    cj = jar_with_secrets
    _flipped(cj)
    cj("put", "TOKEN", "--stage", "prod", stdin="made-up new")
    assert cj("value", "prod", "TOKEN").out == "made-up new"
    cj("drop", "OTHER", "--stage", "prod")
    _flipped(cj)
    assert (
        "cannot be decrypted" in cj("put", "TOKEN", "--stage", "prod", stdin="x", code=4).err
    )  # nothing stands for the key any more


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
    _swapped_approval(cj)
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


def test_files_that_are_not_what_they_should_be(jar_with_secrets: Coinjar) -> None:
    """Identities that others read, symlinks, bombs, huge things."""
    cj = jar_with_secrets
    cj.write({"me": reveal(IDENTITY), "outside": cj.read("jar/coins/prod.coins")})
    (cj.folder / "me").chmod(0o640)
    message = cj("value", "prod", "TOKEN", env={"COINJAR_IDENTITY": "", "COINJAR_IDENTITY_FILE": "me"}, code=4).err
    assert "others can read this identity (mode 0640), so it is not used" in message
    assert "`chmod 600 me`" in message
    for name in ("coins/prod.coins", "coins/keys/prod.all.age", "readers.yaml", "coins/keys", "coins"):
        path, aside = cj.folder / "jar" / name, cj.folder / "aside"
        path.rename(aside)
        path.symlink_to(aside)
        assert (
            "it is a symlink, which is not followed here"
            in cj("put", "TOKEN", "--stage", "prod", stdin="x", code=3).err
        ), name
        path.unlink()
        aside.rename(path)
    link = cj.folder / "link"
    link.symlink_to("elsewhere")
    assert "there is already an identity" in cj("identity", "new", "--out", "link", code=3).err
    assert not (cj.folder / "elsewhere").exists()
    bomb = "a: &a [x, x, x, x, x, x, x, x, x]\n" + "".join(
        f"{chr(98 + n)}: &{chr(98 + n)} [{', '.join(['*' + chr(97 + n)] * 9)}]\n" for n in range(9)
    )
    readers = cj.read("jar/readers.yaml")
    for text in (
        f"readers: {{x: {{recipient: age1, opens: *a}}}}\n{bomb}",
        bomb,
        "readers: [1]\n",
        "readers: {x: null}\n",
        "\0",
        "readers: {'\x1b[31mred': {recipient: age1}}\n",
    ):
        cj.write({"jar/readers.yaml": text})
        done = cj("readers", "list", code=None)
        assert "\x1b" not in done.err
        assert done.code in (0, 3)
    cj.write({"jar/readers.yaml": readers})
    assert "over 10 Mi characters" in cj("put", "TOKEN", "--stage", "prod", stdin="x" * (10 << 20) + "y", code=3).err
    cj.write({"jar/coins/dev.coins": "# coins 1\n" + f"all TOKEN 00000000 {'AAAA' * 1000}\n" * 17000})
    assert "has over 64 MiB" in cj("value", "dev", "TOKEN", code=3).err
    cj.write({"jar/coins/dev.coins": "binary\0"})
    assert "not a file of sealed values that this version reads" in cj("value", "dev", "TOKEN", code=3).err
    assert cj("value", "prod", "TOKEN").out == "made-up TOKEN of prod"


def test_terminals_get_no_escapes(jar_with_secrets: Coinjar) -> None:
    """In values, in sealed references, in names: nothing that moves a cursor, and nothing that ends a message early."""
    cj = jar_with_secrets
    evil = "\x1b]0;title\x07\x1b[2Jx\r\u202eabc"
    cj("put", "TOKEN", "--stage", "prod", stdin=evil)
    cj.write({"jar/plain/dev.yaml": 'all: {"\\u001b[31mRED": x}\n'})
    runs = (
        ["why", "prod", "TOKEN"],
        ["grid"],
        ["compare", "dev", "prod"],
        ["check"],
        ["readers", "list"],
        ["why", "prod", "TOKEN", "--show-secrets"],
    )
    for command in runs:
        done = cj(*command, code=None)
        assert not set("\x1b\x07\r\u202e") & set(done.out + done.err), command
    (cj.folder / "jar/plain/dev.yaml").unlink()
    for command in (["why", "prod", "TOKEN", "--show-secrets"], ["grid", "--show-secrets"], ["check"]):
        done = cj(*command, code=None)
        assert not set("\x1b\x07\r\u202e") & set(done.out + done.err), command
    shown = cj("why", "prod", "TOKEN", "--show-secrets").out
    assert "\\u001b]0;title" in shown
    assert cj("value", "prod", "TOKEN").out == evil
