"""The docs are true: commands run, the reference is the program's own, names exist."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

import coinjar
from coinjar.cli.main import COMMANDS
from coinjar.core.kinds import KINDS
from coinjar.core.references import ADDITIONS
from coinjar.dialects import BUILT_IN
from tests.conftest import Coinjar

ROOT = Path(__file__).parent.parent
STEP = re.compile(r"\$ (?P<command>.*?)(?:   # exit (?P<code>\d))?")


def steps(page: str) -> list[tuple[str, int, list[str]]]:
    """Each command that a page shows in a console block, how it ends, and the lines that it shows of the output."""
    result: list[tuple[str, int, list[str]]] = []
    for block in re.findall(r"```console\n(.*?)```", (ROOT / page).read_text(), re.DOTALL):
        for line in block.splitlines():
            step = STEP.fullmatch(line)
            if step:
                result.append((step["command"], int(step["code"] or 0), []))
            else:
                result[-1][2].append(line)
    return result


def test_the_first_ten_minutes_work_in_an_empty_folder(cj: Coinjar) -> None:
    run_as_shown(cj, "README.md")
    assert len((ROOT / "README.md").read_text().splitlines()) <= 130


def test_the_guide_runs_on_the_demo(demo: Coinjar) -> None:
    run_as_shown(demo, *chapters())


@pytest.mark.parametrize("page", ["docs/ci.md", "docs/troubleshooting.md"])
def test_what_a_page_shows_runs_on_the_demo(demo: Coinjar, page: str) -> None:
    run_as_shown(demo, page)


def chapters() -> list[str]:
    """The guide, in the order of its index."""
    names = re.findall(r"^\| \[(\w+)\]", (ROOT / "docs/guide/index.md").read_text(), re.MULTILINE)
    assert {f"{name}.md" for name in (*names, "index")} == {path.name for path in (ROOT / "docs/guide").iterdir()}
    return [f"docs/guide/{name}.md" for name in names]


def run_as_shown(cj: Coinjar, *pages: str) -> None:
    """Run every command that pages show, in order, in one shell; each line that they show is one of the output."""
    shown = [step for page in pages for step in steps(page)]
    assert len(shown) > 5
    env = {name: text for name, text in cj.env.items() if name != "COINJAR_IDENTITY"} | {
        "COLUMNS": "158"
    }  # the page makes its own
    for command, code, lines in shown:
        other_name = (
            f"{command}\ncode=$?; env -0 >.env.of.this.shell; exit $code"  # all of a page is typed into one shell
        )
        done = subprocess.run(
            ["sh", "-c", other_name], cwd=cj.folder, env=env, capture_output=True, text=True, check=False
        )
        env = dict(pair.split("=", 1) for pair in cj.read(".env.of.this.shell").split("\0") if pair)
        assert done.returncode == code, (command, done.stdout, done.stderr)
        out = [" ".join(line.split()) for line in (done.stdout + done.stderr).splitlines()]
        for line in lines:
            assert " ".join(line.split()) in out, (command, line, out)


def test_the_reference_is_the_programs_own_help() -> None:
    created = subprocess.run(
        [sys.executable, ROOT / "tools/reference.py"], capture_output=True, text=True, check=True
    ).stdout
    assert (ROOT / "docs/reference.md").read_text() == created, "run `make docs`"
    assert re.findall(r"^## (\S+)$", created, re.MULTILINE) == [*COMMANDS, "Library"]
    assert re.findall(r"^- `coinjar\.(\w+)`: .", created, re.MULTILINE) == coinjar.__all__


def test_formats_name_every_kind_dialect_and_addition() -> None:
    page = (ROOT / "docs/formats.md").read_text()
    assert [name for name in [*KINDS, *BUILT_IN] if f"| `{name}` |" not in page] == []
    assert [name for name in ADDITIONS if f"`@{name}`" not in page] == []
    for name, kind in KINDS.items():
        row = next(line for line in page.splitlines() if line.startswith(f"| `{name}` |"))
        assert all(f"`{taken}`" in row or f"`{taken}:" in row or "as text" in row for taken in kind.constraints), name


def test_the_library_door(demo: Coinjar) -> None:
    assert sorted(coinjar.__all__) == sorted(name for name in coinjar.__all__ if getattr(coinjar, name).__doc__)
    assert sorted(coinjar.__all__) == coinjar.__all__
    with pytest.raises(AttributeError):
        _ = coinjar.nope
    used = re.findall(r"coinjar\.(\w+)\(", (ROOT / "README.md").read_text())
    assert set(used) <= set(coinjar.__all__)
    jar = coinjar.open_jar(demo.folder / "jar")
    resolution = jar.resolve("prod", service="ticketing")
    assert resolution.environment()["TICKET_DB_HOST"] == "db.prod.sandling.example"
    assert resolution["LOG_LEVEL"].definition is not None
    assert str(resolution["LOG_LEVEL"].definition.location).endswith("jar/plain/prod.yaml:2:14")
    assert "made-up" not in repr(dict(resolution))
    with pytest.raises(coinjar.UsageError, match="which service") as caught:
        jar.resolve("prod")
    assert caught.value.exit_code == 2
    with pytest.raises(coinjar.ErrorGroup) as many:
        jar.resolve("dev", service="ticketing")
    assert all(isinstance(error, coinjar.InputError) and error.hint for error in many.value.errors)


def test_json_shapes_have_the_keys_that_are_told(demo: Coinjar) -> None:
    page = (ROOT / "docs/json.md").read_text()
    for command, code in {
        ("grid",): 0,
        ("why", "prod", "TICKET_DB_URL", "-s", "ticketing"): 0,
        ("compare", "dev", "prod"): 1,
        ("check",): 1,
        ("mentions",): 0,
        ("value", "prod", "TICKET_DB_PASSWORD", "PUBLIC_URL"): 0,
        ("promote", "rehearsal", "prod", "--dry-run"): 1,
        ("read", "old.env"): 0,
        ("adopt", "old.env", "--stage", "dev", "--dry-run"): 1,
        ("stages", "list"): 0,
        ("services", "list"): 0,
        ("app", "show"): 0,
        ("overdue", "--all"): 0,
        ("report",): 0,
        ("stages", "rename", "prod", "live", "--dry-run"): 1,
        ("stages", "copy", "rehearsal", "twin", "--dry-run"): 1,
        ("stages", "remove", "prod-isles", "--dry-run"): 1,
        ("services", "remove", "berths", "--dry-run"): 1,
        ("lift", "--dry-run"): 1,
        ("undo", "--dry-run"): 1,
        ("resolve",): 0,
        ("rename", "SEASON", "TIME_OF_YEAR", "--dry-run"): 1,
        ("migrate", "file:old.env", "file+json:new.json", "--out", "m.yaml", "--stage", "dev"): 0,
        ("migrate", "--execute", "m.yaml", "--yes", "--dry-run"): 0,
        ("declare", "LOG_*", "SEASON", "--about", "Of spring", "--dry-run"): 1,
        ("generate", "TICKET_DB_PASSWORD", "--stage", "dev", "--replace", "--dry-run"): 1,
        ("drop", "APP_*", "SEASON", "--stage", "rehearsal", "--dry-run"): 1,
        ("drop", "NIGHT_BOAT", "--everywhere", "--dry-run"): 1,
        ("rotate", "TICKET_DB_PASSWORD", "--stage", "prod", "--until", "made", "--yes"): 0,
    }.items():
        titles = {
            "stages": "stages, services, app",
            "services": "stages, services, app",
            "app": "stages, services, app",
            "promote": "promote, lift",
            "lift": "promote, lift",
            "read": "read, adopt",
            "adopt": "read, adopt",
        } | dict.fromkeys(("declare", "generate", "drop"), "declare, generate, drop")
        if command[0] == "undo":
            demo("put", "SEASON=1.20", "--stage", "dev")
        if command[0] == "rotate":
            demo("readers", "seal")
        title = titles.get(command[0], command[0])
        section = page.split(f"## {title}\n")[1].split("\n## ")[0]
        if "findings" in section and command != ("check",):
            section += page.split("## check\n")[1].split("\n## ")[0]  # the same findings
        messages = set(re.findall(r'"(\w+)"\??:', section))
        data = json.loads(demo(*command, "--json", code=code).out)
        assert _keys(data) <= messages, command


_BY_NAME = ("kinds", "states", "parts", "apartness", "approvals", "opens")
"""What maps the names of variables, kinds or states to numbers and words."""


def _keys(data: object) -> set[str]:
    if isinstance(data, list):
        return {key for element in data for key in _keys(element)}
    if isinstance(data, dict):
        inner = {key for name, value in data.items() if name not in _BY_NAME for key in _keys(value)}
        return inner | {key for key in data if key not in ("dev", "rehearsal", "prod", "prod-isles")}
    return set()


def test_the_demo_holds(tmp_path: Path) -> None:
    done = subprocess.run(
        [Path(sys.executable).parent / "coinjar", "demo", "--keep", tmp_path / "kept"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stdout + done.stderr
    assert re.search(r"All \d+ statements are true", done.stdout)
    assert (tmp_path / "kept/jar/jar.yaml").is_file()
    assert not [process for process in Path("/proc").glob("[0-9]*/cwd") if _points_into(process, tmp_path)]


def _points_into(link: Path, folder: Path) -> bool:
    """Whether a process works in a folder; those of others, and those that have ended, cannot be asked."""
    try:
        return link.readlink().is_relative_to(folder)
    except OSError:
        return False


def test_a_demo_that_does_not_hold_says_so(tmp_path: Path) -> None:
    """With a program that answers wrongly in the demo's place: exit code 1, and everything is cleaned up."""
    wrong = (
        "import sys\nfrom coinjar.demo import walk\nfrom coinjar.cli.main import main\n"
        "walk.DemoRun.answer = lambda self, port: {'pid': 0, 'settings': {'PUBLIC_URL': 'x', 'APP_TITLE': "
        "'y'}}\nsys.exit(main(['demo']))"
    )
    env = {"PATH": "/usr/bin:/bin", "HOME": str(tmp_path), "TMPDIR": str(tmp_path)}
    done = subprocess.run(
        [sys.executable, "-c", wrong], cwd=tmp_path, env=env, capture_output=True, text=True, check=False
    )
    assert done.returncode == 1, done.stdout
    assert "The demo failed: timetable on dev is the started process" in done.stderr
    assert list(tmp_path.iterdir()) == []
    assert not [process for process in Path("/proc").glob("[0-9]*/cwd") if _points_into(process, tmp_path)]


def test_pictures_and_pages_are_there() -> None:
    pages = [ROOT / "README.md", *(ROOT / "docs").rglob("*.md")]
    linked = {
        (page.parent / path).resolve() for page in pages for path in re.findall(r"\]\(([\w./-]+)\)", page.read_text())
    }
    assert [path for path in linked if not path.is_file()] == []
    for chapter in chapters():
        assert "](../screenshots/" in (ROOT / chapter).read_text(), chapter
    assert {path.name for path in (ROOT / "docs/screenshots").iterdir()} == {
        path.name for path in linked if path.suffix == ".png"
    }
