"""A repository of somebody else, in which everything that can act acts, beside files that must stay alone."""

from __future__ import annotations

import json
import socket
import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.conftest import Coinjar
from tests.consumers import need

OUTSIDE = "made-up-text-outside"


DECLARATIONS = """\
coinjar: 1
app: pier
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {}}
variables:
  RUNS: {}
  READS_FILE: {}
  READS_ENV: {}
  PLAIN: {default: plain}
  TOKEN: {secret: true}
  STORED: {}
destinations:
  out: {type: file, as: dotenv, path: "../outside/{stage}.{service}.env", variables: [PLAIN]}
  pages: {type: templates, from: ../outside, to: "pages/{service}", suffix: .tmpl, variables: [PLAIN]}
  salt: {type: platform, platform: saltmarsh, address: "SERVER", app: "pier-{service}-{stage}",
         token: {from_env: MADE_UP_TOKEN}, variables: [PLAIN]}
  salt-two: {type: platform, platform: saltmarsh, address: "SERVER", app: "two-{service}-{stage}",
             token: {from_env: OTHER_TOKEN}, variables: [PLAIN]}
  registry: {type: etcd, address: "SERVER", prefix: "/pier/{stage}/{service}/", variables: [PLAIN]}
  boxes: {type: host, hosts: ["ada@127.0.0.1:SSHPORT"], path: "/srv/{stage}.{service}.env",
          ssh_config: ssh.config, reload: [touch, PWNED], variables: [PLAIN]}
  pods: {type: container, container: "{service}", env_file: "{service}.env", engine: [./engine], variables: [PLAIN]}
  k8s: {type: manifests, from: k8s, to: rendered, services: [web], variables: [PLAIN]}
  live: {type: cluster, manifests: k8s, kubeconfig: kubeconfig, services: [web], variables: [PLAIN]}
proofs:
  page: {service: web, http: "SERVER/${PLAIN}", expect: "200"}
  boxed: {service: web, container: {"": web, engine: "./engine"}, variable: PLAIN, expect: x}
  far: {service: web, file: ../outside/secret.txt, expect: x}
"""


VALUES = """\
all:
  RUNS: {command: [./engine, value]}
  READS_FILE: {file: ../outside/secret.txt}
  READS_ENV: {from_env: MADE_UP_TOKEN}
  STORED: {stored_in: registry, key: /pier/x}
"""


READING = [
    "grid", "grid --show-secrets", "check", "check --history", "check --format sarif", "why dev RUNS",
    "why dev READS_ENV --service web",
    "value dev RUNS --service web", "value dev READS_FILE --service web", "value dev READS_ENV --service web",
    "value dev STORED --service web", "value dev TOKEN --service web",
    "compare dev prod", "compare dest:salt@dev dev", "compare dest:out@dev dev", "compare dest:live@dev dev",
    "compare dest:pods@dev dev", "compare dest:boxes@dev dev",
    "render dev --dry-run", "render dev", "render dev --verify", "render dev --as json --service web",
    "within dev --service web -- true", "mentions .",
    "deliver dev --dry-run --requests", "deliver dev", "drift dev", "confirm dev prod", "deliveries",
    "deliveries --json",
    "adopt dest:salt --stage dev", "adopt dest:registry@dev --stage dev --yes",
    "migrate dest:salt dest:registry --out move.yaml", "rename PLAIN PLAINER --dry-run",
    "readers list", "consent --show", "consent", "consent --json", "schema jar", "generate TOKEN --stage dev --dry-run",
]  # fmt: skip
"""What a person may run in a folder that he has just cloned."""


class Listener:
    """A server that counts who connects, and has nothing."""

    def __init__(self) -> None:
        self.socket = socket.create_server(("127.0.0.1", 0))
        self.port = int(self.socket.getsockname()[1])
        self.heard: list[bytes] = []
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            try:
                connection, _ = self.socket.accept()
            except OSError:
                return
            with connection:
                connection.settimeout(20)
                try:
                    self.heard.append(connection.recv(4096))
                    connection.sendall(b"HTTP/1.1 404 Not Found\r\ncontent-length: 0\r\nconnection: close\r\n\r\n")
                except OSError:
                    self.heard.append(b"")


@contextmanager
def listening() -> Iterator[Listener]:
    listener = Listener()
    try:
        yield listener
    finally:
        listener.socket.close()


@contextmanager
def clone(tmp_path: Path) -> Iterator[tuple[Coinjar, Listener]]:
    """A repository with everything that acts, beside files and programs that must stay alone."""
    with listening() as listener:
        folder = tmp_path / "repository"
        outside = tmp_path / "outside"
        outside.mkdir()
        (outside / "secret.txt").write_text(OUTSIDE)
        cj = Coinjar(folder)
        folder.mkdir()
        home = tmp_path / "home"
        home.mkdir()
        cj.env |= {
            "HOME": str(home),
            "MADE_UP_TOKEN": "made-up-token-1",
            "OTHER_TOKEN": "made-up-token-2",
            "PWNED": str(outside / "ran"),
        }
        declarations = DECLARATIONS.replace("SERVER", f"http://127.0.0.1:{listener.port}").replace(
            "SSHPORT", str(listener.port)
        )
        touch = f"touch {outside}/ran\n"
        cj.write(
            {
                "jar/jar.yaml": declarations,
                "jar/plain/dev.yaml": VALUES,
                "engine": f"#!/bin/sh\n{touch}env >{outside}/env\necho 4\n",
                "ssh.config": f"Host *\n  ProxyCommand {folder}/engine\n",
                "k8s/web.yaml": (
                    "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: web}\n"
                    "spec: {template: {spec: {containers: [{name: web, image: x}]}}}\n"
                ),
                "kubeconfig": json.dumps(
                    {
                        "current-context": "c", "contexts": [{"name": "c", "context": {"cluster": "c", "user": "u"}}],
                        "clusters": [{"name": "c", "cluster": {"server": f"http://127.0.0.1:{listener.port}"}}],
                        "users": [{"name": "u",
                            "user": {"exec": {"command": str(folder / "engine"),
                                "apiVersion": "client.authentication.k8s.io/v1"}}}],
                    }
                ),
            }
        )  # fmt: skip
        (folder / "engine").chmod(0o755)
        subprocess.run([need("git"), "init", "-q"], cwd=folder, check=True)
        yield cj, listener


def outside_of(cj: Coinjar) -> dict[str, bytes]:
    folder = cj.folder.parent / "outside"
    return {path.name: path.read_bytes() for path in folder.rglob("*") if path.is_file()}
