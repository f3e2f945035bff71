"""Measure Coin Jar against plain programs that do the least that could be done, in the same run.

Prints each median ratio beside its budget and the last recorded one; ends with 1 if any is over its budget.
`--record` keeps the figures in bench/recorded.json. Whole processes, run in turn; `--runs N` sets how many pairs.
"""

from __future__ import annotations

import argparse
import json
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple

from bench.code import code_tree, labels
from bench.growth import BUDGET as GROWTH_BUDGET
from bench.growth import as_table, growth_table, plain_growth
from bench.jars import STAGES, add_destinations, big_jar, sealed_jar, small_jar, wide_jar
from bench.live import host_ratios
from bench.platforms import platform_ratios
from bench.records import BUDGET as RECORDS_BUDGET
from bench.records import record_times

RECORDED = Path(__file__).parent / "recorded.json"
PYTHON = sys.executable
COINJAR = str(Path(PYTHON).parent / "coinjar")
PARSE = (
    "import sys, yaml\nfor path in sys.argv[1:]:\n    yaml.compose(open(path, 'rb').read(), Loader=yaml.CBaseLoader)"
)
WRITE = """
import json, os
for path, text in json.load(open("all.json")).items():
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "w") as file:
        file.write(text)
"""
"""Writes the files of all.json."""
MEMORY_BUDGET = 300
"""MiB."""


class Case(NamedTuple):
    """A command against its yardstick: the ratio of their whole-process times must stay within `budget`."""

    name: str
    command: Sequence[str]
    yardstick: Sequence[str]
    budget: float


def environment(folder: Path) -> dict[str, str]:
    """What measured programs get: the folder is their home, with the identity that is in it."""
    return {
        "PATH": os.environ["PATH"],
        "HOME": str(folder),
        **{name: os.environ[name] for name in ("XDG_CACHE_HOME",) if name in os.environ},
    }


def seconds(command: Sequence[str], folder: Path) -> float:
    """Wall time of one run. Exit codes 0 and 1 count as done (compare and check find things)."""
    env = environment(folder)
    start = time.perf_counter()
    done = subprocess.run(command, cwd=folder, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, check=False)
    took = time.perf_counter() - start
    if done.returncode > 1:
        sys.exit(f"{' '.join(command)} ended with {done.returncode}: {done.stderr.decode()}")
    return took


def measured(case: Case, folder: Path, runs: int) -> list[float]:
    """Ratios of pairs of runs, after one pair that is not counted."""
    pairs = [(seconds(case.command, folder), seconds(case.yardstick, folder)) for _ in range(runs + 1)]
    return [number / other for number, other in pairs[1:]]


def small_cases(folder: Path) -> list[Case]:
    """Start-up, with 50 variables."""
    bare = [PYTHON, "-I", "-c", "pass"]
    script, sourced = folder / "start", folder / "sourced"
    for path, dialect in ((script, "exec-script"), (sourced, "posix")):
        path.write_bytes(subprocess.check_output([COINJAR, "render", "dev", "--as", dialect], cwd=folder))
    return [
        Case("--version", [COINJAR, "--version"], bare, 2.5),
        Case("--help", [COINJAR, "--help"], bare, 11),
        Case("within, 50 variables", [COINJAR, "within", "dev", "--", "/bin/true"], bare, 5),
        Case("render, 50 variables", [COINJAR, "render", "dev", "--as", "posix"], bare, 8),
        Case(
            "exec-script, 50 variables",
            ["sh", str(script), "/bin/true"],
            ["sh", "-c", f". {sourced}; exec /bin/true"],
            1.2,
        ),
    ]


def sealed_cases(folder: Path) -> list[Case]:
    """A secret among 50 variables; and a stage of 5,000 sealed values against the same values in plain text."""
    bare = [PYTHON, "-I", "-c", "pass"]
    for name in ("few", "sealed", "plain"):
        sealed_jar(folder / name, 1 if name == "few" else 5000)
        if name != "plain":
            subprocess.run(
                [COINJAR, "--jar", str(folder / name), "readers", "seal"],
                cwd=folder,
                env=environment(folder),
                check=True,
                capture_output=True,
            )
    render = ["render", "dev", "--as", "json"]
    return [
        Case("within, a secret among 50", [COINJAR, "--jar", "few", "within", "dev", "--", "/bin/true"], bare, 6),
        Case(
            "5,000 sealed, against plain",
            [COINJAR, "--jar", "sealed", *render],
            [COINJAR, "--jar", "plain", *render],
            1.4,
        ),
    ]


def big_cases() -> list[Case]:
    """5,000 variables, 40 stages, 10 services: against only parsing the files that are needed."""

    def parse(*stages: str) -> list[str]:
        return [
            PYTHON,
            "-I",
            "-c",
            PARSE,
            "jar/jar.yaml",
            "jar/plain/shared.yaml",
            *(f"jar/plain/{stage}.yaml" for stage in stages),
        ]

    chain = [f"stage{number}" for number in range(4)]
    every = parse(*(f"stage{number}" for number in range(STAGES)))
    return [
        Case(
            "big: render one stage",
            [COINJAR, "render", "stage3", "--service", "service1", "--as", "json"],
            parse(*chain),
            1.4,
        ),
        Case(
            "big: compare two stages",
            [COINJAR, "compare", "stage3", "stage7"],
            parse(*chain, *(f"stage{number}" for number in range(4, 8))),
            2,
        ),
        Case("big: grid", [COINJAR, "grid"], every, 2.5),  # all 40 stages: nothing is cut where there is no terminal
        Case("big: check", [COINJAR, "check"], every, 2.5),
    ]


def destination_cases() -> list[Case]:
    """The same jar with destinations of every sort: 46 files, 10 services in two dialects and in manifests."""
    chain = ["jar/jar.yaml", "jar/plain/shared.yaml", *(f"jar/plain/stage{number}.yaml" for number in range(4))]
    return [Case("big: render all destinations", [COINJAR, "render", "stage3"], [PYTHON, "-I", "-c", PARSE, *chain], 6)]


def wide_cases(folder: Path) -> list[Case]:
    """300 services on 8 stages: all files against a program that has their bytes and writes them; `check` against
    parsing.
    """
    subprocess.run(
        [COINJAR, "render", "--every-stage"], cwd=folder, env=environment(folder), check=True, capture_output=True
    )
    files = {str(path.relative_to(folder)): path.read_text() for path in (folder / "out").rglob("*.env")}
    (folder / "all.json").write_text(json.dumps(files))
    parse = [PYTHON, "-I", "-c", PARSE, *sorted(str(path) for path in (folder / "jar").rglob("*.yaml"))]
    return [
        Case(
            "wide: render every stage",
            ["sh", "-c", f"rm -rf out; exec {COINJAR} render --every-stage"],
            ["sh", "-c", f"rm -rf out; exec {PYTHON} -I -c '{WRITE}'"],
            8,
        ),
        Case("wide: check", [COINJAR, "check"], parse, 4),
    ]


DESTINATIONS = destination_cases()
"""Measured last: the jar gets its destinations for them."""


LIVE: list[tuple[str, float, Callable[[Path, int], list[float]]]] = [
    ("deliver: 100 hosts, 50 ms", 1.1, lambda folder, runs: host_ratios(COINJAR, folder, runs)),
]
"""Deliveries to a hundred hosts, against the slowest of them."""
PLATFORMS = {"whole": "the whole set", "batch": "50 at a time", "single": "one by one"}
"""Deliveries of 500 variables, by how a platform takes them: requests and time against a plain asynchronous client."""
REQUESTS_BUDGET, TIME_BUDGET = 1.1, 1.5


GREP = ["grep", "-rE", r"process\.env|os\.environ|getenv|Getenv|ENV\[|env::var|GetEnvironmentVariable", "."]


def mention_ratios(folder: Path, runs: int, *, cached: bool) -> list[float]:
    """Looking through 10,000 files against grep on the same tree, anew or with what is known from the last look."""
    code_tree(folder / "code")
    command = [COINJAR, "mentions", ".", "--json", *([] if cached else ["--no-cache"])]
    os.environ["XDG_CACHE_HOME"] = str(folder / "cache")
    return measured(Case("", command, GREP, 0), folder / "code", runs)


CODE: list[tuple[str, float, Callable[[Path, int], list[float]]]] = [
    ("mentions: 10,000 files", 15, lambda folder, runs: mention_ratios(folder, runs, cached=False)),
    ("mentions: again, cached", 4, lambda folder, runs: mention_ratios(folder, runs, cached=True)),
]


class Report:
    """Prints each median beside its budget and the last one."""

    def __init__(self, recorded: dict[str, float]) -> None:
        self.recorded = recorded
        self.figures: dict[str, float] = {}
        self.over: list[str] = []

    def print_error(self, name: str, budget: float, ratios: list[float]) -> None:
        self.figures[name] = round(statistics.median(ratios), 2)
        mark = "" if self.figures[name] <= budget else "   OVER"
        self.over += [name] if mark else []
        last = f"{self.recorded[name]:.2f}" if name in self.recorded else "-"
        print(
            f"{name:28}{self.figures[name]:8.2f}{budget:8.2f}{last:>8}   {min(ratios):.2f} to {max(ratios):.2f}{mark}",
            flush=True,
        )


def tell_labels() -> None:
    """How well mentions are found: precision at least 0.98, recall at least 0.95 (a test holds them)."""
    by_language, total = labels()
    for name, score in [*by_language.items(), ("all labels", total)]:
        print(f"{name:28}precision {score.precision:.3f}   recall {score.recall:.3f}   of {score.labelled}")


def measure_platforms(report: Report, only: str, runs: int) -> None:
    """Measure the deliveries to platforms whose names hold `only`."""
    for kind, words in PLATFORMS.items():
        name = f"500, {words}"
        if only in name:
            with tempfile.TemporaryDirectory() as own:
                requests, times = platform_ratios(COINJAR, kind, Path(own), runs)
                report.print_error(f"{name}: requests", REQUESTS_BUDGET, requests)
                report.print_error(f"{name}: time", TIME_BUDGET, times)


def measure_records(report: Report, only: str, runs: int) -> None:
    """Measure what is asked of a million deliveries, in milliseconds."""
    if only in "records of a million deliveries":
        with tempfile.TemporaryDirectory() as own:
            for name, milliseconds in record_times(Path(own), runs).items():
                report.print_error(f"records, ms: {name}"[:28], RECORDS_BUDGET, [milliseconds])


def measure_growth(report: Report, only: str) -> None:
    """Measure how time and memory grow, and write the table of docs/scale.md."""
    if only not in "growth":
        return
    plain, table = plain_growth(), growth_table()
    print(as_table(table, plain))
    more = max(plain.time - 1, 0)  # what this machine adds to work that is linear
    for thing, commands in table.items():
        for command, found in commands.items():
            report.over += [
                f"growth of {what} with {thing} ({command})"
                for what, exponent in (("time", found.time - more), ("memory", found.memory))
                if exponent > GROWTH_BUDGET
            ]
    before, _, rest = SCALE.read_text().partition(_BEGIN)
    SCALE.write_text(f"{before}{_BEGIN}\n{as_table(table, plain)}\n{_END}{rest.partition(_END)[2]}")


SCALE = Path(__file__).parent.parent / "docs" / "scale.md"
_BEGIN, _END = "<!-- growth: make bench -->", "<!-- end of growth -->"


def main() -> int:
    """Run every case."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--record", action="store_true", help="keep the figures")
    options.add_argument("--runs", type=int, default=15, help="pairs of runs a case")
    options.add_argument("--only", default="", help="cases whose name holds this")
    chosen = options.parse_args()
    recorded = json.loads(RECORDED.read_text()) if RECORDED.exists() else {}
    report = Report(recorded)
    with (
        tempfile.TemporaryDirectory() as small,
        tempfile.TemporaryDirectory() as big,
        tempfile.TemporaryDirectory() as sealed,
        tempfile.TemporaryDirectory() as wide,
    ):
        small_jar(Path(small))
        subprocess.run([COINJAR, "identity", "new"], env=environment(Path(sealed)), check=True, capture_output=True)
        big_jar(Path(big))
        wide_jar(Path(wide))
        print(f"{'':28}{'median':>8}{'budget':>8}{'last':>8}   min to max of {chosen.runs} pairs")
        for folder, cases in (
            (Path(small), small_cases(Path(small))),
            (Path(sealed), sealed_cases(Path(sealed))),
            (Path(wide), wide_cases(Path(wide))),
            (Path(big), big_cases()),
            (Path(big), DESTINATIONS),
        ):
            if cases is DESTINATIONS:
                add_destinations(folder / "jar")
            for case in cases:
                if chosen.only in case.name:
                    report.print_error(case.name, case.budget, measured(case, folder, chosen.runs))
    for name, budget, measure in [*CODE, *LIVE]:
        if chosen.only in name:
            with tempfile.TemporaryDirectory() as own:
                report.print_error(name, budget, measure(Path(own), max(3, chosen.runs // 3)))
    measure_platforms(report, chosen.only, max(3, chosen.runs // 3))
    measure_records(report, chosen.only, chosen.runs)
    measure_growth(report, chosen.only)
    if chosen.only in "labels":
        tell_labels()
    figures, over = report.figures, report.over
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    figures["memory, MiB"] = round(peak)
    over += ["memory"] if peak > MEMORY_BUDGET else []
    print(
        f"{'memory, MiB':28}{peak:8.0f}{MEMORY_BUDGET:8}{recorded.get('memory, MiB', '-'):>8}   the largest process "
        "of all"
    )
    if chosen.record:
        RECORDED.write_text(json.dumps(recorded | figures, indent=2) + "\n")
    print(f"over budget: {', '.join(over)}" if over else "all within budget")
    return 1 if over else 0


if __name__ == "__main__":
    sys.exit(main())
