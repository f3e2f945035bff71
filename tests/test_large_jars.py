"""Jars so large that two processes share the work: what they say must not depend on it."""

from __future__ import annotations

import json
import os
import pickle
import signal
import subprocess
import sys
from collections import Counter
from collections.abc import Callable
from typing import NoReturn

import pytest

from coinjar.actions.checking.context import FileContext
from coinjar.actions.checking.destination_checks import DestinationChecks
from coinjar.actions.open_jar import OpenJar
from coinjar.core.errors import InputError
from coinjar.jarfile.external_values import fetcher
from coinjar.system.second_process import beside
from tests.conftest import PROGRAM, Coinjar

VARIABLES, STAGES = 700, [f"stage{number}" for number in range(32)]


def value(number: int, stage: int) -> str:
    return f"a value of an ordinary length, {number} of {stage if number % 2 else 0}"


@pytest.fixture
def large(jar: Callable[..., Coinjar]) -> Coinjar:
    """22,400 values in 1.2 MB, half of them equal to what the stage inherits; every tenth refers to another."""
    names = ", ".join(f"NAME_{number}: {{}}" for number in range(VARIABLES))
    follows = ", ".join(f"{name}: {{{'follows: stage0' if name != 'stage0' else ''}}}" for name in STAGES)
    layers = {
        stage: "all:\n"
        + "".join(
            f'  NAME_{number}: {{text: "${{NAME_{number + 1}}}, too"}}\n'
            if number % 10 == 4
            else f"  NAME_{number}: {value(number, place)}\n"
            for number in range(VARIABLES)
        )
        for place, stage in enumerate(STAGES)
    }
    return jar(f"services: {{web: {{}}}}\nstages: {{{follows}}}\nvariables: {{{names}}}\n", **layers)


def test_every_value_of_a_large_jar_is_where_it_belongs(large: Coinjar) -> None:
    grid = json.loads(large("grid", "--json", process=True).out)
    for number, row in enumerate(grid["rows"]):
        for place, stage in enumerate(STAGES):
            wanted = f"{value(number + 1, place)}, too" if number % 10 == 4 else value(number, place)
            assert (row["cells"][stage]["value"], row["cells"][stage]["state"]) == (wanted, "own")
    assert f"jar/plain/stage31.yaml:{VARIABLES + 1}:13" in large("why", "stage31", f"NAME_{VARIABLES - 1}").out


def test_all_faults_of_a_large_jar_are_reported_in_the_order_of_its_files(large: Coinjar) -> None:
    for stage in ("stage1", "stage30"):
        path = large.folder / "jar" / "plain" / f"{stage}.yaml"
        path.write_text(path.read_text() + "  NAME_X: undeclared\n  NAME_0: twice\n")
    errors = [line for line in large("grid", code=3, process=True).err.splitlines() if line.startswith("jar/")]
    last = VARIABLES + 2
    assert [error.split(" ")[0] for error in errors] == [
        f"jar/plain/{stage}.yaml:{line}:3:" for stage in ("stage1", "stage30") for line in (last, last + 1)
    ]


def test_check_finds_the_same_with_one_processor(large: Coinjar) -> None:
    both = json.loads(large("check", "--json", process=True).out)["findings"]
    of_rule = Counter(finding["rule"] for finding in both)
    assert of_rule["CJ013"] == len(STAGES[1:]) * VARIABLES // 2
    assert _with_one_processor(large) == both


def _with_one_processor(cj: Coinjar) -> list[dict[str, object]]:
    """What `check` finds where nothing can be done beside."""
    pinned = (
        "import os, sys; os.sched_setaffinity(0, {min(os.sched_getaffinity(0))}); os.execvp(sys.argv[1], sys.argv[1:])"
    )
    alone = subprocess.run(
        [sys.executable, "-c", pinned, PROGRAM, "check", "--json"],
        cwd=cj.folder,
        env=cj.env,
        capture_output=True,
        check=False,
    )
    findings: list[dict[str, object]] = json.loads(alone.stdout)["findings"]
    return findings


def test_two_processes_inspect_many_files(jar: Callable[..., Coinjar]) -> None:
    """Files that stages share, a fault of one stage and of all, examples: on both sides of the middle."""
    services, stages = [f"service{number}" for number in range(80)], ["dev", "test", "stage", "prod"]
    plain = {stage: f"all: {{LINE: {text}}}\n" for stage, text in zip(stages, ["a", "a", "b", '"c\\nd"'], strict=True)}
    cj = jar(
        f"services: {{{', '.join(f'{name}: {{}}' for name in services)}}}\n"
        f"stages: {{{', '.join(f'{name}: {{}}' for name in stages)}}}\n"
        "variables: {LINE: {}, UID: {default: '1'}}\n"
        "destinations:\n"
        "  one: {type: file, as: json, path: 'out/{service}.json'}\n"
        "  lines: {type: file, as: literal, path: 'out/{stage}/{service}.env'}\n"
        "  shell: {type: file, as: posix, path: 'out/{stage}/{service}.sh', services: [service7]}\n"
        "  shown: {type: file, as: example, path: example.env, services: [service7]}\n",
        **plain,
    )
    opened = OpenJar(cj.folder / "jar")
    context = FileContext(opened, opened.load(), fetcher(opened.folder, opened.gate))
    passed_on = pickle.dumps(DestinationChecks(opened, context)._inspect(["stage", "prod"]))
    # what cannot be passed on would be done again by the first process, and nothing below would show it
    shared = pickle.loads(passed_on).shared  # noqa: S301 - written in the line above
    assert len(shared) == 2 * (80 + 1)  # a file for each service, and the example
    both = json.loads(cj("check", "--json", process=True, code=1).out)["findings"]
    assert _with_one_processor(cj) == both
    messages = [finding["message"] for finding in both if finding["rule"] == "CJ017"]
    overwritten = [message for message in messages if "overwrite each other" in message]
    assert len(overwritten) == 80 * 2  # stage and prod differ from dev; test does not
    assert {message.rpartition(" for dev and for ")[2].partition(",")[0] for message in overwritten} == {
        "stage",
        "prod",
    }
    assert [message for message in messages if message.startswith("shell:")]  # on every stage: told once, for all
    assert len([message for message in messages if message.startswith("lines on prod:")]) >= 1
    assert [finding["message"] for finding in both if finding["rule"] == "CJ030"] == ["the example does not exist"]


def _fail() -> NoReturn:
    raise InputError("it cannot be read", hint="correct it")


def test_work_beside_gives_its_result_its_error_or_is_done_here(monkeypatch: pytest.MonkeyPatch) -> None:
    here = os.getpid()
    monkeypatch.setattr("threading.active_count", lambda: 1)
    two = len(os.sched_getaffinity(0)) > 1
    assert beside(lambda: [os.getpid() != here, {"a": ("b", 1)}])() == [two, {"a": ("b", 1)}]
    with pytest.raises(InputError, match="it cannot be read"):
        beside(_fail)()

    def dies() -> str:
        if os.getpid() != here:
            os.kill(os.getpid(), signal.SIGKILL)
        return "done here"

    assert beside(dies)() == "done here"
    monkeypatch.setattr("threading.active_count", lambda: 2)
    assert beside(os.getpid)() == here
