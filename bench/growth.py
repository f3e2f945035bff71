"""How time and memory grow when one thing is doubled: the exponent of each, which is 1 where they double with it."""

from __future__ import annotations

import math
import os
import random
import resource
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

BUDGET = 1.1
TIMES = (7, 20)
"""How often all sizes are measured in turn, at least and at most. The median of the exponents counts: a machine whose
speed changes has the same one during most turns.
"""
ENOUGH = 20.0
"""Seconds of processor time for the sizes of one thing, after which they are not measured more often."""


class Size(NamedTuple):
    """A jar to measure."""

    variables: int = 1500
    stages: int = 20
    services: int = 10
    depth: int = 1
    references: int = 0
    destinations: int = 0


GROWTH: dict[str, tuple[Size, Size, Size]] = {
    "variables": (Size(variables=3000), Size(variables=6000), Size(variables=12000)),
    "stages": (Size(stages=40), Size(stages=80), Size(stages=160)),
    "services": (Size(services=40), Size(services=80), Size(services=160)),
    "depth of follows": (Size(stages=40, depth=5), Size(stages=40, depth=10), Size(stages=40, depth=20)),
    "references": (
        Size(variables=4000, references=700),
        Size(variables=4000, references=1400),
        Size(variables=4000, references=2800),
    ),
    "destinations": (Size(destinations=10), Size(destinations=20), Size(destinations=40)),
}
COMMANDS: dict[str, list[str]] = {
    "grid": ["grid"],
    "check": ["check"],
    "render": ["render", "--every-stage", "--verify"],
}


def grown_jar(folder: Path, size: Size) -> Path:
    """A jar of a size: each stage sets a fifth of the variables, one in ten of these for a service of its own."""
    chance = random.Random(11)  # the same jar at every run
    names = [f"VARIABLE_{number}" for number in range(size.variables)]
    lines = ["coinjar: 1", "app: grown", "services:", *(f"  service{number}: {{}}" for number in range(size.services))]
    lines += ["stages:"]
    lines += [
        f"  stage{number}: {{{f'follows: stage{number - 1}' if number % size.depth else ''}}}"
        for number in range(size.stages)
    ]
    lines += ["variables:"]
    for number, name in enumerate(names):
        refers = 0 < number <= size.references
        default = f'{{text: "x-${{{names[number - 1] if number % 2 else names[0]}}}"}}' if refers else f"value-{number}"
        lines += [f"  {name}: {{about: What it is for, default: {default}}}"]
    if size.destinations:
        lines += ["destinations:"]
        lines += [
            f"  place{number}: {{type: file, as: systemd, services: [service1], path: 'out/{{stage}}/{number}.env'}}"
            for number in range(size.destinations)
        ]
    (folder / "jar/plain").mkdir(parents=True)
    (folder / "jar/jar.yaml").write_text("\n".join(lines) + "\n")
    for stage in range(size.stages):
        scopes: dict[str, list[str]] = {"all": []}
        for name in sorted(chance.sample(names[size.references + 1 :], size.variables // 5)):
            scope = "all" if chance.random() < 0.9 else f"service{chance.randrange(size.services)}"
            scopes.setdefault(scope, []).append(f"  {name}: value-{chance.randrange(5)}")
        text = "".join(f"{scope}:\n" + "\n".join(values) + "\n" for scope, values in scopes.items() if values)
        (folder / f"jar/plain/stage{stage}.yaml").write_text(text)
    return folder


_PROBE = """
import os, re, sys
from coinjar.cli.main import main
os.sched_setaffinity(0, {min(os.sched_getaffinity(0))})
sys.stdout = open(os.devnull, "w")
code = main(sys.argv[1:])
with open("/proc/self/status") as status:
    print(re.search(r"VmHWM:\\s+(\\d+)", status.read())[1], file=sys.stderr)
sys.exit(code)
"""
"""On one processor, as a second process would make the greater sizes another program. Tells its own peak: what the
kernel counts for a child begins with the peak of its parent.
"""


PLAIN = """
import gc, re, sys
gc.disable()
held = {f"VARIABLE_{number}": [f"value-{number}", (number, number + 1)] for number in range(int(sys.argv[1]))}
total = sum(len(held[name][0]) for name in held)
with open("/proc/self/status") as status:
    print(re.search(r"VmHWM:\\s+(\\d+)", status.read())[1], file=sys.stderr)
"""
"""Fills a dictionary and reads it: what a machine takes for work that is linear, with as much memory as the jars."""
_PLAIN_SIZES = (60, 30_000, 120_000)


def plain_growth() -> Exponents:
    """The exponents of work that is linear on paper: caches of a processor hold a smaller part of more memory."""
    costs = [[_took([sys.executable, "-c", PLAIN, str(size)]) for size in _PLAIN_SIZES] for _ in range(TIMES[1])]
    return _exponents(costs, doublings=2)


def cost(command: Sequence[str], folder: Path) -> tuple[float, float]:
    """The processor time (seconds) and the peak memory (MiB) of one run."""
    return _took([sys.executable, "-c", _PROBE, "--jar", str(folder / "jar"), *command], HOME=str(folder))


def _took(words: Sequence[str], **more: str) -> tuple[float, float]:
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    environment = {"PATH": os.environ["PATH"], **more}
    done = subprocess.run(words, env=environment, capture_output=True, text=True, check=False)
    if done.returncode > 1:
        sys.exit(f"{' '.join(words[3:])} ended with {done.returncode}: {done.stderr}")
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    took = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return took, int(done.stderr.splitlines()[-1]) / 1024


class Exponents(NamedTuple):
    """Of the greatest doubling: above what the smallest jar costs."""

    time: float
    memory: float
    seconds: float
    mebibytes: float


def exponents(command: Sequence[str], tiny: Path, sizes: Sequence[Size]) -> Exponents:
    """The exponents between the smallest and the greatest of the sizes."""
    with tempfile.TemporaryDirectory() as small, tempfile.TemporaryDirectory() as great:
        folders = (tiny, grown_jar(Path(small), sizes[0]), grown_jar(Path(great), sizes[-1]))
        costs: list[list[tuple[float, float]]] = []
        while len(costs) < TIMES[0] or (len(costs) < TIMES[1] and _seconds(costs) < ENOUGH):
            costs.append([cost(command, folder) for folder in folders])
    return _exponents(costs, doublings=len(sizes) - 1)


def _exponents(costs: Sequence[Sequence[tuple[float, float]]], *, doublings: int) -> Exponents:
    time, memory = (
        statistics.median(
            math.log2(max(last[kind] - least[kind], 1e-3) / max(first[kind] - least[kind], 1e-3)) / doublings
            for least, first, last in costs
        )
        for kind in (0, 1)
    )
    seconds, mebibytes = (min(last[kind] for _, _, last in costs) for kind in (0, 1))
    return Exponents(time, memory, seconds, mebibytes)


def _seconds(costs: Sequence[Sequence[tuple[float, float]]]) -> float:
    return sum(seconds for row in costs for seconds, _ in row)


def growth_table() -> dict[str, dict[str, Exponents]]:
    """The exponents of each command for each thing that grows."""
    with tempfile.TemporaryDirectory() as folder:
        tiny = grown_jar(Path(folder), Size(variables=10, stages=1, services=2, destinations=1))
        return {
            thing: {
                name: exponents(command, tiny, sizes)
                for name, command in COMMANDS.items()
                if (name == "render") == (thing == "destinations")
            }
            for thing, sizes in GROWTH.items()
        }


def as_table(table: dict[str, dict[str, Exponents]], plain: Exponents) -> str:
    """The table of docs/scale.md."""
    lines = ["| grows | command | time | memory | at the greatest |", "|---|---|---|---|---|"]
    lines.append(
        f"| entries of a dictionary | a plain loop | {plain.time:.2f} | {plain.memory:.2f} | {plain.seconds:.2f} s, "
        f"{plain.mebibytes:.0f} MiB ({_PLAIN_SIZES[-1]} entries) |"
    )
    for thing, commands in table.items():
        for name, found in commands.items():
            greatest = GROWTH[thing][-1]
            lines.append(
                f"| {thing} | `{name}` | {found.time:.2f} | {found.memory:.2f} | {found.seconds:.2f} s, "
                f"{found.mebibytes:.0f} MiB ({greatest.variables} variables, {greatest.stages} stages, "
                f"{greatest.services} services) |"
            )
    return "\n".join(lines)
