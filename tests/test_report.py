"""`report`: the page as a file, the figures, the reference, the data; and what it must not say."""

from __future__ import annotations

import json
import re
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Coinjar
from tests.jars import somebody
from tests.systems import standin

SMALLEST = "services: {web: {}}\nstages: {dev: {}}\nvariables: {HOST: {}}\n"


def page(cj: Coinjar, *words: str) -> str:
    cj("report", "--out", "report.html", *words)
    return cj.read("report.html")


def git(cj: Coinjar, *words: str) -> None:
    who = ("-c", "user.name=anna", "-c", "user.email=anna@sandling.example")
    subprocess.run(["git", *who, *words], cwd=cj.folder, env=cj.env, check=True, capture_output=True)


def test_the_page_needs_nothing_and_is_small(demo: Coinjar) -> None:
    demo("readers", "seal")
    text = page(demo)
    assert len(text.encode()) < 500_000
    assert not re.search(r"(?:src|href)=[\"']?(?!#)(?!data:)\w", text)
    assert 'http-equiv="Content-Security-Policy"' in text
    for name in ("TICKET_DB_PASSWORD", "Sandling Ferries", "timetable", "prod-isles", "jar/plain/prod.yaml:"):
        assert name in text
    assert "made-up" not in text  # every secret of the sample
    for part in ("Stages, and what follows what", "Variables by kind", "How far apart stages are", "Ages of secrets"):
        assert part in text
    assert page(demo) == text  # the second time the same


def test_a_large_jar_stays_below_eight_megabytes(jar: Callable[..., Coinjar]) -> None:
    names = [f"SETTING_{number:04d}" for number in range(1000)]
    stages = [f"stage-{number:02d}" for number in range(40)]
    cj = jar(
        "services: {web: {}, worker: {}, mailer: {}}\nstages:\n"
        + "".join(f"  {stage}: {{}}\n" for stage in stages)
        + "variables:\n"
        + "".join(f"  {name}: {{about: What it is for, default: value}}\n" for name in names)
    )
    cj.write(
        {
            f"jar/plain/{stage}.yaml": "all:\n"
            + "".join(
                f"  {name}: https://host-{at}.{stage}.example/path\n"
                for at, name in enumerate(names)
                if (at + number) % 5
            )
            for number, stage in enumerate(stages)
        }
    )
    assert len(page(cj).encode()) < 8_000_000


def test_the_smallest_jar_and_an_empty_one(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALLEST)
    assert "1 variable of 1 service on 1 stage." in page(cj)
    assert json.loads(cj("report", "--json").out)["distances"] == []
    cj.write(
        {"jar/jar.yaml": "coinjar: 1\napp: trial\nservices: {web: {}}\nstages: {dev: {}, prod: {}}\nvariables: {}\n"}
    )
    assert "0 variables of 1 service on 2 stages." in page(cj)
    cj("report", "--plots", "plots")
    assert {path.suffix for path in (cj.folder / "plots").iterdir()} == {".png", ".svg"}


def test_it_says_what_it_did_not_look_at(demo: Coinjar) -> None:
    demo("readers", "seal")
    nobody, _ = somebody(demo, "nobody")
    done = demo("report", "--out", "report.html", env=nobody)
    text = demo.read("report.html")
    for what in ("secrets that this identity cannot decrypt", "no repository of version control", "the age of"):
        assert what in done.err
        assert what in text
    overview = text.split('id="overview"')[1].split("<figure>")[0]
    assert 'class="good">0 are overdue' not in overview
    assert "values could not be checked" in overview


def test_a_secret_in_plain_text_has_no_age(demo: Coinjar) -> None:
    """And is not among those that are not overdue."""
    data = json.loads(demo("report", "--json").out)
    assert data["undated"] == 2
    assert any("secrets in plain text: 2 in all" in what for what in data["not_looked_at"])
    demo("readers", "seal")
    assert json.loads(demo("report", "--json").out)["undated"] == 0


def test_the_figures_are_files(demo: Coinjar) -> None:
    done = demo("report", "--plots", "plots")
    assert "as PNG and SVG" in done.err
    names = {path.name for path in (demo.folder / "plots").iterdir()}
    assert {"stages.png", "distances.svg", "apart.png", "kinds.svg", "origins.png"} <= names
    for path in (demo.folder / "plots").iterdir():
        head = path.read_bytes()[:200]
        assert head.startswith(b"\x89PNG") or b"<?xml" in head
    before = {path: path.read_bytes() for path in (demo.folder / "plots").iterdir()}
    demo("report", "--plots", "plots")
    assert {path: path.read_bytes() for path in before} == before
    assert not (demo.folder / "report.html").exists()


def test_the_reference_changes_with_declarations_alone(demo: Coinjar) -> None:
    words = ("report", "--format", "markdown", "--out", "docs/variables.md")
    assert "not there" in demo(*words, "--verify", code=1).err
    demo(*words)
    text = demo.read("docs/variables.md")
    assert "| [`FARE_ZONES`](#fare_zones) |" in text
    assert "db.prod" not in text  # no stage's values
    assert demo("report", "--format", "markdown").out == text
    assert "up to date" in demo(*words, "--verify").err
    demo("put", "SEASON=1.40", "--stage", "prod")
    demo(*words, "--verify")
    demo("declare", "SEASON", "--about", "The season | of *fares* <b>")
    assert "out of date" in demo(*words, "--verify", code=1).err
    demo(*words)
    assert r"The season \| of \*fares\* \<b\>" in demo.read("docs/variables.md")
    demo(*words, "--verify")


@pytest.mark.parametrize(
    ("words", "fault"),
    [
        (("--format", "pdf"), "there is no format 'pdf'"),
        (("--json", "--out", "x"), "--json is printed"),
        (("--json", "--format", "html"), "--json is printed"),
        (("--verify",), "--verify compares the reference"),
        (("--verify", "--format", "html", "--out", "x"), "--verify compares the reference"),
        (("--format", "markdown", "--plots", "x"), "the reference has no figures"),
        (("--format", "markdown", "--live"), "the reference has no figures"),
    ],
)
def test_options_that_do_not_go_together(jar: Callable[..., Coinjar], words: tuple[str, ...], fault: str) -> None:
    cj = jar(SMALLEST)
    assert fault in cj("report", *words, code=2).err
    assert not (cj.folder / "x").exists()


def test_the_distance_over_time(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {web: {}}\nstages: {dev: {}, prod: {guarded: true}}\nvariables: {HOST: {}, LEVEL: {}}\n")
    git(cj, "init", "-q")
    for number in range(5):
        cj("put", f"HOST=h{number}", "--stage", "dev")
        cj("put", "HOST=h2", "--stage", "prod")
        git(cj, "add", "jar")
        git(cj, "commit", "-qm", f"Step {number} $x^2$ <b>")
    past = json.loads(cj("report", "--json").out)["past"]
    assert [row["distances"][0]["distance"] for row in past] == [1.0, 1.0, 0.0, 1.0, 1.0]
    assert [row["subject"][:6] for row in past] == [f"Step {number}" for number in range(5)]
    some = json.loads(cj("report", "--json", "--revisions", "3").out)["past"]
    assert [row["subject"][:6] for row in some] == ["Step 0", "Step 2", "Step 4"]
    assert json.loads(cj("report", "--json", "--revisions", "0").out)["past"] == []
    assert "The distance over time" in page(cj)
    cj("stages", "rename", "dev", "trial", "--yes")  # followed under its present name
    rows = json.loads(cj("report", "--json").out)["past"]
    assert [(row["distances"][0]["left"], row["distances"][0]["right"]) for row in rows] == [("trial", "prod")] * 5
    cj.write({"jar/plain/prod.yaml": "all: [1]\n"})
    git(cj, "commit", "-qam", "Broken")
    cj.write({"jar/plain/prod.yaml": "all: {HOST: h1}\n"})
    assert "the jar at " in cj("report", "--json").err


def test_running_systems(jar: Callable[..., Coinjar], tmp_path: Path) -> None:
    with standin("saltmarsh", tmp_path / "s", "web-dev", "web-prod") as salt:
        cj = jar(
            SMALLEST.replace("{dev: {}}", "{dev: {}, prod: {}}")
            + f"destinations:\n  salt: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}', "
            "app: '{service}-{stage}', token: {from_env: SALT}}\n"
        )
        cj.env |= {"SALT": salt.token}
        for stage in ("dev", "prod"):
            cj("put", f"HOST={stage}.example", "--stage", stage)
        cj("deliver", "dev")
        data = json.loads(cj("report", "--json", "--live").out)
        assert {(row["stage"], row["settled"]) for row in data["drifts"]} == {("dev", False), ("prod", False)}
        cj("deliver", "dev", "--restart")
        data = json.loads(cj("report", "--json", "--live").out)
        assert {(row["stage"], row["settled"]) for row in data["drifts"]} == {("dev", True), ("prod", False)}
        assert [(row["stage"], row["destination"]) for row in data["deliveries"]] == [("dev", "salt")] * 2
        assert "1 of 2 as the jar says" in page(cj, "--live")
        assert json.loads(cj("report", "--json").out)["drifts"] is None
        cj.env["SALT"] = "wrong"
        done = cj("report", "--out", "report.html", "--live")
        assert done.err.count("not looked at: what is live on") == 2
        assert "2 could not be read" in cj.read("report.html")
