"""Documents: what is edited, what stays byte for byte, what a step sees."""

from __future__ import annotations

import json
from collections.abc import Callable

import pytest
import yaml

from tests.conftest import Coinjar, on_a_terminal

pytestmark = pytest.mark.unit


JAR = """\
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {}}
variables:
  LEVEL: {default: info}
  PORT: {kind: port, default: 8080}
  SALT: {default: 'a$b'}
  TOKEN: {secret: true}
  GONE: {default: {unset: true}}
"""
PIPELINE = """\
# by hand
env: {GONE: x, MINE: 'kept'}
jobs:
- name: one     # first
  env:
    LEVEL: "old"
  steps: [{run: a, env: [PORT=1]}]
- name: two
  steps:
  - run: b
"""


def pipeline(jar: Callable[..., Coinjar], places: str, *, more: str = "", **plain: str) -> Coinjar:
    cj = jar(
        JAR
        + (
            "destinations:\n  ci:\n    type: document\n    path: ci.yaml\n    services: [web]\n"
            f"{more}    places:\n{places}"
        ),
        **plain,
    )
    cj.write({"ci.yaml": PIPELINE})
    return cj


THREE = (
    "      /env: {services: []}\n      '/jobs/[name=one]/env': {stage: prod, without: [TOKEN, SALT]}\n"
    "      '/jobs/[name=two]/env': {stage: prod, variables: [LEVEL, PORT]}\n"
)


def test_levels_are_brought_in_step_and_moved_up(jar: Callable[..., Coinjar]) -> None:
    cj = pipeline(jar, THREE, prod="all: {TOKEN: x}\n")
    cj("render", "prod")
    inside = '  env:\n    LEVEL: info\n    PORT: "8080"\n'
    expected = PIPELINE.replace('LEVEL: "old"\n', 'LEVEL: "info"\n    PORT: "8080"\n') + inside
    assert cj.read("ci.yaml") == expected
    cj("render", "prod", "--verify")
    cj("render", "prod", "--move-up")
    moved = yaml.safe_load(cj.read("ci.yaml"))
    assert moved["env"] == {"GONE": "x", "MINE": "kept", "LEVEL": "info", "PORT": "8080"}
    assert "env" not in moved["jobs"][0]
    assert "env" not in moved["jobs"][1]
    cj("render", "prod", "--verify")  # what was moved up stays there
    cj("put", "LEVEL=debug", "--stage", "prod")
    cj("render", "prod")
    assert yaml.safe_load(cj.read("ci.yaml"))["env"]["LEVEL"] == "debug"


def test_a_level_between_is_not_overlooked(jar: Callable[..., Coinjar]) -> None:
    """What the widest level says must be said again below one that says something else."""
    places = (
        "      /env: {variables: [LEVEL]}\n"
        "      '/jobs/[name=one]/env': {without: [LEVEL, SALT]}\n"
        "      '/jobs/[name=one]/steps/0/env': {variables: [LEVEL]}\n"
    )
    cj = pipeline(jar, places, more="    plain_only: true\n")
    cj("render", "prod")
    done = yaml.safe_load(cj.read("ci.yaml"))
    assert (done["env"]["LEVEL"], done["jobs"][0]["env"]["LEVEL"], done["jobs"][0]["steps"][0]["env"]) == (
        "info",
        "old",
        ["PORT=1", "LEVEL=info"],
    )
    cj("render", "prod", "--move-up")  # nothing is taken to a level that does not take it
    assert yaml.safe_load(cj.read("ci.yaml")) == done


def test_why_tells_what_a_step_sees(jar: Callable[..., Coinjar]) -> None:
    places = "      /env: {}\n      '/jobs/[name=one]/env': {stage: prod, decided_by: [/env]}\n"
    cj = pipeline(jar, places, more="    plain_only: true\n")
    cj.write({"ci.yaml": PIPELINE.replace("GONE: x", "LEVEL: above")})
    message = " ".join(cj("why", "LEVEL", "--in", "ci", "--at", "/jobs/[name=one]").out.split())
    assert message.startswith(
        "LEVEL = above at /jobs/[name=one]/env level, narrowest first value where overridden "
        "/jobs/[name=one]/env old ci.yaml:6:5 ✓ wins /env above ci.yaml:2:7"
    )
    assert "the jar has 'info' for web on prod: `coinjar render prod ci` updates it" in message
    data = json.loads(cj("why", "LEVEL", "--in", "ci", "--at", "/jobs/[name=one]/env", "--json").out)
    assert [(level["at"], level["says"], level["wins"]) for level in data["levels"]] == [
        ("/jobs/[name=one]/env", "old", False),
        ("/env", "above", True),
    ]
    message = cj("check", code=None).out
    assert "ci.yaml:6:5: warning CJ019: LEVEL at /jobs/[name=one]/env has no effect: /env above decides it" in message
    assert cj("why", "MINE", "--in", "ci.yaml", "--at", "/jobs/[name=two]/steps/0").out.startswith("MINE = kept")
    assert "No level of the document sets it" in cj("why", "PORT", "--in", "ci.yaml", "--at", "/jobs/[name=two]").out
    for arguments, words in {
        ("LEVEL", "--in", "ci"): "--in and --at require each other", ("LEVEL",): "why requires a stage and a variable",
        ("X", "--in", "none", "--at", "/a"): "there is no document 'none'",
    }.items():  # fmt: skip
        assert words in cj("why", *arguments, code=2).err


def test_documents_tell_what_will_surprise(jar: Callable[..., Coinjar]) -> None:
    places = (
        "      /env: {services: [web, mailer]}\n"
        "      '/jobs/[name=one]/env': {stage: prod}\n"
        "      '/jobs/[name=one]/steps/0/env': {stage: prod}\n"
        "      '/jobs/[name=two]/env': {}\n"
    )
    cj = pipeline(jar, places, more="    plain_only: true\n", prod="web: {LEVEL: error}\n")
    cj.write({"ci.yaml": PIPELINE.replace("MINE: 'kept'", "MINE: 1.10, ALSO: no")})
    result = cj("render", "prod", "--dry-run")
    for line in (
        "ci.yaml:2:16: MINE at /env is a number, and is read as the text '1.1'",
        "ci.yaml:2:28: ALSO at /env is a boolean to readers of YAML 1.1, and is read as the text 'false'",
        "jar/jar.yaml:21:7: /jobs/[name=two]/env has no stage, and gets the values of shared",
    ):
        assert line in result.err
    assert "+  steps: [{run: a, env: [PORT=8080]}]" in result.out  # what the job says need not be said again


def test_secrets_in_documents_are_references(jar: Callable[..., Coinjar]) -> None:
    places = "      '/jobs/[name=two]/env': {stage: prod}\n"
    cj = pipeline(
        jar, places, more='    secrets: "(vault {name})"\n    dollars: doubled\n', prod="all: {TOKEN: made-up}\n"
    )
    assert '+    TOKEN: "(vault TOKEN)"' in cj("render", "prod", "--dry-run").out
    cj("render", "prod")
    env = yaml.safe_load(cj.read("ci.yaml"))["jobs"][1]["env"]
    assert env == {"LEVEL": "info", "PORT": "8080", "SALT": "a$$b", "TOKEN": "(vault TOKEN)"}
    assert cj("compare", "dest:ci@prod", "prod", "--name", "SALT").out.startswith("dest:ci@prod and prod: 1 the same")
    (cj.folder / "ci.yaml").chmod(0o644)
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace('    secrets: "(vault {name})"\n', "")})
    shown = cj("render", "prod", "--dry-run").out
    assert "•••• 7 chars" in shown
    assert "made-up" not in shown
    cj("render", "prod")
    assert (cj.folder / "ci.yaml").stat().st_mode & 0o777 == 0o600


@pytest.mark.parametrize(
    ("places", "expected"),
    [
        ("      /jbos/x: {}\n", "ci.yaml: /jbos/x does not exist: the document has no 'jbos'"),
        ("      env: {}\n", "jar/jar.yaml:18:7: 'env' is not a JSON Pointer"),
        (
            "      /env: {stage: produ, services: [wbe], form: list, decided_by: [/x], what: 1}\n",
            "unknown key 'what' in the place /env",
        ),
        ("      /jobs/0/name: {}\n", "/jobs/0/name: this is not an environment: it must be a map or a list"),
    ],
)
def test_faults_of_places_have_their_position(jar: Callable[..., Coinjar], places: str, expected: str) -> None:
    cj = pipeline(jar, places, more="    plain_only: true\n")
    assert expected in cj("render", "prod", code=3).err
    assert "CJ017" in cj("check", code=1).out
    assert cj.read("ci.yaml") == PIPELINE


def test_documents_of_their_own_for_each_stage_in_every_form(jar: Callable[..., Coinjar]) -> None:
    places = (
        "      /a/env: {form: lines}\n      /b: {form: pairs, variables: [LEVEL]}\n"
        "      /c: {variables: [LEVEL, 'PO*']}\n"
    )
    cj = pipeline(jar, places, more="    plain_only: true\n", prod="all: {LEVEL: error}\n")
    cj.write(
        {
            "jar/jar.yaml": cj.read("jar/jar.yaml").replace("path: ci.yaml", "path: 'ci.{stage}.json'"),
            "ci.dev.json": '{"a": {"x": [1.10]}}\n',
            "ci.prod.json": '{\n\t"a": {"env": ["LEVEL=old", "BARE"]},\n\t"c": {"MINE": 1}\n}\n',
        }
    )
    cj("render", "--every-stage")
    assert json.loads(cj.read("ci.dev.json")) == {
        "a": {"x": [1.1], "env": ["LEVEL=info", "PORT=8080", "SALT=a$b"]}, "b": [{"name": "LEVEL", "value": "info"}],
        "c": {"LEVEL": "info", "PORT": "8080"},
    }  # fmt: skip
    assert "1.10" in cj.read("ci.dev.json")
    prod = json.loads(cj.read("ci.prod.json"))
    assert prod["a"] == {"env": ["LEVEL=error", "BARE", "PORT=8080", "SALT=a$b"]}
    assert prod["c"] == {"MINE": 1, "LEVEL": "error", "PORT": "8080"}
    assert cj("render", "--every-stage", "--verify").out == "all 2 files up to date\n"
    assert cj("why", "prod", "LEVEL", "--in", "ci", "--at", "/a").out.startswith("LEVEL = error")
    assert "is different on each stage" in cj("why", "LEVEL", "--in", "ci", "--at", "/a", code=2).err
    assert cj("compare", "dest:ci@prod", "prod", "--name", "LEVEL").out.startswith("dest:ci@prod and prod: 1 the same")


def test_an_environment_that_others_share_is_not_touched(jar: Callable[..., Coinjar]) -> None:
    cj = pipeline(jar, "      /jobs/1/env: {stage: prod}\n", more="    plain_only: true\n")
    shared = "jobs:\n- env: &e {LEVEL: old, MINE: x}\n- env: *e\n"
    for text in (shared, "jobs:\n- {}\n- env:\n    ? LEVEL\n    : old\n"):
        cj.write({"ci.yaml": text})
        assert (
            "ci.yaml: changing LEVEL, PORT, SALT here would also change something else"
            in cj("render", "prod", code=3).err
        )
        assert cj.read("ci.yaml") == text


def test_render_completes_and_colours_its_diff(demo: Coinjar) -> None:
    env = {"_COINJAR_COMPLETE": "complete_bash", "COMP_CWORD": "3", "COMP_WORDS": "coinjar render prod pi"}
    assert "pipeline" in demo(code=None, env=env).out
    shown = on_a_terminal(demo, "render", "prod", "pipeline", "--dry-run")
    assert "\x1b[32m+        variables: {LOG_LEVEL: error, MAIL_HOST: mail.sandling.example}\x1b[0m" in shown
    assert "\x1b[31m-        variables: {LOG_LEVEL: info}\x1b[0m" in shown
