"""A grid so large that two processes make its rows: it must be the one that a single process makes."""

from __future__ import annotations

import json
import os
import signal
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from coinjar.cli.grid_parts import GridPart
from coinjar.core.errors import InputError
from coinjar.system.second_process import Assistant, beside
from tests.conftest import Coinjar

VARIABLES, STAGES, SERVICES = 1400, 30, 30
USUAL = "{}", "text @"
ODD = {
    5: ("{secret: true}", "made-up-secret-@"),
    6: ("{secret: true}", "made-up-secret-of-all"),
    7: ("{}", '{text: "${NAME_5:-none} and ${NAME_8:-none}"}'),
    9: ("{kind: port}", "not-a-port-@"),
    11: ("{services: [service1, service2]}", "ÄÖ @"),
    13: ("{required: true}", "text"),
    15: ("{stages: [stage1, stage2]}", "text"),
    17: ("{}", "{command: [/bin/false]}"),
    19: ("{default: usual}", "{unset: true}"),
}
"""By the number's rest after division by 20: what a variable declares, and its value on a stage."""


@pytest.fixture
def large(jar: Callable[..., Coinjar]) -> Coinjar:
    """42,000 cells by stage, and as many by service, of every sort; each chunk of 500 variables has all sorts."""
    names = [f"NAME_{number}" for number in range(VARIABLES)]
    services = ", ".join(f"service{number}: {{}}" for number in range(SERVICES))
    follows = ", ".join(
        f"stage{number}: {{{f'follows: stage{number - 1}' if number % 5 else ''}}}" for number in range(STAGES)
    )
    sorts = [ODD.get(number % 20, USUAL) for number in range(VARIABLES)]
    declared = "".join(f"  {name}: {declaration}\n" for name, (declaration, _) in zip(names, sorts, strict=True))
    layers = {}
    for stage in range(STAGES):
        lines = [
            f"  {name}: {value.replace('@', str(stage % 9))}\n"
            for number, (name, (_, value)) in enumerate(zip(names, sorts, strict=True))
            if (number + stage) % 7 == 0 and number % 20 != 13 and (number % 20 != 15 or stage in (1, 2))
        ]
        layers[f"stage{stage}"] = "all:\n" + "".join(lines) + "service3:\n  NAME_1: of one\n  NAME_2: of one\n"
    return jar(f"services: {{{services}}}\nstages: {{{follows}}}\nvariables:\n{declared}", **layers)


@pytest.fixture
def copies(monkeypatch: pytest.MonkeyPatch) -> Iterator[list[int]]:
    """The processes that were started as copies of this one; there can be one although tests have threads."""
    started: list[int] = []
    fork = os.fork

    def noted() -> int:
        started.append(process := fork())
        return process

    monkeypatch.setattr("threading.active_count", lambda: 1)
    monkeypatch.setattr("os.sched_getaffinity", lambda _: {0, 1})
    monkeypatch.setattr("os.fork", noted)
    yield started
    for process in started:
        with pytest.raises(ChildProcessError):  # each was waited for
            os.waitpid(process, os.WNOHANG)


FORMS = [
    [],
    ["--json"],
    ["--show-secrets"],
    ["--different"],
    ["--missing"],
    ["--by-default", "--json"],
    ["--name", "*1*", "--name", "*2*"],
    ["--color", "always"],
    ["--service", "service3", "--service", "service1"],
    ["stage7", "--by-service"],
    ["stage7", "--by-service", "--json"],
]


@pytest.mark.parametrize("form", FORMS, ids=" ".join)
def test_two_processes_show_what_one_does(
    large: Coinjar, copies: list[int], monkeypatch: pytest.MonkeyPatch, form: list[str]
) -> None:
    given = ["--color", "always", "grid"] if "--color" in form else ["grid", *form]
    both = large(*given)
    assert len(copies) == (0 if "--name" in form else 1)  # too few names to pay
    monkeypatch.setattr("os.sched_getaffinity", lambda _: {0})
    assert large(*given) == both
    if "--json" in form:
        assert both.out == json.dumps(json.loads(both.out), indent=2, ensure_ascii=False) + "\n"


def test_ages_and_values_of_ones_own_are_left_to_one_process(large: Coinjar, copies: list[int]) -> None:
    large("grid", "--ages")
    large("grid", "--mine")
    assert copies == []


def test_a_secret_is_never_made_into_text_by_the_second_process(large: Coinjar, copies: list[int]) -> None:
    """Its tag would be numbered twice."""
    tags = {
        cell["masked"]
        for row in json.loads(large("grid", "--json").out)["rows"]
        for cell in row["cells"].values()
        if "masked" in cell
    }
    numbers = {int(tag.rpartition("#")[2]) for tag in tags}
    assert copies
    assert numbers == set(range(1, len(numbers) + 1))


@pytest.mark.parametrize(("form", "method"), [([], "facts"), ([], "lines"), (["--json"], "json_rows")])
def test_a_copy_that_is_killed_changes_nothing(
    large: Coinjar, copies: list[int], monkeypatch: pytest.MonkeyPatch, form: list[str], method: str
) -> None:
    wanted = large("grid", *form)
    usual, here, calls = getattr(GridPart, method), os.getpid(), []

    def deadly(part: GridPart, *arguments: object) -> object:
        calls.append(arguments)
        if os.getpid() != here and (method != "lines" or len(calls) > 1):
            os.kill(os.getpid(), signal.SIGKILL)
        return usual(part, *arguments)

    deadly.__name__ = method
    monkeypatch.setattr(GridPart, method, deadly)
    assert large("grid", *form) == wanted
    assert len(copies) == 2


class _Sum:
    def __init__(self) -> None:
        self.made_in = os.getpid()

    def of(self, number: int, *, twice: bool = False) -> tuple[int, int]:
        return self.made_in, number * (2 if twice else 1)

    def fail(self) -> None:
        raise InputError("it is too much", hint="add less")


def test_an_assistant_answers_in_order_and_its_errors_are_raised_here(copies: list[int]) -> None:
    with Assistant.started(_Sum) as other:
        assert other is not None
        results = [other.ask(_Sum.of, number, twice=number == 3) for number in range(5)]
        assert [result() for result in results] == [(copies[0], number) for number in (0, 1, 2, 6, 4)]
        with pytest.raises(InputError, match="it is too much"):  # done again, by one that is made here
            other.ask(_Sum.fail)()
        assert other.ask(_Sum.of, 1)() == (os.getpid(), 1)


def test_a_limit_on_processes_is_no_fault(copies: list[int], monkeypatch: pytest.MonkeyPatch) -> None:
    def refused() -> int:
        raise BlockingIOError(11, "Resource temporarily unavailable")

    monkeypatch.setattr("os.fork", refused)
    before = len(list(Path("/proc/self/fd").iterdir()))
    with Assistant.started(_Sum) as other:
        assert other is None
    assert len(list(Path("/proc/self/fd").iterdir())) == before
    assert beside(lambda: "done here")() == "done here"
    assert copies == []


def test_there_is_no_assistant_beside_other_threads(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("threading.active_count", lambda: 2)
    with Assistant.started(_Sum) as other:
        assert other is None
