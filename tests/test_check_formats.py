"""What `check` writes for other programs (SARIF, JUnit), and which findings it is limited to."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from xml.etree import ElementTree

from coinjar.actions.checking.rules import all_rules
from tests.conftest import Coinjar, on_a_terminal


def test_sarif_names_rules_and_places(demo: Coinjar) -> None:
    log = json.loads(demo("check", "--format", "sarif", code=1).out)
    run = log["runs"][0]
    assert log["version"] == "2.1.0"
    assert [rule["id"] for rule in run["tool"]["driver"]["rules"]] == [rule.code for rule in all_rules()]
    for result in run["results"]:
        assert run["tool"]["driver"]["rules"][result["ruleIndex"]]["id"] == result["ruleId"]
        place = result["locations"][0]["physicalLocation"]
        assert (demo.folder / place["artifactLocation"]["uri"]).is_file()
        assert place.get("region", {"startLine": 1})["startLine"] >= 1  # a finding of a whole file has no region
        assert result["level"] in ("error", "warning")
        assert result["message"]["text"].endswith(".")


def test_only_some_rules_stages_and_services(jar: Callable[..., Coinjar]) -> None:
    """What is of no single stage concerns each; the first line says what was looked at; a typo is an error."""
    cj = jar(
        "services: {web: {}, mailer: {}}\nstages: {dev: {}, prod: {}}\n"
        "variables: {A: {kind: integer}, B: {kind: integer, services: [mailer]}, T: {secret: true, required: false}}\n",
        dev="all: {A: x}\nmailer: {B: 1}\n",
        prod="all: {A: 1}\nmailer: {B: y}\n",
    )

    def found(*options: str) -> list[tuple[str, str | None]]:
        items = json.loads(cj("check", "--json", *options, code=None).out)["findings"]
        return sorted({(item["rule"], item["stage"]) for item in items}, key=str)

    everything = found()
    assert ("CJ003", "dev") in everything
    assert found("--rule", "CJ003") == [("CJ003", "dev"), ("CJ003", "prod")]
    assert found("--rule", "CJ003", "--stage", "prod") == [("CJ003", "prod")]
    assert found("--rule", "CJ003", "--rule", "CJ013") == found("--rule", "CJ013", "--rule", "CJ003")
    assert set(found("--stage", "dev", "--stage", "prod")) == set(everything)
    assert {rule for rule, stage in everything if stage is None} <= {rule for rule, _ in found("--stage", "dev")}
    done = cj("check", "--rule", "CJ013")
    assert done.out == "nothing found, looking only at CJ013\n"
    assert "CJ003" in cj("check", "--rule", "CJ003", "--service", "mailer", code=None).out
    for options, words in (
        (("--rule", "CJ03"), "there is no rule 'CJ03'"),
        (("--stage", "pord"), "pord"),
        (("--service", "wbe"), "wbe"),
        (("--format", "junit2"), "there is no format 'junit2'"),
    ):
        assert words in cj("check", *options, code=2).err


def test_junit_is_read_by_its_schema_and_tells_everything(jar: Callable[..., Coinjar]) -> None:
    """A test for each rule, failing with errors, with --strict also with warnings; signs of XML and of control stay
    text; no secret.
    """
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\n"
        "variables: {A: {kind: integer}, E: {}, T: {secret: true}}\n"
        "accepted: [{rule: CJ008, variable: E, reason: 'a < b & c'}]\n",
        dev='all: {A: "<x>&\\x1b", E: " space ", T: made-up-secret}\n',
    )
    for strict in ((), ("--strict",)):
        done = cj("check", "--format", "junit", *strict, code=1)
        suite = ElementTree.fromstring(done.out)  # noqa: S314 - our own output
        cases = {case.get("name", "").split()[0]: case for case in suite.iter("testcase")}
        assert len(cases) == int(suite.get("tests", "")) > 40
        failed = {code for code, case in cases.items() if case.find("failure") is not None}
        assert int(suite.get("failures", "")) == len(failed)
        assert "CJ003" in failed
        assert ("CJ029" in failed) is bool(strict)
        assert "a < b & c" in str(cases["CJ008"].findtext("system-out"))
        assert "made-up-secret" not in done.out
        assert "\x1b" not in done.out


def test_errors_are_last_and_a_summary_is_one_line(demo: Coinjar) -> None:
    lines = demo("check", code=1).out.splitlines()
    severities = [word for line in lines for word in (" error CJ", " warning CJ") if word in line]
    assert severities == sorted(severities, reverse=True)
    assert len(set(severities)) == 2
    assert demo("check", "--summary", code=1).out == lines[0] + "\n"
    assert demo("check", "--summary", "--rule", "CJ044").out == "nothing found, looking only at CJ044\n"
    demo("check", "--summary", "--json", code=2)


def test_colours_are_chosen_for_one_run(demo: Coinjar) -> None:
    plain = demo("grid", "prod").out
    assert "\x1b[" not in plain
    coloured = demo("--color", "always", "grid", "prod").out
    assert "\x1b[1m" in coloured
    assert re.sub(r"\x1b\[[0-9;]*m", "", coloured).split() == plain.split()
    assert demo("grid", "prod").out == plain
    assert "\x1b[" in demo("--color", "always", "check", code=1).out
    assert "--color does not know 'purple'" in demo("--color", "purple", "grid", code=2).err
    assert "\x1b[" not in on_a_terminal(demo, "--color", "never", "grid", "prod")
    assert "\x1b[" in on_a_terminal(demo, "grid", "prod")
