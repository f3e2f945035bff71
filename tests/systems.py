"""Real systems and stand-ins to deliver to: an sshd, an etcd, a PostgreSQL of our own, and the stand-ins in this
process.
"""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple
from urllib.request import urlopen

import pytest

from coinjar.standins import standin_class
from coinjar.standins.base import Standin, StandinServer, served
from tests.consumers import need

_PATIENCE = 20


class Running(NamedTuple):
    """A stand-in that answers."""

    standin: Standin
    server: StandinServer

    @property
    def token(self) -> str:
        return str(self.standin.state["tokens"]["anna"])


@contextmanager
def standin(name: str, folder: Path, *make: str, fault: str = "") -> Iterator[Running]:
    """A stand-in with apps or projects of these names."""
    folder.mkdir(parents=True, exist_ok=True)
    standin = standin_class(name)(folder, fault)
    with served(standin) as server:
        for project in make:
            standin.make(project)
        yield Running(standin, server)


def free_port() -> int:
    with socket.socket() as sock:
        sock.bind(("127.0.0.1", 0))
        return int(sock.getsockname()[1])


def _wait_for(port: int, process: subprocess.Popen[bytes], log: Path) -> None:
    end = time.monotonic() + _PATIENCE
    while time.monotonic() < end and process.poll() is None:
        with socket.socket() as sock:
            if sock.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.02)
    pytest.fail(f"nothing listens on {port}: {log.read_text(errors='replace')[-2000:]}")


@contextmanager
def _started(
    argv: list[str], port: int, folder: Path, *, stop: int = signal.SIGTERM, user: str | None = None
) -> Iterator[None]:
    log = folder / "log"
    with log.open("wb") as out:
        process = subprocess.Popen(
            argv,
            stdin=subprocess.DEVNULL,
            stdout=out,
            stderr=out,
            user=user,
            env={"PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8"},
            cwd="/",
        )
    try:
        _wait_for(port, process, log)
        yield
    finally:
        process.send_signal(stop)
        try:
            process.wait(_PATIENCE)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()


@contextmanager
def sshd(folder: Path, listen: str = "127.0.0.1") -> Iterator[int]:
    """An sshd that lets `user_key` in as whoever runs the tests; its port. `known_hosts` has its key."""
    program = shutil.which("sshd", path="/usr/sbin:/usr/bin") or need("sshd")
    folder.mkdir(parents=True, exist_ok=True)
    for key in ("host_key", "user_key"):
        subprocess.run(
            [need("ssh-keygen"), "-q", "-t", "ed25519", "-N", "", "-C", "made-up", "-f", str(folder / key)], check=True
        )
    shutil.copy(folder / "user_key.pub", folder / "authorized_keys")
    port = free_port()
    known = (folder / "host_key.pub").read_text().split()[:2]
    (folder / "known_hosts").write_text(f"[127.0.0.1]:{port} {' '.join(known)}\n")
    (folder / "sshd_config").write_text(
        f"ListenAddress {listen}:{port}\nHostKey {folder}/host_key\nPidFile none\n"
        f"AuthorizedKeysFile {folder}/authorized_keys\nStrictModes no\nUsePAM no\n"
        "PasswordAuthentication no\nKbdInteractiveAuthentication no\nMaxStartups 300\n"
        "Subsystem sftp internal-sftp\n"
    )
    if os.geteuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    with _started([program, "-D", "-e", "-f", str(folder / "sshd_config")], port, folder):
        yield port


@contextmanager
def etcd(folder: Path) -> Iterator[str]:
    """An etcd; its address."""
    folder.mkdir(parents=True, exist_ok=True)
    port, peer = free_port(), free_port()
    address, other = f"http://127.0.0.1:{port}", f"http://127.0.0.1:{peer}"
    argv = [
        need("etcd"), "--name", "kit", "--data-dir", str(folder / "data"), "--unsafe-no-fsync", "--log-level", "warn",
        "--logger", "zap",
        "--listen-client-urls", address, "--advertise-client-urls", address, "--listen-peer-urls", other,
        "--initial-advertise-peer-urls", other, "--initial-cluster", f"kit={other}",
    ]  # fmt: skip
    with _started(argv, port, folder):
        end = time.monotonic() + _PATIENCE
        while time.monotonic() < end:
            try:
                if b"true" in urlopen(f"{address}/health", timeout=2).read():
                    break
            except OSError:
                time.sleep(0.05)
        yield address


@contextmanager
def postgresql(folder: Path) -> Iterator[str]:
    """A PostgreSQL with a user and a database `kit`, password `made-up`; its address without the password."""
    if os.geteuid() != 0:
        pytest.skip("only root can run a PostgreSQL as a user of its own here")
    paths = sorted(Path("/usr/lib/postgresql").glob("*/bin"))
    if not paths:
        need("postgres")
    programs = paths[-1]
    folder.mkdir(parents=True, exist_ok=True)
    for above in (folder, *folder.parents):  # it must reach its folder
        if str(above).startswith("/tmp/"):  # noqa: S108 - the tests' own folders
            above.chmod(above.stat().st_mode | 0o011)
    shutil.chown(folder, "postgres")
    (folder / "pw").write_text("made-up")
    shutil.chown(folder / "pw", "postgres")
    initdb = [
        str(programs / "initdb"),
        "-D",
        str(folder / "data"),
        "-U",
        "kit",
        f"--pwfile={folder}/pw",
        "-A",
        "scram-sha-256",
        "-E",
        "UTF8",
        "--no-sync",
    ]
    subprocess.run(
        initdb,
        user="postgres",
        env={"PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8"},
        cwd="/",
        capture_output=True,
        check=True,
    )
    port = free_port()
    argv = [
        str(programs / "postgres"), "-D", str(folder / "data"), "-c", "listen_addresses=127.0.0.1", "-c",
        f"port={port}",
        "-c", "unix_socket_directories=", "-c", "fsync=off",
    ]  # fmt: skip
    with _started(argv, port, folder, stop=signal.SIGINT, user="postgres"):
        import psycopg

        end = time.monotonic() + _PATIENCE
        while True:
            try:
                with psycopg.connect(
                    host="127.0.0.1", port=port, user="kit", password="made-up", dbname="postgres", autocommit=True
                ) as connection:
                    connection.execute("create database kit")
                break
            except psycopg.OperationalError:
                if time.monotonic() > end:
                    raise
                time.sleep(0.1)
        yield f"postgresql://kit@127.0.0.1:{port}/kit"
