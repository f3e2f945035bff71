"""Moves between every pair of described platforms: all stages, one, several that become one, and one that becomes
several.
"""

from __future__ import annotations

import itertools
import json
import re
from collections.abc import Callable
from contextlib import ExitStack
from typing import Any

import pytest

from tests.conftest import Coinjar
from tests.places import SYSTEMS, System

PLACES = ("saltmarsh", "lanternfish", "sluiceway", "millrace", "reedbank", "marl")
PAIRS = list(itertools.permutations(PLACES, 2))
FORMS: dict[str, tuple[list[str], list[str]]] = {
    "one stage": (["--stage", "dev"], ["dev"]),
    "several that become one": (["--stage", "dev=lab", "--stage", "prod=lab"], ["lab"]),
    "one that becomes several": (["--stage", "dev", "--stage", "dev=lab"], ["dev", "lab"]),
}
MOVED = ("TITLE", "LEVEL", "LINK", "TOKEN")
JAR = """\
services: {web: {}}
stages: {dev: {}, prod: {}, lab: {}}
variables:
  TITLE: {default: Sandling é}
  LEVEL: {default: info}
  LINK: {default: {text: "x://${LEVEL}/"}}
  TOKEN: {secret: true}
destinations:
"""


def _place(stack: ExitStack, cj: Coinjar, kind: str, name: str) -> System:
    """Start a platform with a place for each stage, and declare it under a name."""
    system = stack.enter_context(SYSTEMS[kind](cj, ""))
    assert system.running
    for stage in ("prod", "lab") if "{stage}" in system.declaration else ():
        system.running.standin.make(f"sandling-{stage}")
    cj.env[name.upper()] = system.running.token
    declared = system.declaration.replace("from_env: THERE", f"from_env: {name.upper()}")
    if kind == "reedbank":  # its rate is another test's subject
        cj.write({"jar/platforms/reedbank.yaml": cj.read("jar/platforms/reedbank.yaml").replace("per_second: 20", "")})
    cj.write({"jar/jar.yaml": f"{cj.read('jar/jar.yaml')}  {name}: {declared}\n"})
    return system


def _states(cj: Coinjar, stage: str) -> dict[str, Any]:
    targets = json.loads(cj("drift", stage, "new", "--json").out)["targets"]
    return {row["name"]: row["state"] for target in targets for row in target["variables"] if row["name"] in MOVED}


@pytest.mark.parametrize("number", range(len(PAIRS)), ids=["-".join(pair) for pair in PAIRS])
def test_a_move_from_every_platform_to_every_other(number: int, jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """What the jar has arrives on each stage; what only the old place has does, where it can be read there."""
    old, new = PAIRS[number]
    with ExitStack() as stack:
        jar(JAR)
        was = _place(stack, cj, old, "old")
        becomes = _place(stack, cj, new, "new")
        for stage in ("dev", "prod", "lab"):
            cj("put", "TOKEN", "--stage", stage, stdin=f"made-up-canary-{stage}")
            cj("put", f"LEVEL={stage}", "--stage", stage)
            cj("deliver", stage, "old")
        was.outside("TITLE", "by hand")
        asked, stages = list(FORMS.values())[number % len(FORMS)]
        for arguments, reached in ((asked, stages), ([], ["dev", "prod", "lab"])):
            cj("migrate", "dest:old", "dest:new", *arguments, "--out", "move.yaml")
            sheet = cj.read("move.yaml")
            assert "canary" not in sheet
            assert ("dev and prod have different values at old" in sheet) is ("prod=lab" in arguments)
            assert not re.search("(?m)^to_be_given", sheet), sheet
            for _ in asked[:2] if arguments else "1":  # once more changes nothing
                cj("migrate", "--execute", "move.yaml", "--yes", "--restart")
            assert "different there" not in cj.read("move.yaml")
            for stage in reached:
                states = _states(cj, stage)
                assert states.keys() == set(MOVED)
                assert set(states.values()) <= {"up to date", "not readable"}, states
            (cj.folder / "move.yaml").unlink()
            cj.write({"jar/jar.yaml": re.sub(r", moved_to: \{[^}]*\}", "", cj.read("jar/jar.yaml"))})
        if "{stage}" in becomes.declaration:  # what its own tools list is of one stage
            assert becomes.own()["TOKEN"] == "made-up-canary-dev"
            assert becomes.own()["LINK"] == "x://dev/"


@pytest.mark.parametrize(("old", "new"), [pair for name in PLACES for pair in ((name, "hayloft"), ("hayloft", name))])
def test_a_move_from_and_to_a_cluster(old: str, new: str, jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Whose workload is one stage's."""
    with ExitStack() as stack:
        jar(JAR)
        _place(stack, cj, old, "old")
        becomes = _place(stack, cj, new, "new")
        cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("{type: cluster,", "{type: cluster, stages: [dev],")})
        cj("put", "TOKEN", "--stage", "dev", stdin="made-up-canary-dev")
        cj("deliver", "dev", "old")
        cj("migrate", "dest:old@dev", "dest:new", "--out", "move.yaml")
        for _ in range(2):
            cj("migrate", "--execute", "move.yaml", "--yes", "--restart")
        assert set(_states(cj, "dev").values()) <= {"up to date", "not readable"}
        assert becomes.own()["TOKEN"] == "made-up-canary-dev"
        assert becomes.own()["LINK"] == "x://info/"
