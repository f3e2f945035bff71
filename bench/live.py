"""What deliveries are measured on: a hundred hosts, each 50 ms away, and platforms that take many variables."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import shutil
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

from coinjar.standins import standin_class
from coinjar.standins.base import served

HOSTS = 100
LATENCY = 0.05
"""Seconds, there and back."""
VARIABLES = 2000
ONE_BY_ONE = 300
"""Where each takes a request of its own."""
PLAIN_CLIENT = """\
import os, sys, httpx
kind, address, token = sys.argv[1:4]
client = httpx.Client(base_url=address, headers={"Authorization": f"Bearer {token}"})
values = {f"VARIABLE_{n}": f"{n} {os.urandom(8).hex()}" for n in range(int(sys.argv[4]))}
if kind == "saltmarsh":
    client.get("/v1/apps/line/settings")
    client.patch("/v1/apps/line/settings", json={"settings": values}).raise_for_status()
    client.get("/v1/apps/line/settings")
else:
    numbers, start = {}, ""
    while start is not None:
        page = client.get(f"/api/projects/line/variables?after={start}").json()
        numbers |= {item["name"]: item["id"] for item in page["items"]}
        start = page["next"]
    for name, text in values.items():
        if name in numbers:
            client.patch(f"/api/projects/line/variables/{numbers[name]}", json={"value": text}).raise_for_status()
        else:
            item = {"name": name, "text": text, "on": ["dev"]}
            client.post("/api/projects/line/variables", json=item).raise_for_status()
"""
"""The least that could be done: a loop of requests, with nothing looked at."""


class Distance:
    """Ports that lead to one server, each some way off.

    `longest` is how long the slowest connection lasted, in seconds.
    """

    def __init__(self, port: int, number: int) -> None:
        self.server = port
        self.longest = 0.0
        self.ports: list[int] = []
        self._ready = threading.Event()
        self._loop = asyncio.new_event_loop()
        threading.Thread(target=self._run, args=(number,), daemon=True).start()
        self._ready.wait()

    def _run(self, number: int) -> None:
        async def listen() -> None:
            for _ in range(number):
                server = await asyncio.start_server(self._connection, "127.0.0.1", 0, backlog=256)
                self.ports.append(server.sockets[0].getsockname()[1])
            self._ready.set()

        self._loop.run_until_complete(listen())
        self._loop.run_forever()

    async def _connection(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        started = time.perf_counter()
        there_reader, there_writer = await asyncio.open_connection("127.0.0.1", self.server)
        await asyncio.gather(
            self._carry(reader, there_writer), self._carry(there_reader, writer), return_exceptions=True
        )
        self.longest = max(self.longest, time.perf_counter() - started)

    async def _carry(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Hand on what comes, half the latency later, in order."""
        while data := await reader.read(65536):
            self._loop.call_later(LATENCY / 2, writer.write, data)
        self._loop.call_later(LATENCY / 2, writer.close)


@contextlib.contextmanager
def hosts(folder: Path) -> Iterator[Distance]:
    """An sshd behind a hundred far ports, and a jar that delivers to all of them."""
    program = shutil.which("sshd", path="/usr/sbin:/usr/bin")
    assert program, "`make test` installs openssh-server"
    for key in ("host_key", "user_key"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / key)], check=True)
    shutil.copy(folder / "user_key.pub", folder / "authorized_keys")
    with socket.socket() as sock:
        sock.bind(("127.0.0.1", 0))
        port = int(sock.getsockname()[1])
    Path("/run/sshd").mkdir(exist_ok=True)
    (folder / "sshd_config").write_text(
        f"ListenAddress 127.0.0.1:{port}\nHostKey {folder}/host_key\nPidFile none\nAuthorizedKeysFile "
        f"{folder}/authorized_keys\nStrictModes no\nUsePAM no\n"
        "MaxStartups 300\nSubsystem sftp internal-sftp\n"
    )
    with subprocess.Popen(
        [program, "-D", "-e", "-f", str(folder / "sshd_config")], stderr=subprocess.DEVNULL
    ) as server:
        time.sleep(0.5)
        far = Distance(port, HOSTS)
        key = " ".join((folder / "host_key.pub").read_text().split()[:2])
        (folder / "known").write_text("".join(f"[127.0.0.1]:{port} {key}\n" for port in far.ports))
        addresses = json.dumps([f"root@127.0.0.1:{port}" for port in far.ports])
        _jar(
            folder,
            f"  farm: {{type: host, hosts: {addresses}, path: '{folder}/there/{{host}}', as: literal, known_hosts: "
            "known, identity_file: user_key}\n",
            50,
        )
        try:
            yield far
        finally:
            server.terminate()


@contextlib.contextmanager
def platforms(folder: Path, variables: int) -> Iterator[dict[str, tuple[str, str]]]:
    """Two platforms, each with a jar's destination; their addresses and tokens."""
    with contextlib.ExitStack() as stack:
        result: dict[str, tuple[str, str]] = {}
        declared = ""
        for name in ("saltmarsh", "lanternfish"):
            standin = standin_class(name)(folder / name)
            standin.state["a_second"] = 10**6
            stack.enter_context(served(standin))
            standin.make("line")
            result[name] = (standin.address, standin.state["tokens"]["anna"])
            app = "app" if name == "saltmarsh" else "project"
            declared += (
                f"  {name}: {{type: platform, platform: {name}, address: '{standin.address}', {app}: line, token: "
                f"{{from_env: {name.upper()}}}}}\n"
            )
        _jar(folder, declared, variables)
        yield result


def _jar(folder: Path, destinations: str, variables: int) -> None:
    (folder / "jar" / "plain").mkdir(parents=True)
    declared = "".join(f"  VARIABLE_{number}: {{}}\n" for number in range(variables))
    (folder / "jar" / "jar.yaml").write_text(
        "coinjar: 1\napp: line\nservices: {web: {}}\nstages: {dev: "
        f"{{}}}}\nvariables:\n{declared}destinations:\n{destinations}"
    )
    new_values(folder, variables)


def new_values(folder: Path, variables: int) -> None:
    """Another value for every variable, so that there is something to deliver."""
    salt = os.urandom(4).hex()
    (folder / "jar" / "plain" / "dev.yaml").write_text(
        "all:\n" + "".join(f"  VARIABLE_{number}: {number} {salt}\n" for number in range(variables))
    )


def timed(command: list[str], folder: Path, env: dict[str, str]) -> float:
    """Wall time of one run that must succeed."""
    started = time.perf_counter()
    done = subprocess.run(command, cwd=folder, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, check=False)
    if done.returncode:
        sys.exit(f"{' '.join(command)} ended with {done.returncode}: {done.stderr.decode()}")
    return time.perf_counter() - started


def host_ratios(coinjar: str, folder: Path, runs: int) -> list[float]:
    """A delivery to all hosts against how long the slowest of them took, by its connection."""
    with hosts(folder) as far:
        env = {"PATH": os.environ["PATH"], "HOME": str(folder)}
        subprocess.run([coinjar, "consent", "--yes"], cwd=folder, env=env, check=True, capture_output=True)
        ratios = []
        for _ in range(runs + 1):
            new_values(folder, 50)
            far.longest = 0.0
            took = timed([coinjar, "deliver", "dev"], folder, env)
            time.sleep(0.3)  # the last connection's end is on its way
            ratios.append(took / far.longest)
    return ratios[1:]


def platform_ratios(coinjar: str, name: str, folder: Path, runs: int) -> list[float]:
    """A delivery of many changed variables against a plain client that writes as many."""
    variables = VARIABLES if name == "saltmarsh" else ONE_BY_ONE
    with platforms(folder, variables) as there:
        address, token = there[name]
        env = {"PATH": os.environ["PATH"], "HOME": str(folder), name.upper(): token}
        subprocess.run([coinjar, "consent", "--yes"], cwd=folder, env=env, check=True, capture_output=True)
        ratios = []
        for _ in range(runs + 1):
            new_values(folder, variables)
            took = timed([coinjar, "deliver", "dev", name], folder, env)
            ratios.append(
                took / timed([sys.executable, "-c", PLAIN_CLIENT, name, address, token, str(variables)], folder, env)
            )
    return ratios[1:]
