"""Deliveries to a thousand targets: a platform's projects at the rate that it allows, and an etcd with the values of
many jars.

`python -m bench.many platform 1000`, or `etcd`: so many services; for the etcd ten times as many keys of other jars are
there already.
"""

from __future__ import annotations

import base64
import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from urllib.request import Request, urlopen

from tests.systems import etcd

from bench.live import prepared
from coinjar.standins.base import served
from coinjar.standins.lanternfish import Lanternfish

COINJAR = str(Path(sys.executable).parent / "coinjar")
A_SECOND = 50
"""Requests that the platform answers in a second."""
VARIABLES = 5


class _Unsaved(Lanternfish):
    """Keeps its state in memory: to write that of a thousand projects at each change is not what is measured."""

    def save(self) -> None:
        pass


def _jar(folder: Path, services: int, destination: str) -> None:
    (folder / "jar" / "plain").mkdir(parents=True)
    named = "".join(f"  service{number}: {{}}\n" for number in range(services))
    declared = "".join(f"  NAME_{number}: {{}}\n" for number in range(VARIABLES))
    (folder / "jar" / "jar.yaml").write_text(
        f"coinjar: 1\napp: many\nservices:\n{named}stages: {{dev: {{}}}}\nvariables:\n{declared}"
        f"destinations:\n  there: {destination}\n"
    )
    _new_values(folder)


def _new_values(folder: Path) -> None:
    salt = os.urandom(4).hex()
    values = "".join(f"  NAME_{number}: {number} {salt}\n" for number in range(VARIABLES))
    (folder / "jar" / "plain" / "dev.yaml").write_text(f"all:\n{values}")


def _deliver(folder: Path, env: dict[str, str], what: str) -> int:
    """Deliver, print how long it took, and return how many targets failed."""
    started = time.perf_counter()
    done = subprocess.run([COINJAR, "deliver", "dev", "--json"], cwd=folder, env=env, capture_output=True, check=False)
    took = time.perf_counter() - started
    states = [target["state"] for target in json.loads(done.stdout)["targets"]]
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    told = ", ".join(f"{states.count(state)} {state}" for state in sorted(set(states)))
    print(f"{what}: {took:.1f} s, {peak:.0f} MiB, {told}", flush=True)
    return states.count("failed")


def platform(services: int) -> None:
    """A project for each service; the platform refuses what comes too fast."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        standin = _Unsaved(folder / "platform")
        standin.state["a_second"] = A_SECOND
        for number in range(services):
            standin.make(f"p-service{number}")
        with served(standin) as server:
            _jar(
                folder,
                services,
                f"{{type: platform, platform: lanternfish, address: '{standin.address}', project: 'p-{{service}}', "
                "token: {from_env: THERE}}",
            )
            env = {"PATH": os.environ["PATH"], "HOME": name, "THERE": standin.state["tokens"]["anna"]}
            prepared(COINJAR, folder, env)
            for what in ("first", "again"):
                del server.seen[:]
                _deliver(folder, env, what)
                print(f"  {len(server.seen)} requests, {A_SECOND} a second at most")


def _put(address: str, key: str, value: str) -> None:
    words = {"key": base64.b64encode(key.encode()).decode(), "value": base64.b64encode(value.encode()).decode()}
    with urlopen(Request(f"{address}/v3/kv/put", json.dumps(words).encode())) as answer:  # noqa: S310 - our own etcd
        answer.read()


def store(services: int) -> None:
    """An etcd that other jars use as well."""
    with tempfile.TemporaryDirectory() as name, etcd(Path(name) / "etcd") as address:
        folder = Path(name)
        for number in range(services * 10):
            _put(address, f"/other{number % 100}/dev/NAME_{number}", f"value {number}")
        _jar(folder, services, f"{{type: etcd, address: '{address}', prefix: '/many/{{stage}}/{{service}}/'}}")
        env = {"PATH": os.environ["PATH"], "HOME": name}
        prepared(COINJAR, folder, env)
        _deliver(folder, env, "first")
        _deliver(folder, env, "again")


if __name__ == "__main__":
    {"platform": platform, "etcd": store}[sys.argv[1]](int(sys.argv[2]))
