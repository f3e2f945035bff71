"""What is particular to each type of live destination: containers that read a file, hosts that refuse, an etcd with
users, secrets that are others'.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import asyncssh
import pytest

from tests.conftest import PROGRAM, Coinjar
from tests.consumers import need, podman_engine
from tests.systems import etcd, sshd, standin

HEAD = (
    "services: {web: {}}\nstages: {dev: {}, prod: {}}\n"
    "variables: {LEVEL: {default: info}, TOKEN: {secret: true}}\ndestinations:\n"
)
CANARY = "made-up-canary-4711"


def engine(*arguments: str) -> str:
    base, env = podman_engine()
    done = subprocess.run([*base, *arguments], env=env, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    return done.stdout.strip()


@pytest.fixture
def boxes(jar: Callable[..., Coinjar], cj: Coinjar) -> Coinjar:
    """A jar whose destination is a container, `box`."""
    base, env = podman_engine()
    name = f"box-{os.getpid()}-{time.monotonic_ns()}"
    jar(HEAD + f"  box: {{type: container, container: {name}, env_file: run/web.env, engine: [{', '.join(base)}]}}\n")
    cj.env |= {"CONTAINERS_CONF": env["CONTAINERS_CONF"], "PATH": f"{Path(PROGRAM).parent}:{env['PATH']}", "BOX": name}
    cj("put", "TOKEN", "--stage", "dev", stdin=CANARY)
    return cj


def test_a_container_that_reads_its_file_itself(boxes: Coinjar) -> None:
    """It was not made with the file, so when it started tells whether it has read it; it is started anew, not made
    anew.
    """
    cj, name = boxes, boxes.env["BOX"]
    result = cj("deliver", "dev")
    assert "pending restart" in result.out
    assert (cj.folder / "run/web.env").stat().st_mode & 0o777 == 0o600
    done = cj("deliver", "dev", "--restart", code=5)
    assert "there is no such container" in done.err
    assert f"podman run --name {name} --env-file run/web.env" in done.err
    sleeping = (
        "--stop-signal",
        "KILL",
        "--network",
        "host",
        "--volume",
        f"{cj.folder}/run:/run-env:ro",
        "localhost/coinjar/base:1",
        "/bin/busybox",
        "sleep",
        "600",
    )
    engine("run", "--detach", "--name", name, *sleeping)
    try:
        cj("deliver", "dev", "--restart")  # it started after the file was written
        started = engine("container", "inspect", "--format", "{{.State.StartedAt}} {{.Id}}", name)
        assert cj("drift", "dev").out.startswith("dev: 1 target up to date")
        time.sleep(1.1)
        cj("put", "LEVEL=debug", "--stage", "dev")
        assert "pending restart" in cj("deliver", "dev").out
        result = cj("drift", "dev", code=1)
        assert re.search(r"LEVEL +pending restart", result.out)
        assert "it was started before the last change" in result.err
        cj("deliver", "dev", "--restart")
        again = engine("container", "inspect", "--format", "{{.State.StartedAt}} {{.Id}}", name)
        assert again.split()[-1] == started.split()[-1]  # the same container
        assert again != started
        assert cj("drift", "dev").out.startswith("dev: 1 target up to date")
        engine("stop", "--time", "0", name)
        assert "pending restart" in cj("drift", "dev", code=1).out
    finally:
        engine("rm", "--force", "--time", "0", name)


def test_a_container_that_a_command_of_ones_own_makes_anew(boxes: Coinjar) -> None:
    cj, name = boxes, boxes.env["BOX"]
    base, _ = podman_engine()
    make = [
        *base,
        "run",
        "--replace",
        "--detach",
        "--name",
        name,
        "--network",
        "host",
        "--env-file",
        f"{cj.folder}/run/web.env",
        "localhost/coinjar/base:1",
        "/bin/busybox",
        "sleep",
        "600",
    ]
    cj.write({"make": "#!/bin/sh\n" + " ".join(make) + "\n"})
    (cj.folder / "make").chmod(0o755)
    cj.write(
        {
            "jar/jar.yaml": cj.read("jar/jar.yaml").replace(
                "env_file: run/web.env", f"env_file: run/web.env, restart: ['{cj.folder}/make']"
            )
        }
    )
    try:
        cj("deliver", "dev", "--restart")
        assert {"LEVEL=info", f"TOKEN={CANARY}"} <= set(engine("exec", name, "/bin/busybox", "env").splitlines())
        cj("put", "LEVEL", "--unset", "--stage", "dev")
        cj("deliver", "dev")
        message = cj("drift", "dev", code=1).out
        assert re.search(r"LEVEL +pending restart +.*removed, but still in use by the running program", message)
    finally:
        engine("rm", "--force", "--time", "0", name)


def test_hosts_that_refuse(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """What the file's dialect cannot carry is refused before anybody is asked; a reload that fails leaves the file
    written, and says so.
    """
    user = subprocess.run(["id", "-un"], capture_output=True, text=True, check=True).stdout.strip()
    with sshd(cj.folder / "sshd") as port:
        keys = "known_hosts: sshd/known_hosts, identity_file: sshd/user_key"
        jar(
            HEAD.replace("default: info", 'default: "a\\nb"')
            + (
                f"  farm: {{type: host, hosts: {{dev: ['{user}@127.0.0.1:{port}']}}, path: "
                f"'{cj.folder}/there/web.env', as: literal, {keys}, reload: [sh, -c, 'exit 3']}}\n"
            )
        )
        cj("put", "TOKEN", "--stage", "dev", stdin=CANARY)
        assert "literal cannot carry LEVEL" in cj("deliver", "dev", code=3).err
        assert "has no hosts for prod" in cj("deliver", "prod", code=3).err
        assert "farm has no place for values of all stages" in cj("deliver", "shared", "farm", code=3).err
        cj("put", "LEVEL=info", "--stage", "dev")
        done = cj("deliver", "dev", "--restart", code=5)
        assert "sh ended with 3" in done.err
        assert (cj.folder / "there/web.env").read_text().count(CANARY) == 1
        assert CANARY not in done.out + done.err
        assert json.loads(cj("deliveries", "--json").out)[0]["state"] == "failed"
        assert "pending restart" in cj("drift", "dev", code=1).out  # it does not forget
        (cj.folder / "there/web.env").write_bytes(b"\xff\xfe\n")
        assert "cannot parse" in cj("drift", "dev", code=5).err
        (cj.folder / "there/web.env").unlink()
        (cj.folder / "there/web.env").mkdir()
        assert "cannot read" in cj("deliver", "dev", code=5).err


def test_several_services_on_several_machines(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """They share a machine's connection, and none closes it under another; the same change on many is shown once."""
    user = subprocess.run(["id", "-un"], capture_output=True, text=True, check=True).stdout.strip()
    with sshd(cj.folder / "sshd") as port:
        cj.write(
            {
                "ssh_config": "".join(
                    f"Host h{n}\n  HostName 127.0.0.1\n  HostKeyAlias [127.0.0.1]:{port}\n  Port {port}\n"
                    for n in range(3)
                )
            }
        )
        jar(
            "services: {web: {}, mailer: {}}\nstages: {dev: {}, trial-*: {}}\n"
            "variables: {LEVEL: {default: info}}\ndestinations:\n"
            f"  farm: {{type: host, hosts: {{dev: ['{user}@h0', '{user}@h1', '{user}@h2'], 'trial-*': "
            f"['{user}@h0']}}, path: '{cj.folder}/there/{{host}}.{{service}}.{{stage}}.env',\n"
            "    ssh_config: ssh_config, known_hosts: sshd/known_hosts, identity_file: sshd/user_key}\n"
        )
        message = cj("deliver", "dev").out
        assert message.startswith("farm (web at h0) and 5 more like it\n+  LEVEL  info\n6 delivered\n")
        assert len(list((cj.folder / "there").iterdir())) == 6
        assert "farm (web at h0) and 1 more like it" in cj("deliver", "trial-7", "--dry-run").out
        for _ in range(3):
            assert cj("drift", "dev").out.startswith("dev: 6 targets up to date")


def test_of_many_machines_few_are_connected_at_a_time(
    jar: Callable[..., Coinjar], cj: Coinjar, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A process has some thousand file handles: connections of a large farm are not kept until they are written to."""
    monkeypatch.setattr("coinjar.actions.delivery.deliver._KEPT_OPEN", 4)
    user = subprocess.run(["id", "-un"], capture_output=True, text=True, check=True).stdout.strip()
    opened: list[asyncssh.SSHClientConnection] = []
    most, connect = 0, asyncssh.connect

    async def counted(*arguments: object, **named: object) -> asyncssh.SSHClientConnection:
        nonlocal most
        opened.append(await connect(*arguments, **named))
        most = max(most, sum(not connection.is_closed() for connection in opened))
        return opened[-1]

    monkeypatch.setattr(asyncssh, "connect", counted)
    with sshd(cj.folder / "sshd") as port:
        blocks = [
            f"Host h{n}\n  HostName 127.0.0.1\n  HostKeyAlias [127.0.0.1]:{port}\n  Port {port}\n" for n in range(8)
        ]
        cj.write({"ssh_config": "".join(blocks)})
        hosts = json.dumps([f"{user}@h{n}" for n in range(8)])
        jar(
            "services: {web: {}, mailer: {}}\nstages: {dev: {}}\nvariables: {LEVEL: {default: info}}\ndestinations:\n"
            f"  farm: {{type: host, hosts: {hosts}, path: '{cj.folder}/there/{{host}}.{{service}}.env', at_once: 2,\n"
            "    ssh_config: ssh_config, known_hosts: sshd/known_hosts, identity_file: sshd/user_key}\n"
        )
        assert "16 delivered" in cj("deliver", "dev").out
        assert len(list((cj.folder / "there").iterdir())) == 16
        assert "16 up to date" in cj("deliver", "dev").out
    assert len(opened) > 16
    assert most <= 3  # one of those that are closed may still say goodbye
    assert all(connection.is_closed() for connection in opened)


def test_an_etcd_with_users_and_more_than_one_transaction(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with etcd(cj.folder / "etcd") as address:

        def ctl(*arguments: str) -> str:
            argv = [need("etcdctl"), "--endpoints", address, *arguments]
            return subprocess.run(argv, capture_output=True, text=True, check=True, env={"ETCDCTL_API": "3"}).stdout

        names = "".join(f"  N{number}: {{default: '{number}'}}\n" for number in range(200))
        jar(
            f"services: {{web: {{}}}}\nstages: {{dev: {{}}}}\nvariables:\n  TOKEN: {{secret: true}}\n"
            f"  LOGIN: {{secret: true}}\n{names}destinations:\n"
            f"  registry: {{type: etcd, address: '{address}', prefix: '/line/{{stage}}/{{service}}/', user: "
            f"root, password: {{secret: LOGIN}}, without: [LOGIN]}}\n"
        )
        for name, text in (("TOKEN", CANARY), ("LOGIN", "made-up-login")):
            cj("put", name, "--stage", "dev", stdin=text)
        ctl("user", "add", "root:made-up-login")
        ctl("user", "grant-role", "root", "root")
        ctl("auth", "enable")
        result = cj("deliver", "dev")
        assert "201 changes exceed one transaction: they were made in several" in result.err
        assert ctl("--user", "root:made-up-login", "get", "--print-value-only", "/line/dev/web/TOKEN").strip() == CANARY
        planned = cj("put", "N1=other", "--stage", "dev") and cj("deliver", "dev", "--dry-run", "--requests").out
        assert "put /line/dev/web/N1 = other, if it was not written since" in planned
        cj("put", "LOGIN", "--stage", "dev", stdin="made-up-wrong")
        done = cj("deliver", "dev", code=5)
        assert re.search("/v3/auth/authenticate was answered with 4", done.err)
        assert "made-up" not in done.err


@pytest.mark.parametrize(
    ("destination", "words"),
    [
        ("{type: host, path: x}", "has no 'hosts'"),
        ("{type: host, hosts: ['a b'], path: x}", "'a b' is not a host"),
        ("{type: host, hosts: [a], path: x, as: example}", "example cannot be read back here"),
        ("{type: host, hosts: [a], path: x, owner: 'a; b'}", "'owner' is user, or user:group"),
        (
            "{type: host, hosts: [a], path: 'x-{service}'}",
            "a would have one file for dev, prod, trial-*, which overwrite each other",
        ),
        ("{type: host, hosts: {dev: [a, b], prod: [b]}, path: 'x-{service}'}", "b would have one file for dev, prod"),
        (
            "{type: host, hosts: [a], path: x, services: [web, mailer], stages: [dev]}",
            "would have one file for dev, trial-*",
        ),
        ("{type: host, hosts: {dev: [a]}, path: x}", "has 2 services, but a path for one"),
        ("{type: container, container: a, env_file: x}", "has 2 services, but a container for one"),
        ("{type: cluster, manifests: nope}", "'nope' is not a destination of type manifests"),
        ("{type: etcd, address: 'http://127.0.0.1:1', prefix: /a}", "'prefix' does not end with '/'"),
        (
            "{type: etcd, address: 'http://127.0.0.1:1', prefix: /a/}",
            "has one value of LEVEL for all services, but web and mailer have different ones",
        ),
        ("{type: platform}", "has no 'platform'"),
        ("{type: platform, platform: nope, address: x}", "there is no platform description 'nope'"),
        ("{type: platform, platform: saltmarsh, address: 'http://127.0.0.1:1'}", "has no 'app': the app's name there"),
        (
            "{type: platform, platform: saltmarsh, address: 'http://127.0.0.1:1', app: 'x-{stage}'}",
            "there has one place for web and mailer on dev, which would overwrite each other",
        ),
        (
            "{type: platform, platform: saltmarsh, address: 'http://127.0.0.1:1', app: 'x-{service}', token: {}}",
            "'token' requires one of from_env and secret",
        ),
        (
            "{type: platform, platform: saltmarsh, address: 'http://127.0.0.1:1', app: 'x-{nope}'}",
            "'{nope}' in app of there is not defined",
        ),
    ],
)
def test_declarations_that_cannot_be(jar: Callable[..., Coinjar], destination: str, words: str) -> None:
    """`check` and `deliver` say the same, and nothing is asked of anybody."""
    cj = jar(
        (
            f"services: {{web: {{}}, mailer: {{}}}}\n"
            f"stages: {{dev: {{}}, prod: {{}}, 'trial-*': {{follows: dev}}}}\n"
            f"variables: {{LEVEL: {{default: info}}}}\n"
            f"destinations: {{there: {destination}}}\n"
        ),
        dev="web: {LEVEL: debug}",
    )
    assert words in cj("deliver", "dev", code=3).err
    result = [
        finding["message"]
        for finding in json.loads(cj("check", "--format", "json", code=1).out)["findings"]
        if finding["rule"] == "CJ017"
    ]
    assert any(words in item for item in result)


def test_secrets_that_are_others_and_readers_that_nobody_vouches_for(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with standin("saltmarsh", cj.folder / "s", "line-dev", "line-prod") as salt:
        jar(
            "services: {web: {}}\nstages: {dev: {}, prod: {}}\n"
            "variables: {LEVEL: {default: info}, TOKEN: {secret: true}, OUTSIDE: {secret: true, stages: "
            "[prod]}, SHARED_TOKEN: {secret: true}}\ndestinations:\n"
            f"  salt: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}', app: "
            f"'line-{{stage}}', token: {{from_env: SALT}}}}\n",
            prod="all: {OUTSIDE: {from_env: OUTSIDE}}",
        )
        cj.env |= {"SALT": salt.token, "OUTSIDE": f"{CANARY}-outside"}
        cj("put", "TOKEN", "--stage", "dev", stdin=CANARY)
        nobody = {"COINJAR_IDENTITY": "", "XDG_CONFIG_HOME": str(cj.folder / "empty")}
        assert "no identity" in cj("deliver", "dev", code=4, env=nobody).err
        assert salt.standin.state["apps"]["line-dev"]["settings"] == {}
        other = cj("identity", "new", "--out", "b.identity").out.strip()
        readers = cj.read("jar/readers.yaml")
        cj.write(
            {
                "jar/readers.yaml": readers.replace(
                    "readers:\n", f"readers:\n  slipped-in:\n    opens: [dev]\n    recipient: {other}\n"
                )
            }
        )
        assert (
            "the readers of dev are not approved" in cj("deliver", "dev", code=4).err
        )  # no snapshot is sealed for them
        assert salt.standin.state["apps"]["line-dev"]["settings"] == {}
        cj.write({"jar/readers.yaml": readers})
        cj("deliver", "dev")
        # where a stage has no readers, a snapshot leaves secrets out, and an undoing says so; those of shared are too
        # many
        cj("put", "SHARED_TOKEN", "--stage", "shared", stdin="made-up-shared")
        cj("deliver", "prod")
        cj.env["OUTSIDE"] = f"{CANARY}-other"
        cj("put", "LEVEL=debug", "--stage", "prod")
        cj("deliver", "prod")
        number = json.loads(cj("deliveries", "--json").out)[0]["number"]
        assert CANARY.encode() not in (cj.folder / "jar/.local/deliveries.sqlite").read_bytes()
        undone = cj("deliveries", "undo", str(number))
        assert (
            "cannot be restored: OUTSIDE: it is secret, and there was no reader to encrypt the snapshot for"
            in undone.err
        )
        assert salt.standin.state["apps"]["line-prod"]["settings"] == {
            "LEVEL": "info",
            "OUTSIDE": f"{CANARY}-other",
            "SHARED_TOKEN": "made-up-shared",
        }


def test_what_is_supplied_may_be_secret(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with standin("saltmarsh", cj.folder / "s", "line") as salt:
        jar(
            "services: {web: {}}\nstages: {dev: {}}\nvariables:\n"
            "  LEDGER_ADDRESS: {secret: true, supplied: {by: [salt]}}\n"
            '  LEDGER: {default: {text: "${LEDGER_ADDRESS:-none}books"}}\ndestinations:\n'
            f"  salt: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}', app: line, "
            f"token: {{from_env: SALT}}}}\n"
        )
        cj.env["SALT"] = salt.token
        cj("deliver", "dev")
        settings = salt.standin.state["apps"]["line"]["settings"]
        assert settings == {"LEDGER": "nonebooks"}  # it is not attached yet
        salt.standin.answer(
            "POST", "/v1/apps/line/links", {}, {"kind": "ledger"}, {"Authorization": f"Bearer {salt.token}"}
        )
        given = salt.standin.state["apps"]["line"]["given"]["LEDGER_ADDRESS"]
        done = cj("deliver", "dev", "--restart")
        assert settings == {"LEDGER": f"{given}books"}
        assert "LEDGER_ADDRESS of web is supplied by salt: written into the jar" in done.err
        assert "made-up" not in done.out + done.err + cj.read("jar/coins/dev.coins")
        assert not (cj.folder / "jar/plain/dev.yaml").exists()
        assert cj("value", "dev", "LEDGER_ADDRESS").out.strip() == given
    jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {supplied: {by: [nope]}}, B: {supplied: {sample: x}}}\n"
    )
    message = cj("check", code=3).err
    assert "A is supplied by 'nope', which is not a destination" in message
    assert "supplied of B does not name a destination (by)" in message
