"""The steps of the example: run and show a command, ask a running service, check a statement."""

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
"""Seconds to wait for a service's answer."""


class DemoFailure(Exception):
    """A step of the example failed."""


class DemoRun:
    """Run steps in one folder, and record what to stop at the end."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.running: list[subprocess.Popen[bytes]] = []
        self.held = 0
        bins = str(Path(sys.executable).parent)
        own = {name: text for name, text in os.environ.items() if not name.startswith("COINJAR_")}
        self.env = own | {
            "PATH": f"{bins}:{os.environ.get('PATH', os.defpath)}",
            "COINJAR_IDENTITY_FILE": "anna.identity",
            "XDG_CONFIG_HOME": str(folder / ".config"),  # the demo's consents are not among the person's own
        }

    def title(self, words: str) -> None:
        """Print a heading."""
        colour = sys.stdout.isatty() and not os.environ.get("NO_COLOR")
        print(f"\n\x1b[1m{words}\x1b[0m" if colour else f"\n== {words}", flush=True)

    def _argv(self, command: str) -> list[str]:
        words = shlex.split(command)
        return [sys.executable, "-m", "coinjar", *words[1:]] if words[0] == "coinjar" else words

    def run(self, command: str, *, code: int = 0, note: str = "", stdin: str | None = None) -> None:
        """Print a command, run it, and show its output. Raises DemoFailure if it ends with another code."""
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
        """Return the output of a command that is not shown, run with another identity if one is given."""
        env = self.env | ({"COINJAR_IDENTITY_FILE": identity} if identity else {})
        done = subprocess.run(
            self._argv(command), cwd=self.folder, env=env, capture_output=True, text=True, check=False
        )
        if done.returncode != code:
            raise DemoFailure(f"`{command}` ended with {done.returncode}, not {code}: {done.stderr}")
        return done.stdout

    def code_of(self, command: str, identity: str) -> int:
        """Return the exit code of a command that is not shown, run with another identity."""
        env = self.env | {"COINJAR_IDENTITY_FILE": identity}
        return subprocess.run(
            self._argv(command), cwd=self.folder, env=env, capture_output=True, check=False
        ).returncode

    def start(self, command: str) -> subprocess.Popen[bytes]:
        """Print a command, and start it in the background."""
        print(f"$ {command} &", flush=True)
        process = subprocess.Popen(self._argv(command), cwd=self.folder, env=self.env)
        self.running.append(process)
        return process

    def end(self, process: subprocess.Popen[bytes]) -> None:
        """Stop a background command."""
        self.running.remove(process)
        process.send_signal(signal.SIGTERM)
        process.wait(_WAIT)

    def write(self, path: str, text: str) -> None:
        """Write a file, as a user's editor would, and show it."""
        print(f"{path}: {text}")
        (self.folder / path).write_text(text)

    def answer(self, port: int, *, other_than: int | None = None) -> dict[str, Any]:
        """Return the answer of the service on a port; wait until it listens, and is another process than the given."""
        url = f"http://127.0.0.1:{port}/"
        end = time.monotonic() + _WAIT
        while True:
            try:
                with urlopen(url, timeout=_WAIT) as response:
                    data: dict[str, Any] = json.load(response)
                if other_than is None or data["pid"] != other_than:
                    break
            except OSError:
                pass  # it does not listen yet, or no longer
            if time.monotonic() > end:
                raise DemoFailure(f"no answer on port {port}")
            time.sleep(0.05)
        print(f"GET {url}")
        print(json.dumps(data["settings"], ensure_ascii=False))
        return data

    def holds(self, words: str, condition: bool) -> None:
        """Print a statement. Raises DemoFailure if it is false."""
        if not condition:
            raise DemoFailure(words)
        self.held += 1
        print(f"  checked: {words}", flush=True)

    def source(self, path: str) -> None:
        """Read the exports of a shell file into the environment; wait until the file exists."""
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
        """Send a request to a platform, as its page in the browser does; return the answer."""
        print(f"{method} {address}", flush=True)
        data = body.encode() if isinstance(body, str) else json.dumps(body).encode() if body is not None else None
        kind = "application/yaml" if isinstance(body, str) else "application/json"
        with urlopen(
            Request(address, data, {"Authorization": f"Bearer {token}", "Content-Type": kind}, method=method),
            timeout=_WAIT,
        ) as response:
            return json.load(response)

    def get(self, address: str, token: str = "") -> Any:  # noqa: ANN401 - JSON
        """Return the answer of an address."""
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        with urlopen(Request(address, headers=headers), timeout=_WAIT) as response:
            return json.load(response)

    def app(self, service: str) -> Any:  # noqa: ANN401 - JSON
        """Return the answer of a running app of the hosting platform."""
        return self.get(f"{self.env['SALTMARSH_ADDRESS']}/run/sandling-{service}-rehearsal/")

    def stop(self) -> None:
        """Stop all background commands."""
        for process in self.running:
            process.send_signal(signal.SIGTERM)
        for process in self.running:
            process.wait(_WAIT)


def free_ports(number: int) -> list[int]:
    """Return ports on which no process listens."""
    sockets = [socket.socket() for _ in range(number)]
    for sock in sockets:
        sock.bind(("127.0.0.1", 0))
    ports = [int(sock.getsockname()[1]) for sock in sockets]
    for sock in sockets:
        sock.close()
    return ports


def copy_app(folder: Path) -> None:
    """Copy the files of the example into a folder."""
    with as_file(files(__package__) / "app") as app:
        shutil.copytree(app, folder, dirs_exist_ok=True, ignore=shutil.ignore_patterns("__pycache__"))
