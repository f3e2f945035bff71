"""Several jars for `check`, `drift` and `report`, as in a repository of many applications."""

from __future__ import annotations

import json
from pathlib import Path
from xml.etree import ElementTree

import pytest

from tests.conftest import Coinjar
from tests.systems import standin

STAGES = {"pier": "dev: {}, prod: {}", "crane": "dev: {}", "lamp": "dev: {}"}


@pytest.fixture
def shore(cj: Coinjar) -> Coinjar:
    """Three applications; one lacks a required value."""
    for app, stages in STAGES.items():
        needed = "{required: true}" if app == "crane" else "{default: x}"
        cj.write(
            {
                f"apps/{app}/jar/jar.yaml": f"coinjar: 1\napp: {app}\nservices: {{web: {{}}}}\nstages: {{{stages}}}\n"
                f"variables: {{HOST: {needed}}}\n"
            }
        )
    cj.write({"apps/README.md": "no jar", "apps/docs/about.txt": "none either"})
    return cj


def test_check_of_all_that_a_pattern_means(shore: Coinjar) -> None:
    done = shore("check", "--jar", "apps/*", code=1)
    names = [line for line in done.out.splitlines() if line.startswith("apps/") and ":" not in line]
    assert names == ["apps/crane/jar", "apps/lamp/jar", "apps/pier/jar"]
    assert "error CJ001: HOST is required and has no value on dev" in done.out
    jars = json.loads(shore("check", "--jar", "apps/*", "--json", code=1).out)["jars"]
    errors = {row["jar"]: [found["rule"] for found in row["findings"] if found["severity"] == "error"] for row in jars}
    assert errors == {"apps/crane/jar": ["CJ001"], "apps/lamp/jar": [], "apps/pier/jar": []}
    shore("check", "--jar", "apps/pier", "--jar", "apps/lamp/jar", "--jar", "apps/pier/jar")
    assert len(json.loads(shore("check", "--jar", "apps/[lp]*", "--json").out)["jars"]) == 2
    written = shore("check", "--jar", "apps/*", "--format", "junit", code=1).out
    suite = ElementTree.fromstring(written)  # noqa: S314 - it is ours
    assert suite.get("failures") == "1"
    sarif = json.loads(shore("check", "--jar", "apps/*", "--format", "sarif", code=1).out)
    assert any(found["ruleId"] == "CJ001" for found in sarif["runs"][0]["results"])


def test_one_jar_is_as_before(shore: Coinjar) -> None:
    alone = shore("check", "--jar", "apps/pier", "--json").out
    assert "findings" in json.loads(alone)
    assert json.loads(shore("check", "--jar", "apps/pi*", "--json").out) == json.loads(alone)


def test_what_means_no_jar_is_an_error(shore: Coinjar) -> None:
    assert "no folder that 'aps/*' means has a jar" in shore("check", "--jar", "aps/*", code=2).err
    assert "there is no jar.yaml" in shore("check", "--jar", "apps/pier", "--jar", "apps/docs", code=3).err


def test_a_jar_that_cannot_be_read_stops_no_other(shore: Coinjar) -> None:
    shore.write({"apps/crane/jar/plain/dev.yaml": "all: ["})
    done = shore("check", "--jar", "apps/*", "--summary", code=3)
    assert "this is not YAML" in done.err
    assert "apps/pier/jar" in done.out


def test_drift_of_those_that_have_the_stage(shore: Coinjar, tmp_path: Path) -> None:
    with standin("saltmarsh", tmp_path / "s", "pier-prod", "pier-dev", "lamp-dev") as salt:
        for app in ("pier", "lamp"):
            path = f"apps/{app}/jar/jar.yaml"
            target = (
                f"destinations:\n  salt: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}', "
                f"app: '{app}-{{stage}}', token: {{from_env: SALT}}}}\n"
            )
            shore.write({path: shore.read(path) + target})
        shore.env["SALT"] = salt.token
        shore("deliver", "dev", "--restart", "--jar", "apps/pier")
        done = shore("drift", "dev", "--jar", "apps/*", "--json", code=1)
        rows = {row["jar"]: row["targets"] for row in json.loads(done.out)["jars"]}
        assert "apps/crane/jar delivers to no running system" in done.err
        assert [target["in_effect"] for target in rows["apps/pier/jar"]] == [True]
        assert {one["state"] for one in rows["apps/lamp/jar"][0]["variables"]} >= {"not delivered"}
        shore("deliver", "prod", "--restart", "--jar", "apps/pier")
        prod = shore("drift", "prod", "--jar", "apps/*")
        assert prod.err.count("has no stage prod") == 2
        assert "there is no stage 'prdo'" in shore("drift", "prdo", "--jar", "apps/*", code=2).err


def test_a_report_of_each(shore: Coinjar) -> None:
    assert "several jars need a place each" in shore("report", "--jar", "apps/*", "--out", "all.html", code=2).err
    assert "several jars need a place each" in shore("report", "--jar", "apps/*", code=2).err
    shore("report", "--jar", "apps/*", "--out", "reports/{app}.html")
    assert {path.name for path in (shore.folder / "reports").iterdir()} == {"pier.html", "crane.html", "lamp.html"}
    assert "crane: configuration" in shore.read("reports/crane.html")
    data = json.loads(shore("report", "--jar", "apps/*", "--json").out)["jars"]
    assert [one["app"] for one in data] == ["crane", "lamp", "pier"]
    reference = ("report", "--jar", "apps/*", "--format", "markdown", "--out", "docs/{app}.md")
    shore(*reference)
    shore(*reference, "--verify")
    shore("declare", "HOST", "--about", "new", "--jar", "apps/lamp")
    assert "docs/lamp.md is out of date" in shore(*reference, "--verify", code=1).err
