"""Sealed values and their readers: the format, who opens what, what changes and what stays, how values are made."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

import coinjar
from coinjar.core.secret import Secret, reveal
from coinjar.crypto.age import new_identity
from tests.conftest import IDENTITY, RECIPIENT, SEALED, Coinjar, on_a_terminal
from tests.consumers import need
from tests.jars import readers_of, somebody


def test_age_and_twenty_lines_open_a_jar(prod: Coinjar) -> None:
    """The program that docs/formats.md shows, run without Coin Jar."""
    page = (Path(__file__).parent.parent / "docs/formats.md").read_text()
    program = re.findall(r"```python\n(.*?)```", page, re.DOTALL)[-1]
    assert "import coinjar" not in program
    assert len([line for line in program.splitlines() if line.strip()]) <= 22
    prod.write({"open.py": program, "me": reveal(IDENTITY) + "\n"})
    env = {"PATH": f"{Path(need('age')).parent}:/usr/bin:/bin"}
    for service, name in (("web", "TOKEN"), ("mailer", "TOKEN"), ("mailer", "LOGIN"), ("web", "BOTH")):
        argv = [sys.executable, "-I", "open.py", "jar", "trial", "prod", service, name, "me"]
        done = subprocess.run(argv, cwd=prod.folder, env=env, capture_output=True, text=True, check=False)
        assert done.stdout == f"made-up {name} on prod é$", done.stderr


def test_only_what_changed_changes(prod: Coinjar) -> None:
    before = prod.read("jar/coins/prod.coins").splitlines()
    assert [line.split()[:2] for line in before if line and not line.startswith("#")] == [
        ["mailer", "BOTH"],
        ["web", "BOTH"],
        ["mailer", "LOGIN"],
        ["all", "TOKEN"],
    ]
    prod("put", "LOGIN", "--stage", "prod", stdin="another")
    after = prod.read("jar/coins/prod.coins").splitlines()
    assert [name for name, other in zip(before, after, strict=True) if name != other] == [
        next(line for line in before if "mailer LOGIN" in line)
    ]
    prod("drop", "LOGIN", "--stage", "prod")
    assert "LOGIN" not in prod.read("jar/coins/prod.coins").replace("# LOGIN", "")
    assert "no value" in prod("value", "prod", "LOGIN", code=1).err
    for content, message in (("x" * 7, 88), ("x" * 20, 88), ("x" * 21, 132)):  # lengths are rounded up to 32 bytes
        prod("put", "TOKEN", "--stage", "prod", stdin=content)
        assert (
            len(prod.read("jar/coins/prod.coins").split(" all TOKEN ")[-1].split("all TOKEN ")[-1].split()[1])
            <= message
        )
        assert prod("value", "prod", "TOKEN").out == content


def test_references_and_unset_are_sealed_too(prod: Coinjar) -> None:
    prod("put", "TOKEN", "--text", "--stage", "dev", stdin="a-$$-${LEVEL}")
    assert prod("value", "dev", "TOKEN").out == "a-$-info"
    assert prod("value", "dev", "URL").out == "x://a-%24-info/"
    prod("put", "BOTH", "--unset", "--stage", "prod-isles", "--service", "web")
    assert "unset on purpose" in prod("value", "prod-isles", "BOTH", "--service", "web", code=1).err
    assert prod("value", "prod-isles", "BOTH", "--service", "mailer").out == "made-up BOTH on prod é$"
    assert not (prod.folder / "jar/plain").exists()
    prod("put", "TOKEN", "--mine", "--stage", "dev", stdin="my own")
    assert (prod.folder / "jar/.local/dev.yaml").stat().st_mode & 0o77 == 0


def test_who_opens_what(prod: Coinjar) -> None:
    """A colleague, a service, a leaver: what each opens, what others keep, what is told."""
    berta, recipient = somebody(prod, "berta")
    denied = prod("value", "prod", "TOKEN", code=4, env=berta)
    assert "is not among its readers" in denied.err
    assert "berta.identity" in denied.err
    assert "its readers are root" in denied.err
    shown = prod("readers", "add", recipient, "--label", "berta", "--stage", "prod-isles", code=1)
    assert "berta" in shown.err
    assert "can decrypt all values of shared, prod, prod-isles: 3 values now" in shown.err
    assert "berta" not in prod.read("jar/readers.yaml")
    prod("readers", "add", recipient, "--label", "berta", "--stage", "prod-isles", "--yes")
    assert prod("value", "prod-isles", "TOKEN", env=berta).out == "made-up TOKEN on prod é$"
    mailer, recipient = somebody(prod, "mailer")
    prod("readers", "add", recipient, "--label", "mailer-prod", "--stage", "prod", "--service", "mailer", "--yes")
    data = json.loads(prod("render", "prod", "-s", "mailer", "--as", "json", env=mailer).out)
    assert data == {
        "TOKEN": "made-up TOKEN on prod é$",
        "LOGIN": "made-up LOGIN on prod é$",
        "BOTH": "made-up BOTH on prod é$",
        "LEVEL": "info",
    }
    assert "prod.web.age" in prod("render", "prod", "-s", "web", "--as", "json", code=4, env=mailer).err
    assert "prod.web.age" in prod("readers", "rekey", "--stage", "prod", code=4, env=mailer).err
    assert {reader["label"]: reader["opens"] for reader in readers_of(prod)}["mailer-prod"] == ["shared", "prod"]
    assert {stage["state"] for stage in json.loads(prod("readers", "list", "--json").out)["stages"]} == {"approved"}
    assert "◐" in prod("readers", "list", env={"COINJAR_IDENTITY": ""}).out
    prod(
        "put", "BOTH", "--stage", "shared", stdin="x"
    )  # a new scope: it goes to those who read shared, and not to others
    assert prod("value", "prod-isles", "BOTH", "-s", "web", env=berta).out == "made-up BOTH on prod é$"
    done = prod("readers", "remove", "berta", "--everywhere", "--generate", "--yes")
    assert "prod: replaced: LOGIN" in done.err
    assert "prod: still to be replaced: BOTH, TOKEN" in done.err
    assert prod("value", "prod", "TOKEN", code=4, env=berta).out == ""
    assert prod("value", "prod", "TOKEN", env=mailer).out == "made-up TOKEN on prod é$"
    assert len(prod("value", "prod", "LOGIN", env=mailer).out) == 24
    assert "its secrets would be lost" in prod("readers", "remove", _first(prod), "--stage", "prod", code=2).err
    assert "there is no reader 'mailr-prod'" in prod("readers", "remove", "mailr-prod", "--everywhere", code=2).err


def _first(cj: Coinjar) -> str:
    return next(str(reader["label"]) for reader in readers_of(cj) if reader["recipient"] == RECIPIENT)


def _rules(value: str) -> set[str]:
    return {
        finding["rule"] for finding in json.loads(value)["findings"] if finding["stage"] in (None, "prod", "prod-isles")
    }


def test_names_work_without_an_identity(prod: Coinjar) -> None:
    """What only needs names shows that a value is sealed; what needs values ends with 4, once a key and not once a
    value.
    """
    nobody = {"COINJAR_IDENTITY": ""}
    assert re.search(r"TOKEN +\? +– +□ encrypted +□ encrypted\n", prod("grid", "--name", "TOKEN", env=nobody).out)
    assert json.loads(prod("grid", "--json", env=nobody).out)["rows"][0]["cells"]["prod"]["state"] == "sealed"
    assert "encrypted for others" in prod("why", "prod", "TOKEN", env=nobody).out
    assert "? TOKEN" in re.sub(" +", " ", prod("compare", "dev", "prod", env=nobody, code=1).out)
    more = "  OPTION: {only_with: [TOKEN=x]}\ntogether: {pair: [TOKEN, LEVEL]}\n"
    prod.write({"jar/jar.yaml": prod.read("jar/jar.yaml") + more, "jar/plain/prod.yaml": "all: {OPTION: y}\n"})
    assert "CJ005" in _rules(prod("check", "--json", code=1).out)
    checked = prod("check", env=nobody, code=1)
    assert "4 secrets were not checked" in checked.err
    assert not {"CJ004", "CJ005", "CJ013"} & _rules(prod("check", "--json", env=nobody, code=1).out)
    assert prod("render", "prod", "-s", "web", "--as", "example", env=nobody).out.count("=change-me") == 2
    refused = prod("within", "prod", "-s", "web", "--", "true", env=nobody, code=4)
    assert refused.err.count("cannot decrypt the secrets of prod") == 1
    assert "create one with `coinjar identity new`" in refused.err
    assert "identity new" in prod("put", "TOKEN", "--stage", "dev", stdin="x", env=nobody, code=4).err
    prod("readers", "list", env=nobody)


def test_destinations_that_only_name_secrets_need_no_identity(jar: Callable[..., Coinjar]) -> None:
    """A reference in a secret's place, secrets left out, variables that are not secret: only a text that is written
    must open.
    """
    places = "{type: file, as: json, services: [web], path: PATH.json"
    destinations = {
        "named": ", secrets: 'vault/{name}'}",
        "plain": ", plain_only: true}",
        "few": ", variables: [LEVEL]}",
        "whole": "}",
    }
    cj = jar(
        SEALED
        + "destinations:\n"
        + "".join(f"  {name}: {places.replace('PATH', name)}{rest}\n" for name, rest in destinations.items())
    )
    cj("put", "TOKEN", "--stage", "prod", stdin="made-up")
    nobody = {"COINJAR_IDENTITY": ""}
    cj("render", "prod", "named", "plain", "few", env=nobody)
    environment = {name: json.loads(cj.read(f"{name}.json")) for name in ("named", "plain", "few")}
    assert environment == {
        "named": {"TOKEN": "vault/TOKEN", "URL": "vault/URL", "LEVEL": "info"},
        "plain": {"LEVEL": "info"},
        "few": {"LEVEL": "info"},
    }
    assert "cannot decrypt the secrets of prod" in cj("render", "prod", "whole", env=nobody, code=4).err
    cj("render", "prod", "named", "plain", "few", "--verify")  # with an identity they are the same
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("services: [mailer], g", "services: [], g")})
    assert "LOGIN has no services" in cj("put", "LOGIN", "--stage", "prod", stdin="x", code=3).err


def test_identities_of_every_sort(prod: Coinjar, monkeypatch: pytest.MonkeyPatch) -> None:
    """X25519 and SSH ed25519, in a variable, a file, the configuration folder, under a passphrase of either sort."""
    keygen = need("ssh-keygen")
    for name, phrase in (("open", ""), ("locked", "made up phrase")):
        subprocess.run(
            [keygen, "-q", "-t", "ed25519", "-N", phrase, "-C", "somebody@example", "-f", prod.folder / name],
            check=True,
        )
        prod("readers", "add", f"{name}.pub", "--label", name, "--stage", "prod", "--yes")
    plain = {"COINJAR_IDENTITY": ""}
    given = {"COINJAR_PASSPHRASE": "made up phrase"}
    table: list[tuple[dict[str, str], int]] = [
        ({"COINJAR_IDENTITY_FILE": "open"}, 0), ({"COINJAR_IDENTITY": prod.read("open")}, 0),
        ({"COINJAR_IDENTITY_FILE": "locked", **given}, 0),
        ({"COINJAR_IDENTITY_FILE": "locked"}, 4),
        ({"COINJAR_IDENTITY_FILE": "locked", "COINJAR_PASSPHRASE": "wrong"}, 4),
        ({"COINJAR_IDENTITY_FILE": "nowhere"}, 4),
        ({"COINJAR_IDENTITY": "no key at all"}, 4), ({"COINJAR_IDENTITY": "\udcff"}, 4),
        ({"COINJAR_IDENTITY_FILE": "locked", "COINJAR_PASSPHRASE": "\udcff"}, 4), ({}, 4),
    ]  # fmt: skip
    for env, code in table:
        done = prod("value", "prod", "TOKEN", env=plain | env, code=code)
        assert (done.out == "made-up TOKEN on prod é$") is (code == 0), env
    result = prod("identity", "new", "--passphrase", env=given)
    assert (prod.folder / ".config/coinjar/identity").stat().st_mode & 0o777 == 0o600
    assert prod("identity", "show", env=plain | given).out == result.out
    prod("readers", "add", result.out.strip(), "--label", "me", "--stage", "prod", "--yes")
    assert prod("value", "prod", "TOKEN", env=plain | given).out == "made-up TOKEN on prod é$"
    monkeypatch.setenv("COINJAR_IDENTITY_FILE", str(prod.folder / "locked"))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(prod.folder / ".config"))
    resolution = coinjar.open_jar(
        prod.folder / "jar", ask=lambda what: "made up phrase" if what.endswith("locked") else None
    ).resolve("prod", service="web")
    assert resolution.environment()["TOKEN"] == "made-up TOKEN on prod é$"
    assert "made-up" not in f"{resolution['TOKEN'].text} {resolution['TOKEN']!r}"
    with pytest.raises(coinjar.DecryptionError, match="which was not given"):
        coinjar.open_jar(prod.folder / "jar").resolve("prod", service="web")
    prod.env["COINJAR_IDENTITY"] = ""
    assert "made-up TOKEN" in on_a_terminal(prod, "value", "prod", "TOKEN", "--show-secrets", typed="made up phrase\n")
    assert "was not changed" in prod("identity", "new", code=3).err
    assert (
        "this is a private key"
        in prod("readers", "add", reveal(IDENTITY), "--label", "x", "--stage", "prod", code=2).err
    )


def test_what_was_plain_gets_sealed(jar: Callable[..., Coinjar]) -> None:
    """Turning `secret: true` on; a name that is both; other services than before."""
    plain = "all: {TOKEN: made-up-1}\nmailer: {TOKEN: made-up-2, LOGIN: change-me}\n"
    cj = jar(SEALED.replace("BOTH: {secret: true", "BOTH: {secret: true, default: made-up-3"), prod=plain)
    assert {
        finding["variable"]
        for finding in json.loads(cj("check", "--json", code=1).out)["findings"]
        if finding["rule"] == "CJ006"
    } == {"TOKEN", "BOTH"}
    done = cj("readers", "seal")
    assert "TOKEN: encrypted on prod, removed from jar/plain/prod.yaml" in done.err
    assert "still contains the old text, if jar/plain/prod.yaml or jar/jar.yaml" in done.err
    assert cj.read("jar/plain/prod.yaml") == "mailer: {LOGIN: change-me}\n"
    assert "made-up" not in cj.read("jar/jar.yaml")
    assert [cj("value", "prod", "TOKEN", "-s", name).out for name in ("web", "mailer")] == ["made-up-1", "made-up-2"]
    assert cj("value", "dev", "BOTH").out == "made-up-3"
    assert "Nothing to encrypt" in cj("readers", "seal").err
    cj.write({"jar/plain/prod.yaml": "all: {TOKEN: made-up-1}\n"})  # both: what is right?
    assert "also in plain text at jar/plain/prod.yaml:1:14" in cj("value", "prod", "TOKEN", "-s", "web", code=3).err
    cj("readers", "seal")
    cj.write({"jar/plain/prod.yaml": "all: {TOKEN: another}\n"})
    assert "TOKEN is also encrypted, with a different text" in cj("readers", "seal", code=3).err
    cj("put", "TOKEN", "--stage", "prod", stdin="settled")
    assert cj("value", "prod", "TOKEN", "-s", "web").out == "settled"
    cj.write(
        {
            "jar/jar.yaml": cj.read("jar/jar.yaml")
            .replace("TOKEN: {secret: true}", "TOKEN: {secret: true, services: [web]}")
            .replace("services: [mailer], g", "services: [mailer, web], g")
        }
    )
    assert "CJ031: TOKEN is encrypted for all services of prod, but declared for web" in cj("check", code=None).out
    assert "TOKEN has a value for mailer, which does not get the variable" in cj("check", code=None).out
    cj("readers", "seal")
    assert "web TOKEN" in cj.read("jar/coins/prod.coins")
    assert "all TOKEN" not in cj.read("jar/coins/prod.coins")


def test_what_a_service_has_of_its_own_stays_its_own(jar: Callable[..., Coinjar]) -> None:
    """A secret of two services: for all in plain text, and for one; sealed together, put for one of them, edited."""

    def seen() -> list[str]:
        return [cj("value", "prod", "BOTH", "-s", service).out for service in ("web", "mailer")]

    plain = "web: {BOTH: own}\nall: {BOTH: common}\n"
    cj = jar(SEALED, prod=plain)
    cj("readers", "seal")
    assert seen() == ["own", "common"]
    for put, expected in (
        (["--service", "web"], ["new", "common"]),
        (["--service", "mailer"], ["own", "new"]),
        ([], ["own", "new"]),
    ):
        shutil.rmtree(cj.folder / "jar/coins")
        cj.write({"jar/plain/prod.yaml": plain, "jar/readers.yaml": ""})
        cj("put", "BOTH", "--stage", "prod", *put, stdin="new")
        assert seen() == expected, put
        assert "BOTH" not in cj.read("jar/plain/prod.yaml")
    for script, expected in (
        ("s/BOTH: own/BOTH: edited/", ["edited", "new"]), ("$ a all:\\n  BOTH: wide", ["edited", "new"]),
        ("/^web:/,$ {s/^web:/all:/; s/BOTH: .*/BOTH: wide/}", ["wide", "new"]),
    ):  # fmt: skip
        cj("edit", "prod", env={"EDITOR": f"sed -i '{script}'"})
        assert seen() == expected, script


GENERATE: list[tuple[list[str], str, str]] = [
    (["TOKEN", "--stage", "dev"], r"[A-Za-z0-9]{40}", "40 characters, 238 bits"),
    (["TOKEN", "--stage", "dev", "--form", "hex", "--length", "33"], r"[0-9a-f]{33}", "33 characters, 132 bits"),
    (["TOKEN", "--stage", "dev", "--form", "base64"], r"[A-Za-z0-9+/]{44}", "44 characters, 264 bits"),
    (
        ["TOKEN", "--stage", "dev", "--form", "uuid"],
        r"[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}",
        "a uuid, 122 bits",
    ),
    (["TOKEN", "--stage", "dev", "--form", "words", "--length", "5"], r"(?:[a-z]{4}-){4}[a-z]{4}", "5 words, 60 bits"),
    (["TOKEN", "--stage", "dev", "--alphabet", "a-d_", "--length", "200"], r"[a-d_]{200}", "200 characters, 464 bits"),
    (["LOGIN", "--stage", "dev"], r"[A-Za-z0-9]{24}", "24 characters, 143 bits"),
]


@pytest.mark.parametrize(("arguments", "pattern", "expected"), GENERATE)
def test_generate(jar: Callable[..., Coinjar], arguments: list[str], pattern: str, expected: str) -> None:
    cj = jar(SEALED)
    done = cj("generate", *arguments)
    assert expected in done.err
    value = cj("value", "dev", arguments[0]).out
    assert re.fullmatch(pattern, value)
    assert value not in done.out + done.err
    assert ("can be guessed" in done.err) is ("60 bits" in expected)


def test_generate_replaces_nothing_in_use(prod: Coinjar) -> None:
    assert "TOKEN already has a value on prod" in prod("generate", "TOKEN", "--stage", "prod", code=2).err
    done = prod("generate", "TOKEN")
    assert "encrypted on dev" in done.err
    assert "kept on prod, prod-isles" in done.err
    prod("generate", "TOKEN", "--replace", "--yes")
    values = [prod("value", stage, "TOKEN").out for stage in ("dev", "prod", "prod-isles")]
    assert len(set(values)) == 3
    prod("generate", "TOKEN", "--yes", "--replace", "--same", "--stage", "dev", "--stage", "prod")
    assert len({prod("value", stage, "TOKEN").out for stage in ("dev", "prod")}) == 1
    for wrong in (
        ["--form", "runes"],
        ["--length", "3", "--form", "base64"],
        ["--alphabet", "x"],
        ["--alphabet", "abc", "--form", "hex"],
    ):
        prod("generate", "TOKEN", "--replace", *wrong, code=3)


def test_secrets_show_themselves_to_nobody() -> None:
    secret = Secret("made-up")
    by_percent, by_format = "%s" % secret, "{}".format(secret)  # noqa: UP031, UP032 - all the ways
    assert {str(secret), repr(secret), f"{secret}", f"{secret!r:>9}".strip(), by_percent, by_format} == {"••••"}
    assert (reveal(secret), secret == "made-up", len(secret), Secret(secret)) == ("made-up", True, 7, secret)
    assert reveal(Secret(secret)) == "made-up"
    key, recipient = new_identity()
    assert "AGE" not in f"{key} {key!r}"
    assert recipient.startswith("age1")
