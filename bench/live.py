"""What deliveries are measured on: a hundred hosts, each 50 ms away."""

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

HOSTS = 100
LATENCY = 0.05
"""Seconds, there and back."""


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
        jar_for(
            folder,
            f"  farm: {{type: host, hosts: {addresses}, path: '{folder}/there/{{host}}', as: literal, known_hosts: "
            "known, identity_file: user_key}\n",
            50,
        )
        try:
            yield far
        finally:
            server.terminate()


def jar_for(folder: Path, destinations: str, variables: int) -> None:
    """Make a jar of this many variables, with these destinations."""
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


def prepared(coinjar: str, folder: Path, env: dict[str, str]) -> None:
    """Consent to what the jar can do."""
    subprocess.run([coinjar, "consent", "--yes"], cwd=folder, env=env, check=True, capture_output=True)


def host_ratios(coinjar: str, folder: Path, runs: int) -> list[float]:
    """A delivery to all hosts against how long the slowest of them took, by its connection."""
    with hosts(folder) as far:
        env = {"PATH": os.environ["PATH"], "HOME": str(folder)}
        prepared(coinjar, folder, env)
        ratios = []
        for _ in range(runs + 1):
            new_values(folder, 50)
            far.longest = 0.0
            took = timed([coinjar, "deliver", "dev"], folder, env)
            time.sleep(0.3)  # the last connection's end is on its way
            ratios.append(took / far.longest)
    return ratios[1:]
