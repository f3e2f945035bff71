"""Somebody else's repository, cloned: reading it or pressing Tab runs, sends, reads and writes nothing without consent."""

from __future__ import annotations

import json
import os
import re
import shlex
import socket
import sqlite3
import subprocess
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from coinjar.core.masking import forms
from coinjar.core.secret import reveal
from tests.conftest import IDENTITY, Coinjar, on_a_terminal
from tests.consumers import need
from tests.systems import standin

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
  salt: {type: platform, platform: saltmarsh, address: "SERVER", app: "pier-{service}", token: {from_env: MADE_UP_TOKEN}, variables: [PLAIN]}
  salt-two: {type: platform, platform: saltmarsh, address: "SERVER", app: "two-{service}", token: {from_env: OTHER_TOKEN}, variables: [PLAIN]}
  registry: {type: etcd, address: "SERVER", prefix: "/pier/{stage}/{service}/", variables: [PLAIN]}
  boxes: {type: host, hosts: ["ada@127.0.0.1:SSHPORT"], path: "/srv/{stage}.{service}.env", ssh_config: ssh.config, reload: [touch, PWNED], variables: [PLAIN]}
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
    "grid", "grid --show-secrets", "check", "check --history", "check --format sarif", "why dev RUNS", "why dev READS_ENV --service web",
    "value dev RUNS --service web", "value dev READS_FILE --service web", "value dev READS_ENV --service web", "value dev STORED --service web", "value dev TOKEN --service web",
    "compare dev prod", "compare dest:salt@dev dev", "compare dest:out@dev dev", "compare dest:live@dev dev", "compare dest:pods@dev dev", "compare dest:boxes@dev dev",
    "render dev --dry-run", "render dev", "render dev --verify", "render dev --as json --service web", "within dev --service web -- true", "mentions .",
    "deliver dev --dry-run --requests", "deliver dev", "drift dev", "confirm dev prod", "deliveries", "deliveries --json",
    "adopt dest:salt --stage dev", "adopt dest:registry@dev --stage dev --yes", "migrate dest:salt dest:registry --out move.yaml", "rename PLAIN PLAINER --dry-run",
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


@pytest.fixture
def cloned(tmp_path: Path) -> Iterator[tuple[Coinjar, Listener]]:
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
                "k8s/web.yaml": "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: web}\nspec: {template: {spec: {containers: [{name: web, image: x}]}}}\n",
                "kubeconfig": json.dumps(
                    {
                        "current-context": "c", "contexts": [{"name": "c", "context": {"cluster": "c", "user": "u"}}], "clusters": [{"name": "c", "cluster": {"server": f"http://127.0.0.1:{listener.port}"}}],
                        "users": [{"name": "u", "user": {"exec": {"command": str(folder / "engine"), "apiVersion": "client.authentication.k8s.io/v1"}}}],
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


def test_nothing_acts_before_it_is_consented(cloned: tuple[Coinjar, Listener]) -> None:
    cj, listener = cloned
    before = outside_of(cj)
    home = set((cj.folder.parent / "home").rglob("*"))
    for line in READING:
        done = cj(*shlex.split(line), code=None, consented=False)
        assert OUTSIDE not in done.out + done.err, line
        assert "made-up-token" not in done.out + done.err, line
        assert outside_of(cj) == before, f"{line} wrote or ran something outside"
        assert not listener.heard, f"{line} contacted a server"
    left = {path.name for path in set((cj.folder.parent / "home").rglob("*")) - home}
    assert "consents" not in left


def test_what_was_consented_acts(cloned: tuple[Coinjar, Listener]) -> None:
    """The same acts do happen once there is consent: the test above could fail. None gets the identity, or goes through a proxy."""
    cj, listener = cloned
    with listening() as proxy:
        cj.env |= dict.fromkeys(("HTTP_PROXY", "http_proxy", "ALL_PROXY"), f"http://127.0.0.1:{proxy.port}")
        cj("consent", "--yes", consented=False)
        assert cj("value", "dev", "RUNS", "--service", "web", consented=False).out == "4"
        assert cj("value", "dev", "READS_FILE", "--service", "web", consented=False).out == OUTSIDE
        assert cj("value", "dev", "READS_ENV", "--service", "web", consented=False).out == "made-up-token-1"
        environment = (cj.folder.parent / "outside/env").read_text()
        assert "MADE_UP_TOKEN" in environment
        assert "COINJAR_IDENTITY" not in environment
        for name in ("salt", "registry", "live", "boxes", "pods"):
            (cj.folder.parent / "outside/env").unlink(missing_ok=True)
            heard = len(listener.heard)
            cj("drift", "dev", name, code=None, consented=False)
            ran = (cj.folder.parent / "outside/env").exists()
            assert len(listener.heard) > heard or ran, name
            assert not ran or "COINJAR_IDENTITY" not in (cj.folder.parent / "outside/env").read_text()
        cj("confirm", "dev", code=None, consented=False)
        assert any(b"GET /plain" in heard for heard in listener.heard)
        assert any(b"made-up-token-1" in heard for heard in listener.heard)
        assert not any(b"made-up-token" in heard for heard in listener.heard if b"GET /plain" in heard)
        assert not proxy.heard
        cj("render", "dev", "out", consented=False)
        assert (cj.folder.parent / "outside/dev.web.env").is_file()


def test_only_what_is_new_is_asked_again(cloned: tuple[Coinjar, Listener]) -> None:
    cj, _ = cloned
    shown = cj("consent", "--yes", consented=False).out
    for part in ("runs      ./engine (", "reads     ../outside/secret.txt", "with the token in MADE_UP_TOKEN", "with the token in OTHER_TOKEN", "ProxyCommand in ssh.config", "there: touch PWNED", "decrypts  the values of the application pier", "(kubeconfig)"):  # fmt: skip
        assert part in shown, part
    assert cj("consent", "--show", consented=False).out.count("\n  new") == 0
    changes = {
        "jar/plain/prod.yaml": "all: {RUNS: {command: [./engine, other]}}\n",
        "jar/jar.yaml": cj.read("jar/jar.yaml").replace("OTHER_TOKEN", "THIRD_TOKEN"),
        "engine": cj.read("engine") + "# changed\n",
        "ssh.config": cj.read("ssh.config") + "# changed\n",
        "kubeconfig": cj.read("kubeconfig").replace('"exec"', '"other": 1, "exec"'),
    }
    for name, text in changes.items():
        before = cj.read(name) if (cj.folder / name).exists() else "all: {}\n"
        cj.write({name: text})
        new = [
            line
            for line in cj("consent", "--show", code=1, consented=False).out.splitlines()
            if line.startswith("  new")
        ]
        assert new, name
        assert len(new) < 6, (name, new)
        cj.write({name: before})
        cj("consent", "--show", consented=False)
    assert "this needs your consent: runs ./engine" not in cj("grid", consented=False).err
    copy = cj.folder.parent / "copy"
    subprocess.run(["cp", "-a", str(cj.folder), str(copy)], check=True)
    assert "this needs your consent: runs ./engine" in cj("--jar", str(copy / "jar"), "value", "dev", "RUNS", "--service", "web", code=3, consented=False).err  # fmt: skip
    cj("consent", "--withdraw", consented=False)
    assert "this needs your consent" in cj("value", "dev", "RUNS", "--service", "web", code=3, consented=False).err


def test_what_was_not_looked_at_is_said(jar: Callable[..., Coinjar]) -> None:
    """Nothing new is not the same as nothing seen: a file or a destination with a fault is named, and is no success."""
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}, prod: {}}\nvariables: {A: {}}\n", dev="all: {A: {command: [echo]}}\n"
    )
    cj("consent", "--yes")
    assert "0 new" in cj("consent", "--show").out
    cj.write({"jar/plain/prod.yaml": "all: {A: [\n"})
    assert "not looked at: jar/plain/prod.yaml:2:1" in cj("consent", "--show", code=1, consented=False).err
    assert json.loads(cj("consent", "--json", code=1, consented=False).out)["skipped"]
    cj.write({"jar/plain/prod.yaml": "", "jar/jar.yaml": cj.read("jar/jar.yaml") + "destinations: {d: {type: etcd}}\n"})
    assert "not looked at: jar/jar.yaml" in cj("consent", "--show", code=1, consented=False).err
    for options in (["--show", "--yes"], ["--json", "--yes"], ["--json", "--withdraw"], ["--withdraw", "--yes"]):
        cj("consent", *options, code=2)


def test_machines_consent_by_a_digest(cloned: tuple[Coinjar, Listener]) -> None:
    cj, _ = cloned
    digest = json.loads(cj("consent", "--json", code=1, consented=False).out)["digest"]
    env = {"COINJAR_CONSENT": digest}
    assert cj("value", "dev", "RUNS", "--service", "web", env=env, consented=False).out == "4"
    cj.write({"jar/plain/prod.yaml": "all: {RUNS: {command: [touch, pwned]}}\n"})
    refused = cj("value", "dev", "RUNS", "--service", "web", env=env, code=3, consented=False).err
    assert "COINJAR_CONSENT does not fit" in refused
    assert "this needs your consent" in cj("value", "dev", "RUNS", "--service", "web", env={"COINJAR_CONSENT": "x"}, code=3, consented=False).err  # fmt: skip


def test_a_person_is_asked_once(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {}, B: {}}\n", dev="all: {A: {command: [echo, one]}, B: {from_env: HOME}}\n")  # fmt: skip
    shown = on_a_terminal(cj, "value", "dev", "A", typed="n\n", consented=False)
    assert "runs      echo one" in shown
    assert "reads     the variable HOME" in shown
    assert "this needs your consent: runs echo one" in shown
    assert on_a_terminal(cj, "value", "dev", "A", typed="y\n", consented=False).rstrip().endswith("one")
    assert "consent" not in on_a_terminal(cj, "value", "dev", "B", consented=False)
    nothing = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {default: x}}\n")
    assert "needs your consent" in nothing("consent", consented=False).out


def test_a_secret_is_decrypted_only_where_it_was_consented(
    jar: Callable[..., Coinjar], tmp_path_factory: pytest.TempPathFactory
) -> None:
    """The first secret of a jar has its own consent; a jar with somebody's encrypted values, elsewhere, does not."""
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {TOKEN: {secret: true}}\n")
    cj("put", "TOKEN", "--stage", "dev", stdin="made-up-canary", consented=False)
    assert cj("value", "dev", "TOKEN", consented=False).out == "made-up-canary"
    elsewhere = tmp_path_factory.mktemp("elsewhere")
    subprocess.run(["cp", "-a", str(cj.folder / "jar"), str(elsewhere)], check=True)
    other = ("--jar", str(elsewhere / "jar"))
    refused = cj(*other, "value", "dev", "TOKEN", code=4, consented=False)
    assert "this needs your consent: decrypts the values of the application trial" in refused.err
    assert re.search(r"`coinjar --jar \S*elsewhere\S*/jar consent`", refused.err)
    assert "made-up" not in cj(*other, "grid", "--show-secrets", consented=False).out
    assert "1 secret was not checked" in cj(*other, "check", code=None, consented=False).err
    cj(*other, "consent", "--yes", consented=False)
    assert cj(*other, "value", "dev", "TOKEN", consented=False).out == "made-up-canary"


def test_no_link_is_followed_out_of_the_repository(cloned: tuple[Coinjar, Listener]) -> None:
    cj, _ = cloned
    outside = cj.folder.parent / "outside"
    (outside / "folder").mkdir()
    (outside / "folder/x.txt").write_text(OUTSIDE)
    cj.write(
        {
            "jar/jar.yaml": LINKED,
            "jar/plain/dev.yaml": "all: {A: {file: linked.txt}}\n",
            "templates/a.txt.tmpl": "${PLAIN}\n",
        }
    )
    for name in ("linked.txt", "linked.env"):
        (cj.folder / name).symlink_to(outside / "secret.txt")
    for name in ("linked-folder", "linked-templates"):
        (cj.folder / name).symlink_to(outside / "folder")
    (cj.folder / "inside.env").symlink_to("real.env")
    before = outside_of(cj)
    assert "a symlink leads outside" in cj("value", "dev", "A", code=3).err
    for name in ("over-link", "in-link", "from-link"):
        assert "a symlink leads outside" in cj("render", "dev", name, code=3).err, name
    assert "a symlink leads outside" in cj("confirm", "dev", code=None).err
    assert OUTSIDE not in cj("compare", "file:linked.env", "dev", code=3).err
    for line in ("check", "grid", "render dev --dry-run", "mentions ."):
        done = cj(*line.split(), code=None)
        assert OUTSIDE not in done.out + done.err, line
    cj("render", "dev", "within")
    assert (cj.folder / "inside.env").is_symlink()
    assert "PLAIN=plain" in cj.read("real.env")
    assert outside_of(cj) == before
    (cj.folder / "jar/plain/prod.yaml").symlink_to(outside / "secret.txt")
    refused = cj("grid", code=3)
    assert "jar/plain/prod.yaml: a symlink leads outside" in refused.err
    assert OUTSIDE not in refused.out + refused.err
    (cj.folder / "jar/plain/prod.yaml").unlink()
    os.mkfifo(cj.folder / "jar/plain/prod.yaml")
    assert "not a regular file" in cj("grid", code=3).err


LINKED = """\
coinjar: 1
app: pier
services: {web: {}}
stages: {dev: {}, prod: {}}
variables: {A: {}, PLAIN: {default: plain}}
destinations:
  over-link: {type: file, as: dotenv, path: linked.env, variables: [PLAIN]}
  in-link: {type: file, as: dotenv, path: linked-folder/x.env, variables: [PLAIN]}
  from-link: {type: templates, from: linked-templates, to: pages, suffix: .tmpl, variables: [PLAIN]}
  within: {type: file, as: dotenv, path: inside.env, stages: [dev], variables: [PLAIN]}
proofs:
  far: {service: web, file: linked.txt, expect: x}
"""


def test_a_local_folder_from_elsewhere_is_refused(
    jar: Callable[..., Coinjar], tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Tracked, a link, or somebody else's; and an interrupted change that this account did not begin."""
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {default: x}}\n")
    outside = tmp_path_factory.mktemp("outside")
    subprocess.run([need("git"), "init", "-q"], cwd=cj.folder, check=True)
    cj("put", "A=mine", "--stage", "dev", "--mine")
    assert cj("within", "dev", "--", "printenv", "A").out == "mine\n"
    subprocess.run([need("git"), "add", "-f", "jar/.local/dev.yaml"], cwd=cj.folder, check=True)
    for line in ("within dev -- printenv A", "render dev --as json", "put A=1 --stage dev", "rename A B --yes"):
        assert "version control tracks it" in cj(*line.split(), code=3).err, line
    subprocess.run([need("git"), "rm", "-q", "--cached", "jar/.local/dev.yaml"], cwd=cj.folder, check=True)
    assert cj("within", "dev", "--", "printenv", "A").out == "mine\n"
    journal = cj.folder / "jar/.local/unfinished-change"
    journal.mkdir()
    (journal / "0").write_text("planted")
    victim = outside / "victim"
    victim.write_text("before")
    for path in (victim, cj.folder / "app.py"):
        path.write_text("before")
        entry = {"path": str(path), "old": _digest("before"), "new": _digest("planted")}
        for text in ([entry], {"files": [entry], "code": "0" * 64}, {"files": "x", "code": 1}):
            (journal / "list.json").write_text(json.dumps(text))
            assert "not begun here by you" in cj("rename", "A", "B", "--yes", code=3).err
            assert path.read_text() == "before"
    for name in ("0", "list.json"):
        (journal / name).unlink()
    journal.rmdir()
    subprocess.run(["rm", "-r", str(cj.folder / "jar/.local")], check=True)
    (cj.folder / "jar/.local").symlink_to(outside)
    assert "it is a symlink" in cj("put", "A=1", "--stage", "dev", code=3).err
    assert {path.name for path in outside.iterdir()} == {"victim"}


def _digest(text: str) -> str:
    import hashlib

    return hashlib.sha256(text.encode()).hexdigest()


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can give files to another account")
def test_files_of_another_account_are_refused(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {default: x}}\n")
    below = cj.folder / "below"
    below.mkdir()
    inner = Coinjar(below)
    inner.env = cj.env
    assert inner("value", "dev", "A", consented=False).out == "x"
    os.chown(cj.folder / "jar/jar.yaml", 4321, 4321)
    assert "belongs to another account" in inner("value", "dev", "A", code=3, consented=False).err
    assert inner("--jar", "..", "value", "dev", "A", consented=False).out == "x"
    assert cj("value", "dev", "A", consented=False).out == "x"
    cj("put", "A=own", "--stage", "dev", "--mine")
    os.chown(cj.folder / "jar/.local", 4321, 4321)
    assert "belongs to another account" in cj("put", "A=2", "--stage", "dev", code=3).err
    cj.write({"my.identity": reveal(IDENTITY)})
    (cj.folder / "my.identity").chmod(0o600)
    os.chown(cj.folder / "my.identity", 4321, 4321)
    env = {"COINJAR_IDENTITY": "", "COINJAR_IDENTITY_FILE": "my.identity"}
    assert "belongs to another account" in cj("identity", "show", env=env, code=4).err


HOSTILE = [
    'x"$(touch${IFS}pwned)"',
    "`touch${IFS}pwned`",
    "$(touch${IFS}pwned)",
    "a';touch${IFS}pwned;'",
    'x\\"));touch${IFS}pwned',
    "$'\\x24(touch)'",
]


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_a_hostile_name_is_never_evaluated_by_tab(cloned: tuple[Coinjar, Listener], shell: str) -> None:
    """The shell itself completes, in a repository whose names are programs; nothing runs, and the ordinary name is offered."""
    cj, listener = cloned
    names = "".join(f"  {json.dumps(name)}: {{}}\n" for name in HOSTILE)
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("variables:\n", f"variables:\n{names}", 1)})
    before = outside_of(cj)
    env = cj.env | {"_TYPER_COMPLETE_TEST_DISABLE_SHELL_DETECTION": "1"}
    script = {
        "bash": 'eval "$(coinjar --show-completion bash)"; COMP_WORDS=(coinjar why dev ""); COMP_CWORD=3; _coinjar_completion coinjar; printf "%s\\n" "${COMPREPLY[@]}"',
        "zsh": 'autoload -U compinit; compinit -u; _arguments() { print -l -- "$@" }; eval "$(coinjar --show-completion zsh)"; words=(coinjar why dev ""); CURRENT=4; _coinjar_completion',
        "fish": 'coinjar --show-completion fish | source; complete --do-complete "coinjar why dev "',
    }[shell]
    options = {"bash": ["-c"], "zsh": ["-fc"], "fish": ["-c"]}[shell]
    done = subprocess.run([need(shell), *options, script], cwd=cj.folder, env=env, capture_output=True, text=True, check=False, timeout=60)  # fmt: skip
    assert "PLAIN" in done.stdout, done.stderr
    assert "touch" not in done.stdout
    assert not (cj.folder / "pwned").exists()
    assert outside_of(cj) == before
    assert not listener.heard


def test_records_elsewhere_are_proven(cloned: tuple[Coinjar, Listener]) -> None:
    """A database on another machine must prove itself by TLS: without it, not even the user's name is sent."""
    cj, _ = cloned
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        try:
            sock.connect(("192.0.2.1", 9))
        except OSError:
            pytest.skip("this machine has no address besides loopback")
        address = sock.getsockname()[0]
    server = socket.create_server((address, 0))
    heard: list[bytes] = []

    def serve() -> None:
        while True:
            try:
                connection, _ = server.accept()
            except OSError:
                return
            with connection:
                heard.append(connection.recv(8))
                connection.sendall(b"N")  # no TLS here
                heard.append(connection.recv(4096))

    threading.Thread(target=serve, daemon=True).start()
    records = f"records: {{address: 'postgresql://made-up-user@{address}:{server.getsockname()[1]}/x', password: {{from_env: MADE_UP_TOKEN}}}}\n"
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml") + records})
    assert (
        "this needs your consent: contacts postgresql://made-up-user@" in cj("deliveries", code=3, consented=False).err
    )
    assert not heard
    cj("deliveries", code=5)
    server.close()
    assert heard
    assert not any(b"made-up" in data for data in heard)


def test_who_can_write_the_records_does_not_choose_what_undo_delivers(
    jar: Callable[..., Coinjar], tmp_path_factory: pytest.TempPathFactory
) -> None:
    """A snapshot that is made up, changed, of another delivery, or readable although the stage has readers."""
    with standin("saltmarsh", tmp_path_factory.mktemp("salt"), "line") as salt:
        cj = jar(
            "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {default: one}, TOKEN: {secret: true}}\n"
            f"destinations: {{salt: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}', app: line, token: {{from_env: T}}}}}}\n"
        )
        cj.env["T"] = salt.token
        cj("put", "TOKEN", "--stage", "dev", stdin="made-up-secret")
        for text in ("two", "three", "four"):
            cj("put", f"A={text}", "--stage", "dev")
            cj("deliver", "dev")
        shown = cj("deliveries", "undo", "3", "--dry-run", code=None)
        assert "three" in shown.out + shown.err
        database = sqlite3.connect(cj.folder / "jar/.local/deliveries.sqlite")
        ours = dict(database.execute("select delivery, snapshot from coinjar_parts"))
        plain = b'plain\n{"before": {"A": "theirs"}, "after": {}, "secret": [], "left_out": []}'
        head = ours[3].partition(b"\n")[0]
        for forged in (
            plain,
            head + b"\n" + plain,
            b"snapshot " + b"0" * 64 + b"\n" + plain,
            ours[2],
            ours[3][:-1],
            ours[3][:-9] + b"x" * 9,
            b"",
            b"\xff",
        ):
            database.execute("update coinjar_parts set snapshot = ? where delivery = 3", (forged,))
            database.commit()
            refused = cj("deliveries", "undo", "3", "--dry-run", code=4)
            assert "was not made by a reader of the stage" in refused.err, forged
            assert "theirs" not in refused.out + refused.err
            assert "was not made" in cj("compare", "delivery:3", "dev", code=4).err
        held = (cj.folder / "jar/.local/deliveries.sqlite").read_bytes()
        assert not [form for form in forms("made-up-secret") if form in held]


ACTING = "\x1b\x07\x9b\u202e\u2066\u200b\u00ad\ufeff\U000e0041"
"""What clears a screen, turns the direction, or is not seen."""


def test_nothing_printed_acts_on_a_terminal(jar: Callable[..., Coinjar]) -> None:
    """Descriptions, values, patterns, reasons, file names and answers: whatever contains it, it is escaped, in JSON too."""
    hostile = '"a\\e[2Jb\\a\\x9bc\\u202e\\u2066\\u200b\\u00ad\\ufeff\\U000e0041"'
    cj = jar(
        f"services: {{web: {{about: {hostile}}}}}\nstages: {{dev: {{about: {hostile}}}, prod: {{}}}}\n"
        f"variables: {{A: {{about: {hostile}, default: {hostile}}}, B: {{kind: integer, default: {hostile}}}, C: {{kind: choice, choices: [{hostile}], default: x}},\n"
        f"  D: {{default: {{file: {hostile}}}}}, E: {{default: {{command: [{hostile}]}}}}, F: {{default: {{from_env: {hostile}}}}}, G: {{pattern: {hostile}, default: y}}}}\n"
        f"accepted: [{{rule: CJ014, variable: A, reason: {hostile}}}]\n"
        f"destinations: {{out: {{type: file, as: dotenv, path: {hostile}}}, other: {{type: file, as: {hostile}, path: x}}}}\n"
        f"proofs: {{up: {{service: web, about: {hostile}, file: {hostile}, expect: {hostile}}}}}\n",
        prod=f"all: {{A: {hostile}}}\n",
    )
    name = "in\x1b[2J\u202e.env"
    cj.write({name: "A=1\nX\u202e=2\n\x1b[2J\n", f"src/{name}.py": "import os\nos.environ['A']\n"})
    lines = [line.split() for line in READING if "dest:" not in line and "migrate" not in line]
    lines += [["adopt", f"file:{name}", "--stage", "dev"], ["compare", f"file:{name}", "prod"], ["grid", "--json"], ["why", "dev", "A", "--json"], ["why", "dev", "A"], ["check", "--json"], ["mentions", ".", "--json"], ["value", "dev", name], ["render", "dev", name], [name]]  # fmt: skip
    for words in lines:
        done = cj(*words, code=None)
        if words[:2] not in (["value", "dev"], ["render", "dev"]):
            assert not set(ACTING) & set(done.out), (words, done.out)
        assert not set(ACTING) & set(done.err), (words, done.err)
        if "--json" in words and done.out:
            json.loads(done.out)


def test_what_a_killed_run_left_is_removed_and_no_core_file_is_written(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {default: x}, TOKEN: {secret: true}}\n",
        dev="all: {A: y}\n",
    )
    left = [f"jar/{folder}.x.coinjar-unfinished" for folder in ("", "plain/", ".local/")]
    cj.write(dict.fromkeys(left, "made-up-left"))
    cj("put", "TOKEN", "--stage", "dev", stdin="made-up")
    assert not [name for name in left if (cj.folder / name).exists()]
    for options in ([], ["--mask"]):
        done = cj("within", "dev", *options, "--", "sh", "-c", "ulimit -c", process=True)
        assert done.out == subprocess.run(["sh", "-c", "ulimit -c"], capture_output=True, text=True, check=True).stdout


def test_a_pattern_that_would_take_a_life_is_an_error(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {pattern: '(a+)+b'}}\ncode: {paths: [src]}\n",
        dev=f"all: {{A: {'a' * 60}}}\n",
    )
    cj.write({"src/app.py": "import os\n"})
    assert "takes too long to compare with the pattern (a+)+b" in cj("value", "dev", "A", code=3).err
    cj.write({"src/.gitignore": "a*a*a*a*a*a*a*a*a*b.py\n", f"src/{'a' * 200}.py": "import os\n"})
    assert "takes too long to compare with the pattern .gitignore" in cj("mentions", ".", code=3).err
