"""Names by pattern, declarations and accepted findings without an editor: what a pattern means is shown before anything
happens, and a word that means nothing is an error.
"""

from __future__ import annotations

import json
from collections.abc import Callable

import pytest

from coinjar.core.errors import UsageError
from coinjar.core.name_patterns import matched, renamed_by_pattern
from tests.conftest import Coinjar

JAR = """\
services: {web: {}, worker: {}}
stages: {dev: {}, prod: {}}
variables:
  MAIL_HOST: {}  # beside
  MAIL_PORT: {kind: port}
  MAIL_KEY: {secret: true}
  MAX: {default: 3}
  BARE:
"""


@pytest.fixture
def mail(jar: Callable[..., Coinjar]) -> Coinjar:
    cj = jar(JAR, dev="all: {MAIL_HOST: h, MAIL_PORT: 25, MAX: 4}\nworker: {MAIL_PORT: 26}\n")
    cj("put", "MAIL_KEY", "--stage", "dev", stdin="made-up-key")
    return cj


@pytest.mark.parametrize(
    "words",
    [
        "drop MAIL_* --stage dev",
        "put --unset MAIL_* --stage dev",
        "generate MAIL_* --stage prod",
        "declare MA* --required",
    ],
)
def test_what_a_pattern_means_is_shown_before_it_acts(mail: Coinjar, words: str) -> None:
    before = {path: path.read_bytes() for path in (mail.folder / "jar").rglob("*") if path.is_file()}
    done = mail(*words.split(), code=1)
    assert "MAIL_KEY" in done.err
    assert ("MAX" in done.err) == ("MA*" in words)
    assert done.err.endswith("Nothing was written. Add --yes to write it.\n")
    assert {path: path.read_bytes() for path in (mail.folder / "jar").rglob("*") if path.is_file()} == before
    mail(*words.split(), "--yes")
    assert {path: path.read_bytes() for path in (mail.folder / "jar").rglob("*") if path.is_file()} != before


@pytest.mark.parametrize(
    "words",
    [
        "drop MIAL_* --stage dev --yes",
        "drop MAIL_* --stage prod --yes",
        "drop MIAL_* --everywhere --yes",
        "put --unset MIAL_* --stage dev --yes",
        "generate MAX* --stage prod --yes",
        "value dev MIAL_*",
        "declare MIAL_* --required --yes",
        "rename MIAL_* SMTP_* --yes",
    ],
)
def test_a_pattern_that_means_nothing_is_an_error(mail: Coinjar, words: str) -> None:
    assert "matches" in mail(*words.split(), code=2).err


def test_values_of_several_names(mail: Coinjar) -> None:
    done = mail("value", "dev", "MAIL_*", "MAX")
    assert done.out.splitlines()[1:] == [
        "MAIL_HOST           h",
        "MAIL_PORT (web)     25",
        "MAIL_PORT (worker)  26",
        "MAIL_KEY            •••• 11 chars #1",
        "MAX                 4",
    ]
    rows = json.loads(mail("value", "dev", "MAIL_KEY", "--json").out)["values"]
    assert rows[0]["value"] is None
    assert "made-up" not in json.dumps(rows)
    assert "(no value)" in mail("value", "prod", "MAIL_*", code=1).out


def test_several_are_renamed_by_a_pair_of_patterns(mail: Coinjar) -> None:
    mail("rename", "MAIL_*", "SMTP_*", "--yes")
    assert mail("value", "dev", "SMTP_KEY").out == "made-up-key"
    assert "SMTP_HOST: {formerly: [MAIL_HOST]}  # beside" in mail.read("jar/jar.yaml")
    assert "exactly one *" in mail("rename", "SMTP_*", "X", "--yes", code=2).err


def test_patterns_of_names() -> None:
    names = ["A_X", "A_Y", "B", "A*"]
    assert matched(["A_*", "B"], names) == ["A_X", "A_Y", "B"]
    assert matched(["A*"], names) == ["A*"]  # a name that is written like a pattern
    assert renamed_by_pattern("A_*", "*_A", ["A_X", "A_Y", "B"]) == {"A_X": "X_A", "A_Y": "Y_A"}
    with pytest.raises(UsageError):
        renamed_by_pattern("A_?", "B_*", names)


def test_declarations_change_key_by_key(mail: Coinjar) -> None:
    mail("declare", "MAIL_HOST", "--about", "Where: mail # goes", "--kind", "host", "-s", "worker", "--required")
    line = "MAIL_HOST: {about: 'Where: mail # goes', kind: host, services: [worker], required: true}  # beside"
    assert line in mail.read("jar/jar.yaml")
    mail("declare", "MAIL_HOST", "--remove", "services", "--remove", "required", "--stage", "dev")
    line = "MAIL_HOST: {about: 'Where: mail # goes', kind: host, stages: [dev]}  # beside"
    assert line in mail.read("jar/jar.yaml")
    mail("declare", "BARE", "NEW", "--default", "1.10")
    assert "already declared so" in mail("declare", "BARE", "NEW", "--default", "1.10").err
    assert mail("value", "prod", "NEW").out == "1.10"
    assert "readers seal" in mail("declare", "MAX", "--secret", "--remove", "default").err


@pytest.mark.parametrize(
    ("words", "fault"),
    [
        ("MAX --kind prot", "did you mean 'port'?"),
        ("MAX --remove defualt", "did you mean 'default'?"),
        ("MAX -s wob", "there is no service or set 'wob'"),
        ("MAX --stage prd", "there is no stage 'prd'"),
        ("NEW --secret --default x", "a secret has no default"),
        ("MAX --kind choice", "the kind choice needs its choices"),
        ("A=B --kind port", "a variable's name contains no"),
    ],
)
def test_a_wrong_declaration_changes_nothing(mail: Coinjar, words: str, fault: str) -> None:
    before = mail.read("jar/jar.yaml")
    done = mail("declare", *words.split(), code=None)
    assert done.code in (2, 3)
    assert fault in done.err
    assert mail.read("jar/jar.yaml") == before


def test_a_finding_is_accepted_with_a_reason(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}, prod: {}}\nvariables: {A: {default: x}, B: {default: y}}\n",
        dev="all: {A: x, B: y}\n",
    )
    assert cj("check").out.startswith("0 errors, 2 warnings")
    assert "a reason is needed" in cj("accept", "CJ013", "A", code=2).err
    assert "accepted 1 finding" in cj("accept", "CJ013", "A", "--reason", "by hand: #1").err
    assert cj("check").out.startswith("0 errors, 1 warning (1 accepted)")
    assert "accepted already" in cj("accept", "CJ013", "A", "--reason", "x", code=2).err
    assert "no such finding" in cj("accept", "CJ013", "B", "--stage", "prod", "--reason", "x", code=2).err
    assert "did you mean" in cj("accept", "CJ0130", "B", "--reason", "x", code=2).err
    assert "there is no variable" in cj("accept", "CJ013", "C", "--reason", "x", code=2).err


def test_a_dry_run_of_put_and_generate_checks_and_writes_nothing(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables:\n  PORT: {kind: port}\n  A_TOKEN: {secret: true}\n",
        dev="all: {PORT: 1}\n",
    )
    cj("put", "A_TOKEN", "--stage", "dev", stdin="made-up")
    before = {path: path.read_bytes() for path in (cj.folder / "jar").rglob("*") if path.is_file()}
    assert "can be set on dev" in cj("put", "PORT=2", "--stage", "dev", "--dry-run", code=1).err
    cj("put", "PORT=x", "--stage", "dev", "--dry-run", code=3)
    cj("put", "NEW=x", "--declare", "--stage", "dev", "--dry-run", code=1)
    assert "PORT" in cj("put", "--unset", "P*", "--stage", "dev", "--dry-run", code=1).err
    shown = cj("generate", "*_TOKEN", "--stage", "dev", "--replace", "--dry-run", code=1).err
    assert "1 variable: A_TOKEN" in shown
    assert before == {path: path.read_bytes() for path in (cj.folder / "jar").rglob("*") if path.is_file()}
