"""`{from_jar: PATH, name: NAME}`: a value of another application's jar, read after a consent."""

from __future__ import annotations

import json

import pytest

from tests.conftest import Coinjar

HARBOUR = (
    "coinjar: 1\napp: harbour\nservices: {web: {}, crane: {}}\nstages: {dev: {}, prod: {}}\n"
    "variables: {HOST: {default: quay.example}, LEVEL: {}, TOKEN: {secret: true}, "
    "LINK: {default: {text: 'x-${HOST}'}}}\n"
)
PIER = (
    "coinjar: 1\napp: pier\nservices: {web: {}}\nstages: {dev: {}, prod: {}, trial: {}}\n"
    "variables:\n  HARBOUR: {default: {from_jar: ../harbour, name: HOST}}\n  MINE: {}\n  TOKEN: {secret: true}\n"
)


@pytest.fixture
def shore(cj: Coinjar) -> Coinjar:
    cj.needs_consents = True
    cj.write({"harbour/jar/jar.yaml": HARBOUR, "pier/jar/jar.yaml": PIER})
    cj.write({"harbour/jar/plain/prod.yaml": "all: {HOST: prod.example}\nweb: {LEVEL: low}\ncrane: {LEVEL: high}\n"})
    return cj


def of_pier(cj: Coinjar, *words: str, code: int = 0, consented: bool = False) -> str:
    done = cj(*words, "--jar", "pier/jar", code=code, consented=consented)
    return done.out + done.err


def set_mine(cj: Coinjar, form: str, stage: str = "prod") -> None:
    cj.write({f"pier/jar/plain/{stage}.yaml": f"all: {{MINE: {form}}}\n"})


def agree(cj: Coinjar, *jars: str) -> None:
    for name in jars:
        cj("consent", "--yes", "--jar", f"{name}/jar", consented=False)


def test_it_is_read_after_a_consent_and_follows_the_stage(shore: Coinjar) -> None:
    assert "needs your consent: reads HOST of the jar ../harbour" in of_pier(shore, "value", "prod", "HARBOUR", code=3)
    agree(shore, "pier")
    assert of_pier(shore, "value", "prod", "HARBOUR") == "prod.example"
    assert of_pier(shore, "value", "dev", "HARBOUR") == "quay.example"
    assert "in ../harbour there is no stage 'trial'" in of_pier(shore, "value", "trial", "HARBOUR", code=3)
    for form, wanted in (
        ("{from_jar: ../harbour/jar, name: HOST, stage: dev}", "quay.example"),
        ("{from_jar: ../harbour, name: LINK}", "x-prod.example"),
        ("{from_jar: ../harbour, name: LEVEL, service: crane}", "high"),
    ):
        set_mine(shore, form)
        assert "needs your consent" in of_pier(shore, "value", "prod", "MINE", code=3), "another value is another act"
        agree(shore, "pier")
        assert of_pier(shore, "value", "prod", "MINE") == wanted
    assert "other jar: LEVEL in ../harbour" in of_pier(shore, "why", "prod", "MINE")
    shore.write({"harbour/jar/plain/prod.yaml": "all: {HOST: new.example}\n"})
    assert of_pier(shore, "value", "prod", "HARBOUR") == "new.example"


@pytest.mark.parametrize(
    ("form", "code", "fault"),
    [
        ("{from_jar: ../harbour, name: LEVEL}", 3, "services have different values of it there"),
        ("{from_jar: ../harbour, name: NOPE}", 3, "in ../harbour there is no variable 'NOPE'"),
        ("{from_jar: ../harbour, name: HOST, service: nope}", 3, "in ../harbour there is no service 'nope'"),
        ("{from_jar: ../harbour, name: LEVEL, stage: dev}", 3, "has no value on dev"),
        ("{from_jar: ../nowhere, name: HOST}", 3, "there is no jar.yaml"),
        ("{from_jar: ../harbour}", 3, "has no name"),
        ("{from_env: X, service: web}", 3, "'service' is allowed only with 'from_jar'"),
    ],
)
def test_what_cannot_be_read(shore: Coinjar, form: str, code: int, fault: str) -> None:
    set_mine(shore, form)
    assert fault in of_pier(shore, "value", "prod", "MINE", code=code, consented=True)


def test_a_secret_stays_one(shore: Coinjar) -> None:
    shore("put", "TOKEN", "--stage", "prod", "--jar", "harbour/jar", stdin="made-up-of-the-harbour")
    set_mine(shore, "{from_jar: ../harbour, name: TOKEN}")
    agree(shore, "pier", "harbour")
    refused = of_pier(shore, "value", "prod", "MINE", code=3)
    assert "MINE is a secret there" in refused
    assert "made-up" not in refused
    shore.write({"pier/jar/plain/prod.yaml": "all: {TOKEN: {from_jar: ../harbour, name: TOKEN}}\n"})
    agree(shore, "pier")
    assert of_pier(shore, "value", "prod", "TOKEN") == "made-up-of-the-harbour"
    shown = of_pier(shore, "grid", "prod") + of_pier(shore, "why", "prod", "TOKEN") + of_pier(shore, "report", "--json")
    assert "made-up" not in shown
    shore.env.pop("COINJAR_IDENTITY")
    assert "made-up" not in of_pier(shore, "value", "prod", "TOKEN", code=4)


def test_jars_that_refer_to_each_other(shore: Coinjar) -> None:
    shore.write({"harbour/jar/plain/prod.yaml": "all: {HOST: {from_jar: ../pier, name: HARBOUR}}\n"})
    agree(shore, "pier", "harbour")
    assert "jars refer to each other's" in of_pier(shore, "value", "prod", "HARBOUR", code=3)


def test_checking_reads_no_other_jar_without_consent(shore: Coinjar) -> None:
    shore.write({"harbour/jar/jar.yaml": "not: [a, jar"})
    done = shore("check", "--json", "--jar", "pier/jar", code=None, consented=False)
    assert "not YAML" not in done.out + done.err
    assert json.loads(done.out)["findings"] is not None
    assert "were not read" in done.err or "not read" in done.err


def test_other_forms_survive_an_edit(shore: Coinjar) -> None:
    set_mine(shore, "{from_jar: ../harbour, name: HOST, stage: dev}")
    agree(shore, "pier")
    of_pier(shore, "rename", "MINE", "OURS", "--yes")
    of_pier(shore, "stages", "copy", "prod", "twin", "--yes")
    agree(shore, "pier")
    assert of_pier(shore, "value", "twin", "OURS") == "quay.example"
    of_pier(shore, "promote", "prod", "dev", "OURS", "--yes")
    agree(shore, "pier")
    assert of_pier(shore, "value", "dev", "OURS") == "quay.example"


def test_a_machine_consents_to_both_by_their_digests(shore: Coinjar) -> None:
    shore("put", "TOKEN", "--stage", "prod", "--jar", "harbour/jar", stdin="made-up-of-the-harbour")
    shore.write({"pier/jar/plain/prod.yaml": "all: {TOKEN: {from_jar: ../harbour, name: TOKEN}}\n"})
    digests = [
        json.loads(shore("consent", "--show", "--json", "--jar", f"{name}/jar", code=None, consented=False).out)[
            "digest"
        ]
        for name in ("pier", "harbour")
    ]
    for name in ("pier", "harbour"):
        shore("consent", "--withdraw", "--jar", f"{name}/jar", consented=False, code=None)
    for given, code in ((digests[:1], 4), (digests[1:], 3), (digests, 0)):
        shore.env["COINJAR_CONSENT"] = ",".join(given)
        shown = of_pier(shore, "value", "prod", "TOKEN", code=code)
        assert (shown == "made-up-of-the-harbour") == (code == 0)
