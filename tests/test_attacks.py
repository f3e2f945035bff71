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
from coinjar.crypto.sealing import associated
from tests.attacker import ATTACKER, line_of, replaced, swapped_approval
from tests.conftest import IDENTITY, RECIPIENT, Coinjar


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
    swapped_approval(cj)


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
