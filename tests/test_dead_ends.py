"""Where a newcomer got stuck: a traceback, a refusal without a way on, a silence, an act without a question."""

from __future__ import annotations

import json
from collections.abc import Callable

import pytest

from tests.conftest import Coinjar, on_a_terminal


@pytest.fixture
def two(cj: Coinjar) -> Coinjar:
    """A jar with two stages."""
    cj("new", "--app", "x", "--service", "a", "--stage", "staging", "--stage", "qa")
    return cj


def test_export_with_carriage_returns(two: Coinjar) -> None:
    (two.folder / "m.env").write_bytes(b"export A=1\r\nexport B='x y'\r\n")
    for _ in range(2):
        two("adopt", "file:m.env", "--stage", "qa", "--yes")
    assert json.loads(two("render", "qa", "--service", "a", "--as", "json").out) == {"A": "1", "B": "x y"}


def test_a_stage_is_no_source_and_the_error_says_the_way(two: Coinjar) -> None:
    message = two("adopt", "staging", "--stage", "qa", code=2).err
    assert "'staging' is a stage, but a file or another source is required" in message
    assert "`coinjar render staging --as json | coinjar adopt - --stage STAGE`" in message
    two("put", "A=1", "--declare", "--stage", "staging")
    two("adopt", "-", "--stage", "qa", "--yes", stdin=two("render", "staging", "--service", "a", "--as", "json").out)
    assert two("value", "qa", "A").out == "1"


@pytest.mark.parametrize(
    ("name", "text"),
    [
        (".env", "A=1\n"),
        ("compose.yaml", "services:\n  a: {image: x, environment: {A: '1'}}\n"),
        ("other.yml", "services:\n  a: {image: x, environment: [A=1]}\n"),
        (
            "m.yaml",
            "kind: Pod\nmetadata: {name: a}\nspec: {containers: [{name: a, image: x, env: [{name: A, value: '1'}]}]}\n",
        ),
    ],
)
def test_files_need_no_prefix(name: str, text: str, two: Coinjar) -> None:
    two.write({name: text})
    two("adopt", name, "--stage", "qa", "--yes")
    assert two("value", "qa", "A").out == "1"
    assert "1 the same" in two("compare", "qa", name).out


def test_the_dialect_that_keeps_most_is_taken_and_the_loss_is_said(two: Coinjar) -> None:
    two.write({"mix.env": "A='x y'\nexport B=2\nC=a b\nD=\"q\"\n"})
    assert (
        "read as dotenv: it keeps more of it than posix; posix would lose line 3"
        in two("adopt", "mix.env", "--stage", "qa", "--yes").out
    )
    assert json.loads(two("render", "qa", "--service", "a", "--as", "json").out) == {
        "A": "x y",
        "B": "2",
        "C": "a b",
        "D": "q",
    }


@pytest.mark.parametrize(
    "ask",
    [
        ("drop", "A", "--everywhere"),
        ("generate", "A_TOKEN", "--stage", "qa", "--replace"),
        ("readers", "remove", "root", "--everywhere"),
    ],
)
def test_what_loses_something_asks_first(ask: tuple[str, ...], two: Coinjar) -> None:
    two("put", "A=1", "--declare", "--stage", "qa")
    two("put", "A_TOKEN", "--declare", "--stage", "qa", stdin="made-up")
    two(
        "readers",
        "add",
        "age1lvyvwawkr0mcnnnncaghunadrqkmuf9e6507x9y920xxpp866cnql7dp2z",
        "--label",
        "second",
        "--stage",
        "qa",
        "--yes",
    )
    before = {
        path: path.read_bytes()
        for path in (two.folder / "jar").rglob("*")
        if path.is_file() and ".local" not in path.parts
    }
    assert "Add --yes" in two(*ask, code=1).err
    assert {
        path: path.read_bytes()
        for path in (two.folder / "jar").rglob("*")
        if path.is_file() and ".local" not in path.parts
    } == before
    two(*ask, "--yes")
    assert two.read("jar/jar.yaml") + two.read("jar/readers.yaml") + two.read("jar/coins/qa.coins") != "".join(
        before[two.folder / name].decode() for name in ("jar/jar.yaml", "jar/readers.yaml", "jar/coins/qa.coins")
    )


@pytest.mark.parametrize(
    ("typed", "meant"), [("list", "grid"), ("get", "value"), ("set", "put"), ("run", "within"), ("diff", "compare")]
)
def test_words_of_other_programs_lead_on(typed: str, meant: str, two: Coinjar) -> None:
    assert f"did you mean `coinjar {meant}`?" in two(typed, "x", code=2).err


def test_help_and_version(two: Coinjar) -> None:
    assert two("help", "put").out == two("put", "--help").out
    assert two("help").out == two("--help").out
    assert two("-V").out == two("--version").out
    assert "there is no command 'nope'" in two("help", "nope", code=2).err


def test_nothing_is_cut_in_a_pipe_and_nothing_found_is_said(jar: Callable[..., Coinjar]) -> None:
    long = "x" * 300
    stages = ", ".join(f"stage{number}: {{}}" for number in range(30))
    cj = jar(
        f"services: {{a: {{}}}}\nstages: {{{stages}}}\nvariables: {{DB_HOST: {{}}, ÜMLAUT: {{default: ä}}}}\n",
        shared=f"all: {{DB_HOST: {long}}}\n",
    )
    assert cj("grid", process=True).out.count(long) == 30
    result = cj("grid", "--name", "DB")
    assert "no name matches 'DB'; did you mean 'DB*'?" in result.err
    lines = cj("grid", "stage1", "stage2", process=True).out.splitlines()
    assert lines[0] == "trial: 2 variables"
    second = lines[1].index("stage2")
    assert lines[2][second : second + 2] == "○ "  # a column begins at the same place in every row
    assert lines[3][second : second + 3] == "· ä"


def test_a_final_line_break_is_the_pipes_and_exact_keeps_it(two: Coinjar) -> None:
    two("put", "A_TOKEN", "--declare", "--stage", "qa", stdin="made-up\n")
    assert two("value", "qa", "A_TOKEN").out == "made-up"
    two("put", "A_TOKEN", "--stage", "qa", "--exact", stdin="made-up\n")
    assert two("value", "qa", "A_TOKEN").out == "made-up\n"


def test_the_first_readers_label_is_asked_for(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {a: {}}\nstages: {qa: {}}\nvariables: {A_TOKEN: {secret: true, generate: {}}}\n")
    shown = on_a_terminal(cj, "generate", "A_TOKEN", "--stage", "qa", typed="berta\n")
    assert "Which label do you want among its readers?" in shown
    assert "berta" in cj("readers", "list").out
