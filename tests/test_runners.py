"""What runs a document, as data: all that a step sees, jobs without a stage, and what a runner does not look at."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

from tests.conftest import Coinjar

JAR = """\
services: {web: {code: [ci]}}
stages: {dev: {}, prod: {}}
variables:
  ZONES: {default: "3"}
  TITLE: {default: Ferries}
  TOKEN: {secret: true, required: false}
  SAME: {default: x}
"""
PIPELINE = """\
pipeline: 1
variables: {TITLE: theirs}
jobs:
  - name: nightly
    lines:
      - {name: fares, do: 'echo "$ZONES $TITLE $SAME [=TOKEN=]"'}
  - name: release
    stage: prod
    variables: {ZONES: "9"}
    lines:
      - {name: fares, variables: {GREETING: hi}, do: 'echo "$ZONES"'}
"""
PROD = "all: {ZONES: '7', TITLE: ours, TOKEN: made-up-secret}\n"


def findings(cj: Coinjar, rule: str) -> list[dict[str, Any]]:
    done = json.loads(cj("check", "--json", code=None).out)
    return [item for item in done["findings"] if item["rule"] == rule]


def test_a_job_without_a_stage_is_named_before_it_runs(jar: Callable[..., Coinjar]) -> None:
    """With the variable and both values, secrets masked; not what the document sets itself, or what agrees; from a
    file below code:, and from a destination, once.
    """
    for destination in ("", "destinations: {ci: {type: document, path: ci/p.yaml, runner: sluiceway, places: {}}}\n"):
        cj = jar(JAR + destination, prod=PROD)
        cj.write({"ci/p.yaml": PIPELINE, "ci/other.yaml": "jobs: [{name: x, lines: []}]\n"})
        for _ in range(2):
            found = findings(cj, "CJ045")
            messages = sorted((item["message"] for item in found), key=lambda message: "TOKEN" in message)
            assert len(messages) == 2, messages
            assert messages[0].startswith(
                "the job nightly names no stage, so it gets the whole project's ZONES (3), not prod's (7)"
            )
            assert "the whole project's TOKEN (nothing), not prod's (•••• 14 chars #1)" in messages[1]
            assert {(item["file"], item["line"], item["stage"]) for item in found} == {("ci/p.yaml", 4, "prod")}
        cj.write({"ci/p.yaml": PIPELINE.replace("- name: nightly\n", "- name: nightly\n    stage: dev\n")})
        assert not findings(cj, "CJ045")


def test_wrong_references_and_places_are_found_by_data(jar: Callable[..., Coinjar]) -> None:
    """Of the shipped description, and of one of the jar's own; a description with faults is one of check's."""
    cj = jar(JAR)
    cj.write(
        {
            "ci/p.yaml": PIPELINE.replace("$ZONES $TITLE", "{{ env.ZONES }} $(env.TITLE)")
            .replace("- name: nightly\n", "- name: nightly\n    env: {A: b}\n")
            .replace("pipeline: 1\n", "pipeline: 1\nnotes:\n  variables: {C: d}\n")
        }
    )
    shown = {(item["line"], item["message"]) for item in findings(cj, "CJ046")}
    assert shown == {
        (9, "sluiceway does not replace {{ env.ZONES }}"),
        (9, "sluiceway does not replace $(env.TITLE)"),
        (7, "sluiceway has no env: nothing sees it"),
        (3, "sluiceway looks at no variables at /notes: nothing sees it"),
    }
    own = "runner: 1\nmarks: [/flow]\nenvironments: [env]\nlevels: [/]\nwrong: {'<{name}>': '@{name}'}\n"
    own += "names: {RUN: its number}\n"
    cj.write({"jar/runners/ours.yaml": own, "ci/p.yaml": "flow: 1\nenv: {A: <B>}\nvariables: {C: d}\n"})
    assert {(item["message"], item["fix"]) for item in findings(cj, "CJ046")} == {
        ("ours does not replace <B>", "write @B"),
        ("ours has no variables: nothing sees it", "write env"),
    }
    out = cj("why", "--in", "ci/p.yaml", "--at", "/env", "--runner", "ours").out
    assert "RUN" in out
    cj.write({"jar/runners/ours.yaml": own.replace("levels: [/]", "levels: [x]\nlevel: y")})
    done = cj("why", "--in", "ci/p.yaml", "--at", "/env", "--runner", "ours", code=3)
    assert "jar/runners/ours.yaml:4:10: 'x' is not a pointer" in done.err
    assert "unknown key 'level'" in done.err
    assert "did you mean" in cj("why", "--in", "ci/p.yaml", "--at", "/env", "--runner", "sluicewy", code=2).err


def test_everything_that_a_step_sees(jar: Callable[..., Coinjar]) -> None:
    """Each with level, place and whether the jar knows it; secrets masked; built-in names from the data file."""
    cj = jar(JAR, prod=PROD)
    cj.write({"ci/p.yaml": PIPELINE.replace("GREETING: hi", "GREETING: hi, TOKEN: made-up-secret")})
    arguments = ("why", "--in", "ci/p.yaml", "--at", "/jobs/1/lines/0", "--runner", "sluiceway")
    seen = json.loads(cj(*arguments, "--json").out)
    assert seen["at"] == "/jobs/1/lines/0/variables"
    assert [(item["name"], item["value"], item["level"], item["jar"]) for item in seen["variables"]] == [
        ("TITLE", "theirs", "/variables", "declared"),
        ("ZONES", "9", "/jobs/1/variables", "declared"),
        ("GREETING", "hi", "/jobs/1/lines/0/variables", "not declared"),
        ("TOKEN", None, "/jobs/1/lines/0/variables", "declared"),
        ("PATH", None, "built in", "set by the system"),
    ]
    shown = cj(*arguments)
    assert shown.out.startswith("/jobs/1/lines/0/variables sees 5 variables\n")
    assert "made-up-secret" not in shown.out + shown.err
    workload = (
        "apiVersion: v1\nkind: Pod\nmetadata: {name: web}\nspec:\n  containers:\n  - name: web\n"
        "    env: [{name: ZONES, value: '4'}, {name: OTHER, value: x}]\n"
    )
    cj.write({"k8s/a.yaml": workload, "a.env": "ZONES=5\n"})
    pod = cj("why", "--in", "k8s/a.yaml", "--at", "/spec/containers/0", "--runner", "kubernetes").out
    assert "HOSTNAME" in pod
    for source in ("manifests:k8s", "file:a.env"):
        rows = json.loads(cj("why", "--in", source, "--json").out)["variables"]
        assert rows[0]["name"] == "ZONES"
        assert rows[0]["jar"] == "declared"
    assert "which environment?" in cj("why", "--in", "ci/p.yaml", code=2).err
    assert "--at and --runner are for documents" in cj("why", "--in", "file:a.env", "--at", "/x", code=2).err
    assert "--runner requires --in" in cj("why", "dev", "ZONES", "--runner", "sluiceway", code=2).err
    assert "why requires a stage and a variable" in cj("why", code=2).err


def test_a_document_with_many_aliases_is_read_in_time(jar: Callable[..., Coinjar]) -> None:
    """A few lines can mean millions of nodes; and one that contains itself is refused, not followed."""
    cj = jar(JAR)
    lines = "".join(f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 9)}]\n" for n in range(1, 30))
    cj.write({"ci/p.yaml": f"pipeline: 1\njobs: []\na0: &a0 [x]\n{lines}"})
    cj("check", code=None)


def test_levels_are_those_of_the_runner(jar: Callable[..., Coinjar]) -> None:
    """With another key at each level; what is beside them is seen by nothing. The narrowest wins."""
    cj = jar(JAR)
    cj.write(
        {
            "jar/runners/ours.yaml": "runner: 1\nenvironments: [env, vars]\nlevels: [/, '/steps/*']\n",
            "f.yaml": "vars: {ZONES: '1', TITLE: a}\nenv: {SAME: z}\nother: {env: {TOKEN: no}}\n"
            "steps:\n- env: {ZONES: '2'}\n- run: x\n",
        }
    )
    seen = json.loads(cj("why", "--in", "f.yaml", "--at", "/steps/0", "--runner", "ours", "--json").out)["variables"]
    assert {item["name"]: (item["value"], item["level"]) for item in seen} == {
        "SAME": ("z", "/env"), "ZONES": ("2", "/steps/0/env"), "TITLE": ("a", "/vars"),
    }  # fmt: skip
    one = json.loads(cj("why", "ZONES", "--in", "f.yaml", "--at", "/steps/0", "--runner", "ours", "--json").out)
    assert [(level["at"], level["wins"]) for level in one["levels"]] == [("/steps/0/env", True), ("/vars", False)]
    nothing = json.loads(cj("why", "--in", "f.yaml", "--at", "/steps/1", "--runner", "ours", "--json").out)
    assert {item["name"]: item["value"] for item in nothing["variables"]} == {"SAME": "z", "ZONES": "1", "TITLE": "a"}


def test_a_faulty_description_is_reported_used_or_not(jar: Callable[..., Coinjar]) -> None:
    for code in ("", "code: {paths: [ci]}\n"):
        cj = jar(f"services: {{web: {{}}}}\nstages: {{dev: {{}}}}\nvariables: {{A: {{default: x}}}}\n{code}")
        cj.write({"jar/runners/ours.yaml": "runner: 2\n", "ci/p.yaml": PIPELINE})
        message = "jar/runners/ours.yaml:1:9: error CJ017: this version does not read this format"
        assert message in cj("check", code=1).out
