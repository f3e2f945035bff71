"""How time and memory grow when one thing is doubled: the exponent of each, which is 1 where they double with it."""

from __future__ import annotations

import math
import os
import random
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

COINJAR = str(Path(sys.executable).parent / "coinjar")
BUDGET = 1.1
TIMES = 3
"""How often each size is measured; the least counts, as what disturbs only adds."""


class Size(NamedTuple):
    """A jar to measure."""

    variables: int = 1500
    stages: int = 20
    services: int = 10
    depth: int = 1
    references: int = 0
    destinations: int = 0


GROWTH: dict[str, tuple[Size, Size, Size]] = {
    "variables": (Size(variables=1500), Size(variables=3000), Size(variables=6000)),
    "stages": (Size(stages=20), Size(stages=40), Size(stages=80)),
    "services": (Size(services=20), Size(services=40), Size(services=80)),
    "depth of follows": (Size(stages=40, depth=5), Size(stages=40, depth=10), Size(stages=40, depth=20)),
    "references": (
        Size(variables=4000, references=700),
        Size(variables=4000, references=1400),
        Size(variables=4000, references=2800),
    ),
    "destinations": (Size(destinations=5), Size(destinations=10), Size(destinations=20)),
}
COMMANDS: dict[str, list[str]] = {
    "grid": ["grid"],
    "check": ["check"],
    "render": ["render", "--every-stage", "--dry-run"],
}


def grown_jar(folder: Path, size: Size) -> Path:
    """A jar of a size: each stage sets a fifth of the variables, one in ten of these for a service of its own."""
    chance = random.Random(11)  # noqa: S311 - the same jar at every run
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


def cost(command: Sequence[str], folder: Path) -> tuple[float, float]:
    """The processor time (seconds) and the peak memory (MiB) of one run: the least of some."""
    times, peaks = [], []
    for _ in range(TIMES):
        with open(os.devnull, "wb") as nowhere:  # noqa: PTH123 - a device
            actions = [(os.POSIX_SPAWN_DUP2, nowhere.fileno(), 1), (os.POSIX_SPAWN_DUP2, nowhere.fileno(), 2)]
            words = [COINJAR, "--jar", str(folder / "jar"), *command]
            environment = {"PATH": os.environ["PATH"], "HOME": str(folder)}
            pid = os.posix_spawn(COINJAR, words, environment, file_actions=actions)
            _, status, used = os.wait4(pid, 0)
        if os.waitstatus_to_exitcode(status) > 1:
            sys.exit(f"{' '.join(words)} ended with {os.waitstatus_to_exitcode(status)}")
        times.append(used.ru_utime + used.ru_stime)
        peaks.append(used.ru_maxrss / 1024)
    return min(times), min(peaks)


class Exponents(NamedTuple):
    """Of the greatest doubling: above what the smallest jar costs."""

    time: float
    memory: float
    seconds: float
    mebibytes: float


def exponents(command: Sequence[str], sizes: Sequence[Size], least: tuple[float, float]) -> Exponents:
    """The exponents between the smallest and the greatest of the sizes."""
    found = []
    for size in (sizes[0], sizes[-1]):
        with tempfile.TemporaryDirectory() as folder:
            found.append(cost(command, grown_jar(Path(folder), size)))
    doublings = len(sizes) - 1
    grown = [
        math.log2(max(last - base, 1e-3) / max(first - base, 1e-3)) / doublings
        for first, last, base in zip(found[0], found[-1], least, strict=True)
    ]
    return Exponents(grown[0], grown[1], *found[-1])


def growth_table() -> dict[str, dict[str, Exponents]]:
    """The exponents of each command for each thing that grows."""
    with tempfile.TemporaryDirectory() as folder:
        tiny = grown_jar(Path(folder), Size(variables=10, stages=1, services=2, destinations=1))
        least = {name: cost(command, tiny) for name, command in COMMANDS.items()}
    return {
        thing: {
            name: exponents(command, sizes, least[name])
            for name, command in COMMANDS.items()
            if (name == "render") == (thing == "destinations")
        }
        for thing, sizes in GROWTH.items()
    }


def as_table(table: dict[str, dict[str, Exponents]]) -> str:
    """The table of docs/scale.md."""
    lines = ["| grows | command | time | memory | at the greatest |", "|---|---|---|---|---|"]
    for thing, commands in table.items():
        for name, found in commands.items():
            greatest = GROWTH[thing][-1]
            lines.append(
                f"| {thing} | `{name}` | {found.time:.2f} | {found.memory:.2f} | {found.seconds:.2f} s, "
                f"{found.mebibytes:.0f} MiB ({greatest.variables} variables, {greatest.stages} stages, "
                f"{greatest.services} services) |"
            )
    return "\n".join(lines)
