"""The demo's steps: run a command and show it, ask a running thing, state what must hold."""

from __future__ import annotations

import json
import os
import shlex
import shutil
import signal
import socket
import subprocess
import sys
import time
from importlib.resources import as_file, files
from pathlib import Path
from typing import Any
from urllib.request import Request, urlopen

_WAIT = 10
"""Seconds that a service has to answer."""


class DemoFailure(Exception):
    """Something in the demo was not as it must be."""


class DemoRun:
    """Runs steps in one folder and remembers what to clean up."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.running: list[subprocess.Popen[bytes]] = []
        self.held = 0
        bins = str(Path(sys.executable).parent)
        own = {name: text for name, text in os.environ.items() if not name.startswith("COINJAR_")}
        self.env = own | {
            "PATH": f"{bins}:{os.environ.get('PATH', os.defpath)}",
            "COINJAR_IDENTITY_FILE": "anna.identity",
        }

    def title(self, words: str) -> None:
        """A heading."""
        colour = sys.stdout.isatty() and not os.environ.get("NO_COLOR")
        print(f"\n\x1b[1m{words}\x1b[0m" if colour else f"\n== {words}", flush=True)

    def _argv(self, command: str) -> list[str]:
        words = shlex.split(command)
        return [sys.executable, "-m", "coinjar", *words[1:]] if words[0] == "coinjar" else words

    def run(self, command: str, *, code: int = 0, note: str = "", stdin: str | None = None) -> None:
        """Print a command, run it, and let its output through."""
        given = f"printf '%s' {shlex.quote(stdin)} | " if stdin is not None else ""
        print(f"$ {given}{command}{'   # ' + note if note else ''}", flush=True)
        done = subprocess.run(
            self._argv(command),
            cwd=self.folder,
            env=self.env,
            input=stdin,
            text=True,
            stderr=subprocess.STDOUT,
            check=False,
        )
        if done.returncode != code:
            raise DemoFailure(f"`{command}` ended with {done.returncode}, not {code}")

    def ask(self, command: str, *, code: int = 0, identity: str | None = None) -> str:
        """Run a command quietly, perhaps as somebody else, and take its output."""
        env = self.env | ({"COINJAR_IDENTITY_FILE": identity} if identity else {})
        done = subprocess.run(
            self._argv(command), cwd=self.folder, env=env, capture_output=True, text=True, check=False
        )
        if done.returncode != code:
            raise DemoFailure(f"`{command}` ended with {done.returncode}, not {code}: {done.stderr}")
        return done.stdout

    def code_of(self, command: str, identity: str) -> int:
        """How a command ends that somebody else runs quietly."""
        env = self.env | {"COINJAR_IDENTITY_FILE": identity}
        return subprocess.run(
            self._argv(command), cwd=self.folder, env=env, capture_output=True, check=False
        ).returncode

    def start(self, command: str) -> subprocess.Popen[bytes]:
        """Print a command and leave it running."""
        print(f"$ {command} &", flush=True)
        process = subprocess.Popen(self._argv(command), cwd=self.folder, env=self.env)
        self.running.append(process)
        return process

    def answer(self, port: int) -> dict[str, Any]:
        """What a service on this port says, once it listens."""
        url = f"http://127.0.0.1:{port}/"
        end = time.monotonic() + _WAIT
        while True:
            try:
                with urlopen(url, timeout=_WAIT) as response:
                    data: dict[str, Any] = json.load(response)
                break
            except OSError:
                if time.monotonic() > end:
                    raise DemoFailure(f"nothing answers on port {port}") from None
                time.sleep(0.05)
        print(f"GET {url}")
        print(json.dumps(data["settings"], ensure_ascii=False))
        return data

    def holds(self, words: str, condition: bool) -> None:
        """State what must hold."""
        if not condition:
            raise DemoFailure(words)
        self.held += 1
        print(f"  holds: {words}", flush=True)

    def source(self, path: str) -> None:
        """Take the exports of a shell file into the environment, once it is there."""
        print(f"$ . {path}")
        end = time.monotonic() + _WAIT
        while not (self.folder / path).exists():
            if time.monotonic() > end:
                raise DemoFailure(f"there is no {path}")
            time.sleep(0.05)
        for line in (self.folder / path).read_text().splitlines():
            name, _, text = shlex.split(line)[1].partition("=")
            self.env[name] = text

    def send(self, method: str, address: str, token: str, body: object) -> Any:  # noqa: ANN401 - JSON
        """Ask a platform for something by hand, as its page in a browser would."""
        print(f"{method} {address}", flush=True)
        data = body.encode() if isinstance(body, str) else json.dumps(body).encode() if body is not None else None
        kind = "application/yaml" if isinstance(body, str) else "application/json"
        with urlopen(
            Request(address, data, {"Authorization": f"Bearer {token}", "Content-Type": kind}, method=method),
            timeout=_WAIT,
        ) as response:
            return json.load(response)

    def get(self, address: str, token: str = "") -> Any:  # noqa: ANN401 - JSON
        """What an address answers."""
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        with urlopen(Request(address, headers=headers), timeout=_WAIT) as response:
            return json.load(response)

    def app(self, service: str) -> Any:  # noqa: ANN401 - JSON
        """What a running app of the hosting answers."""
        return self.get(f"{self.env['SALTMARSH_ADDRESS']}/run/sandling-{service}-rehearsal/")

    def stop(self) -> None:
        """Stop what was started."""
        for process in self.running:
            process.send_signal(signal.SIGTERM)
        for process in self.running:
            process.wait(_WAIT)


def free_ports(number: int) -> list[int]:
    """Ports that nobody listens on."""
    sockets = [socket.socket() for _ in range(number)]
    for sock in sockets:
        sock.bind(("127.0.0.1", 0))
    ports = [int(sock.getsockname()[1]) for sock in sockets]
    for sock in sockets:
        sock.close()
    return ports


def copy_app(folder: Path) -> None:
    """The demo's files into a folder."""
    with as_file(files(__package__) / "app") as app:
        shutil.copytree(app, folder, dirs_exist_ok=True, ignore=shutil.ignore_patterns("__pycache__"))
