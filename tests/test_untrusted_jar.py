"""Somebody else's repository, cloned: reading it or pressing Tab runs, sends, reads and writes
nothing without consent.
"""

from __future__ import annotations

import json
import os
import re
import shlex
import socket
import subprocess
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.conftest import Coinjar, on_a_terminal
from tests.consumers import need
from tests.hostile_repository import OUTSIDE, READING, Listener, clone, listening, outside_of


@pytest.fixture
def cloned(tmp_path: Path) -> Iterator[tuple[Coinjar, Listener]]:
    with clone(tmp_path) as both:
        yield both


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
    """The same acts do happen once there is consent: the test above could fail. None gets the identity, or goes through
    a proxy.
    """
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
    for part in ("runs      ./engine (", "reads     ../outside/secret.txt", "with the token in MADE_UP_TOKEN",
        "with the token in OTHER_TOKEN", "ProxyCommand in ssh.config", "there: touch PWNED",
        "decrypts  the values of the application pier", "(kubeconfig)"):  # fmt: skip
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
    assert "this needs your consent: runs ./engine" in cj("--jar", str(copy / "jar"), "value", "dev", "RUNS",
        "--service", "web", code=3, consented=False).err  # fmt: skip
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
    assert "this needs your consent" in cj("value", "dev", "RUNS", "--service", "web", env={"COINJAR_CONSENT": "x"},
        code=3, consented=False).err  # fmt: skip


def test_a_person_is_asked_once(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {}, B: {}}\n",
        dev="all: {A: {command: [echo, one]}, B: {from_env: HOME}}\n")  # fmt: skip
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
    """The shell itself completes, in a repository whose names are programs; nothing runs, and the ordinary name is
    offered.
    """
    cj, listener = cloned
    names = "".join(f"  {json.dumps(name)}: {{}}\n" for name in HOSTILE)
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("variables:\n", f"variables:\n{names}", 1)})
    before = outside_of(cj)
    env = cj.env | {"_TYPER_COMPLETE_TEST_DISABLE_SHELL_DETECTION": "1"}
    script = {
        "bash": (
            'eval "$(coinjar --show-completion bash)"; COMP_WORDS=(coinjar why dev ""); COMP_CWORD=3; '
            '_coinjar_completion coinjar; printf "%s\\n" "${COMPREPLY[@]}"'
        ),
        "zsh": (
            'autoload -U compinit; compinit -u; _arguments() { print -l -- "$@" }; eval "$(coinjar '
            '--show-completion zsh)"; words=(coinjar why dev ""); CURRENT=4; _coinjar_completion'
        ),
        "fish": 'coinjar --show-completion fish | source; complete --do-complete "coinjar why dev "',
    }[shell]
    options = {"bash": ["-c"], "zsh": ["-fc"], "fish": ["-c"]}[shell]
    done = subprocess.run([need(shell), *options, script], cwd=cj.folder, env=env, capture_output=True, text=True,
        check=False, timeout=60)  # fmt: skip
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
    records = (
        f"records: {{address: 'postgresql://made-up-user@{address}:{server.getsockname()[1]}/x', password: "
        f"{{from_env: MADE_UP_TOKEN}}}}\n"
    )
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml") + records})
    assert (
        "this needs your consent: contacts postgresql://made-up-user@" in cj("deliveries", code=3, consented=False).err
    )
    assert not heard
    cj("deliveries", code=5)
    server.close()
    assert heard
    assert not any(b"made-up" in data for data in heard)


ACTING = "\x1b\x07\x9b\u202e\u2066\u200b\u00ad\ufeff\U000e0041"
"""What clears a screen, turns the direction, or is not seen."""


def test_nothing_printed_acts_on_a_terminal(jar: Callable[..., Coinjar]) -> None:
    """Descriptions, values, patterns, reasons, file names and answers: whatever contains it, it is escaped, in JSON
    too.
    """
    hostile = '"a\\e[2Jb\\a\\x9bc\\u202e\\u2066\\u200b\\u00ad\\ufeff\\U000e0041"'
    cj = jar(
        f"services: {{web: {{about: {hostile}}}}}\nstages: {{dev: {{about: {hostile}}}, prod: {{}}}}\n"
        f"variables: {{A: {{about: {hostile}, default: {hostile}}}, B: {{kind: integer, default: {hostile}}},"
        f" C: {{kind: choice, choices: [{hostile}], default: x}},\n"
        f"  D: {{default: {{file: {hostile}}}}}, E: {{default: {{command: [{hostile}]}}}}, F: {{default: "
        f"{{from_env: {hostile}}}}}, G: {{pattern: {hostile}, default: y}}}}\n"
        f"accepted: [{{rule: CJ014, variable: A, reason: {hostile}}}]\n"
        f"destinations: {{out: {{type: file, as: dotenv, path: {hostile}}}, other: {{type: file, as: "
        f"{hostile}, path: x}}}}\n"
        f"proofs: {{up: {{service: web, about: {hostile}, file: {hostile}, expect: {hostile}}}}}\n",
        prod=f"all: {{A: {hostile}}}\n",
    )
    name = "in\x1b[2J\u202e.env"
    cj.write({name: "A=1\nX\u202e=2\n\x1b[2J\n", f"src/{name}.py": "import os\nos.environ['A']\n"})
    lines = [line.split() for line in READING if "dest:" not in line and "migrate" not in line]
    lines += [["adopt", f"file:{name}", "--stage", "dev"], ["compare", f"file:{name}", "prod"], ["grid", "--json"],
        ["why", "dev", "A", "--json"], ["why", "dev", "A"], ["check", "--json"], ["mentions", ".", "--json"],
        ["value", "dev", name], ["render", "dev", name], [name]]  # fmt: skip
    for words in lines:
        done = cj(*words, code=None)
        if words[:2] not in (["value", "dev"], ["render", "dev"]):
            assert not set(ACTING) & set(done.out), (words, done.out)
        assert not set(ACTING) & set(done.err), (words, done.err)
        if "--json" in words and done.out:
            json.loads(done.out)
