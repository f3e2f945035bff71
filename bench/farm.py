"""A delivery to thousands of machines: simulated ones, each 50 ms away, of which one in a hundred fails at first.

`python -m bench.farm 10000` measures as many. One SSH server plays all machines, which are told apart by the user.
"""

from __future__ import annotations

import asyncio
import json
import os
import re
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

import asyncssh

from bench.live import LATENCY, jar_for, new_values, prepared

FAILING = 100
"""One machine in so many fails."""
VARIABLES = 50


class _Machine(asyncssh.SSHServer):
    """Takes whoever has the key, unless its machine fails: while the file `failing` is there."""

    def begin_auth(self, username: str) -> bool:
        number = int(username.removeprefix("m"))
        if Path("failing").exists() and number % FAILING == 0:
            raise asyncssh.DisconnectError(asyncssh.DISC_BY_APPLICATION, "the disk is full")
        return True


async def _serve() -> None:
    """Serve on a port of its own, and on one that leads there from far away; print the far one."""
    server = await asyncssh.listen(
        "127.0.0.1",
        0,
        server_factory=_Machine,
        server_host_keys=["host_key"],
        authorized_client_keys="user_key.pub",
        sftp_factory=lambda channel: asyncssh.SFTPServer(channel, chroot=b"there"),
        backlog=4096,
    )
    port = server.sockets[0].getsockname()[1]

    async def carry(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        later = asyncio.get_running_loop().call_later
        try:
            while data := await reader.read(65536):
                later(LATENCY / 2, writer.write, data)
        except ConnectionError:
            pass  # the other end is gone: so is this one
        later(LATENCY / 2, writer.close)

    async def connection(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        there_reader, there_writer = await asyncio.open_connection("127.0.0.1", port)
        await asyncio.gather(carry(reader, there_writer), carry(there_reader, writer))

    far = await asyncio.start_server(connection, "127.0.0.1", 0, backlog=4096)
    print(far.sockets[0].getsockname()[1], flush=True)
    await asyncio.Event().wait()


class FarmRun(NamedTuple):
    """One delivery: seconds, MiB of the deliverer, and how many machines failed."""

    seconds: float
    memory: float
    failed: int


def _delivered(coinjar: str, folder: Path, env: dict[str, str]) -> FarmRun:
    started = time.perf_counter()
    with subprocess.Popen(
        [coinjar, "deliver", "dev"], cwd=folder, env=env, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
    ) as process:
        out, _ = process.communicate()
    took = time.perf_counter() - started
    failed = re.search(rb"(\d+) failed", out)
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    return FarmRun(took, peak, int(failed[1]) if failed else 0)


def farm_runs(coinjar: str, number: int) -> tuple[FarmRun, FarmRun]:
    """A delivery to so many machines, some of which fail; and the same command again, after they are repaired."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for key in ("host_key", "user_key"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / key)], check=True)
        (folder / "there").mkdir()
        (folder / "failing").touch()
        env = {"PATH": os.environ["PATH"], "HOME": name, "PYTHONPATH": str(Path(__file__).parent.parent)}
        with subprocess.Popen([sys.executable, "-m", "bench.farm", "serve"], cwd=folder, env=env, stdout=-1) as server:
            assert server.stdout
            port = int(server.stdout.readline())
            key = " ".join((folder / "host_key.pub").read_text().split()[:2])
            (folder / "known").write_text(f"* {key}\n")
            (folder / "config").write_text(f"Host *\n  HostName 127.0.0.1\n  Port {port}\n")
            hosts = json.dumps([f"m{machine}@m{machine}" for machine in range(number)])
            jar_for(
                folder,
                f"  farm: {{type: host, hosts: {hosts}, path: '/{{host}}.env', as: literal, known_hosts: known, "
                "identity_file: user_key, ssh_config: config}\n",
                VARIABLES,
            )
            try:
                prepared(coinjar, folder, env)
                new_values(folder, VARIABLES)
                first = _delivered(coinjar, folder, env)
                (folder / "failing").unlink()
                return first, _delivered(coinjar, folder, env)
            finally:
                server.terminate()


if __name__ == "__main__":
    if sys.argv[1] == "serve":
        asyncio.run(_serve())
    else:
        for run in farm_runs(str(Path(sys.executable).parent / "coinjar"), int(sys.argv[1])):
            print(f"{run.seconds:.1f} s, {run.memory:.0f} MiB, {run.failed} failed")
