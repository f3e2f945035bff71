"""One contract for every live destination, on real systems and on stand-ins, with faults and interruptions."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

import pytest
import yaml

from coinjar.standins.base import served
from tests.cask import Cask
from tests.conftest import PROGRAM, Coinjar
from tests.consumers import need, podman_engine
from tests.systems import Running, etcd, sshd, standin

JAR = """\
services: {web: {}}
stages: {dev: {}, prod: {guarded: true}}
variables:
  TITLE: {default: Sandling é}
  LEVEL: {default: info}
  LINK: {default: {text: "x://${LEVEL}/"}}
  TOKEN: {secret: true}
"""
SECRET = "made-up-canary-4711"
K8S = """\
apiVersion: apps/v1
kind: Deployment
metadata: {name: web}
spec:
  selector: {matchLabels: {app: web}}
  template:
    metadata: {labels: {app: web}}
    spec:
      containers: [{name: web, image: "localhost/web:1"}]
"""


class System:
    """A place to deliver to: how jar.yaml names it, what it has by its own tools, and somebody else's hand in it."""

    def __init__(self, declaration: str, own: Callable[[], dict[str, str]], outside: Callable[[str, str], None], blind: bool = False) -> None:
        self.declaration = declaration
        self.own = own
        self.outside = outside
        self.blind = blind
        self.running: Running | None = None
        self.env: dict[str, str] = {}


@contextmanager
def saltmarsh(cj: Coinjar, fault: str) -> Iterator[System]:
    with standin("saltmarsh", cj.folder / "s", "sandling-dev", fault=fault) as there:
        app = there.standin.state["apps"]["sandling-dev"]
        made = System(
            f"{{type: platform, platform: saltmarsh, address: '{there.standin.address}', app: 'sandling-{{stage}}', token: {{from_env: THERE}}}}",
            lambda: app["settings"],
            app["settings"].__setitem__,
        )
        made.running = there
        yield made


@contextmanager
def lanternfish(cj: Coinjar, fault: str) -> Iterator[System]:
    with standin("lanternfish", cj.folder / "s", "sandling", fault=fault) as there:
        variables = there.standin.state["projects"]["sandling"]["variables"]

        def outside(name: str, text: str) -> None:
            for one in variables.values():
                if one["key"] == name:
                    one.update(value=text, changed=one["changed"] + 1)

        made = System(
            f"{{type: platform, platform: lanternfish, address: '{there.standin.address}', project: sandling, token: {{from_env: THERE}}}}",
            lambda: {one["key"]: one["value"] for one in variables.values()},
            outside,
            blind=True,
        )
        made.running = there
        yield made


@contextmanager
def sluiceway(cj: Coinjar, fault: str) -> Iterator[System]:
    with standin("sluiceway", cj.folder / "s", "sandling", fault=fault) as there:
        values = there.standin.state["projects"]["sandling"]["values"]

        def outside(name: str, text: str) -> None:
            for one in values.values():
                if one["name"] == name:
                    one.update(value=text, version=one["version"] + 1)

        made = System(
            f"{{type: platform, platform: sluiceway, address: '{there.standin.address}', project: sandling, token: {{from_env: THERE}}}}",
            lambda: {one["name"]: one["value"] for one in values.values() if one["stage"] == "dev"},
            outside,
            blind=True,
        )
        made.running = there
        yield made


@contextmanager
def cask(cj: Coinjar, fault: str) -> Iterator[System]:
    """Described as docs/platforms.md teaches it."""
    page = (Path(__file__).parent.parent / "docs/platforms.md").read_text()
    found = re.search(r"## The description\n\n```yaml\n(.*?)```", page, re.DOTALL)
    assert found
    cj.write({"jar/platforms/cask.yaml": found[1]})
    (cj.folder / "s").mkdir()
    one = Cask(cj.folder / "s", fault)
    one.make("sandling-dev")
    space = one.state["spaces"]["sandling-dev"]

    def outside(name: str, text: str) -> None:
        space["env"][name] = text

    with served(one) as server:
        made = System(
            f"{{type: platform, platform: cask, address: '{one.address}', space: 'sandling-{{stage}}', token: {{from_env: THERE}}}}",
            lambda: space["env"],
            outside,
        )
        made.running = Running(one, server)
        yield made


@contextmanager
def hayloft(cj: Coinjar, fault: str) -> Iterator[System]:
    with standin("hayloft", cj.folder / "s", fault=fault) as there:
        config = there.standin.more()["kubeconfig"]
        cj.write({"k8s/web.yaml": K8S})

        def kubectl(*arguments: str) -> str:
            argv = [need("kubectl"), "--kubeconfig", config, "--cache-dir", str(cj.folder / "cache"), *arguments]
            return subprocess.run(argv, capture_output=True, text=True, check=True, env={"HOME": str(cj.folder)}).stdout

        def objects() -> list[tuple[str, Any]]:
            found = json.loads(kubectl("get", "deployment", "web", "-o", "json"))["spec"]["template"]["spec"]["containers"][0].get("envFrom", [])
            kinds = [("configmap", one["configMapRef"]["name"]) if "configMapRef" in one else ("secret", one["secretRef"]["name"]) for one in found]
            return [(kind, json.loads(kubectl("get", kind, name, "-o", "json"))) for kind, name in kinds]

        def own() -> dict[str, str]:
            from base64 import b64decode

            seen: dict[str, str] = {}
            for kind, one in objects():
                seen |= {name: b64decode(text).decode() if kind == "secret" else text for name, text in one["data"].items()}
            return seen

        def outside(name: str, text: str) -> None:
            for kind, one in objects():
                if name in one["data"]:
                    kubectl("patch", kind, one["metadata"]["name"], "-p", json.dumps({"data": {name: text}}))

        made = System(
            f"{{type: cluster, manifests: workloads, kubeconfig: '{config}'}}\n  workloads: {{type: manifests, from: k8s, to: 'out/{{stage}}'}}", own, outside
        )
        made.running = there
        yield made


@contextmanager
def host(cj: Coinjar, fault: str) -> Iterator[System]:
    del fault
    with sshd(cj.folder / "sshd") as port:
        path = cj.folder / "there" / "web.dev.env"

        def own() -> dict[str, str]:
            assert path.stat().st_mode & 0o777 == 0o600
            done = subprocess.run(["/bin/sh", "-ec", f". {path}; env -0"], capture_output=True, check=True, env={})
            pairs = [one.partition("=") for one in done.stdout.decode().split("\0") if "=" in one]
            return {name: text for name, _, text in pairs if name not in ("PWD", "OLDPWD", "SHLVL", "_")}

        def outside(name: str, text: str) -> None:
            path.write_text(re.sub(rf"(?m)^(export )?{name}=.*$", f"export {name}='{text}'", path.read_text()))

        keys = f"known_hosts: '{cj.folder}/sshd/known_hosts', identity_file: '{cj.folder}/sshd/user_key'"
        reload = f"reload: [touch, '{cj.folder}/reloaded']"
        user = subprocess.run(["id", "-un"], capture_output=True, text=True, check=True).stdout.strip()
        yield System(
            f"{{type: host, hosts: ['{user}@127.0.0.1:{port}'], path: '{cj.folder}/there/{{service}}.{{stage}}.env', as: posix, {keys}, {reload}}}",
            own,
            outside,
        )


@contextmanager
def container(cj: Coinjar, fault: str) -> Iterator[System]:
    """A container that sleeps, made with an env file."""
    del fault
    base, env = podman_engine()
    name = f"web-{os.getpid()}-{time.monotonic_ns()}"
    path = cj.folder / "web.env"
    path.write_text("OLD=1\n")

    def engine(*arguments: str) -> str:
        done = subprocess.run([*base, *arguments], env=env, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
        return done.stdout

    engine(
        "run",
        "--detach",
        "--network",
        "host",
        "--name",
        name,
        "--stop-signal",
        "KILL",
        "--env-file",
        str(path),
        "localhost/coinjar/base:1",
        "/bin/busybox",
        "sleep",
        "600",
    )

    def own() -> dict[str, str]:
        pid = engine("container", "inspect", "--format", "{{.State.Pid}}", name).strip()
        pairs = [one.partition("=") for one in Path(f"/proc/{pid}/environ").read_bytes().decode().split("\0") if "=" in one]
        return {key: text for key, _, text in pairs if key not in ("PATH", "HOME", "TERM", "HOSTNAME", "container")}

    def outside(key: str, text: str) -> None:
        path.write_text(re.sub(rf"(?m)^{key}=.*$", f"{key}={text}", path.read_text()))

    made = System(f"{{type: container, container: {name}, env_file: web.env, engine: [{', '.join(base)}]}}", own, outside)
    made.env = {"CONTAINERS_CONF": env["CONTAINERS_CONF"], "PATH": f"{Path(PROGRAM).parent}:{env['PATH']}"}
    try:
        yield made
    finally:
        subprocess.run([*base, "rm", "--force", "--time", "0", name], env=env, capture_output=True, check=False)


@contextmanager
def key_store(cj: Coinjar, fault: str) -> Iterator[System]:
    del fault
    with etcd(cj.folder / "etcd") as address:

        def ctl(*arguments: str) -> str:
            argv = [need("etcdctl"), "--endpoints", address, *arguments]
            return subprocess.run(argv, capture_output=True, text=True, check=True, env={"ETCDCTL_API": "3"}).stdout

        def own() -> dict[str, str]:
            from base64 import b64decode

            found = json.loads(ctl("get", "--prefix", "/sandling/dev/", "-w", "json")).get("kvs", [])
            return {b64decode(one["key"]).decode().rpartition("/")[2]: b64decode(one.get("value", "")).decode() for one in found}

        def outside(name: str, text: str) -> None:
            ctl("put", f"/sandling/dev/{name}", text)

        yield System(f"{{type: etcd, address: '{address}', prefix: '/sandling/{{stage}}/'}}", own, outside)


SYSTEMS = {
    "saltmarsh": saltmarsh,
    "lanternfish": lanternfish,
    "sluiceway": sluiceway,
    "cask": cask,
    "hayloft": hayloft,
    "host": host,
    "container": container,
    "etcd": key_store,
}
STANDINS = ("saltmarsh", "lanternfish", "sluiceway", "cask", "hayloft")


@contextmanager
def there(name: str, jar: Callable[..., Coinjar], cj: Coinjar, fault: str = "") -> Iterator[System]:
    """A jar with one destination, `there`, that is this system."""
    with ExitStack() as stack:
        system = stack.enter_context(SYSTEMS[name](cj, fault))
        jar(JAR + f"destinations:\n  there: {system.declaration}\n")
        cj.env |= {"THERE": system.running.token if system.running else "", "COLUMNS": "140"} | system.env
        cj("put", "TOKEN", "--stage", "dev", stdin=SECRET)
        yield system


def states(cj: Coinjar, code: int = 0) -> dict[str, str]:
    """How every variable stands."""
    told = json.loads(cj("drift", "dev", "--json", code=code).out)
    return {row["name"]: row["state"] for target in told["targets"] for row in target["variables"] if row["state"] != "supplied"}


def wanted(**changes: str) -> dict[str, str]:
    return {"TITLE": "Sandling é", "LEVEL": "info", "LINK": "x://info/", "TOKEN": SECRET} | changes


@pytest.mark.parametrize("name", SYSTEMS)
def test_the_contract(name: str, jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with there(name, jar, cj) as system:
        seen: list[str] = []

        def coinjar(*arguments: str, code: int = 0) -> str:
            done = cj(*arguments, code=code)
            seen.append(done.out + done.err)
            return done.out

        # a dry run changes nothing, and shows what would be sent
        planned = coinjar("deliver", "dev", "--dry-run", "--requests")
        assert all(name in planned for name in wanted())
        assert not set(system.own() if name not in ("hayloft", "host") else {}) & set(wanted())
        told = json.loads(coinjar("deliver", "dev", "--dry-run", "--json"))["targets"][0]
        assert (told["state"], {one["name"]: one["action"] for one in told["changes"] if one["name"] != "OLD"}) == ("planned", dict.fromkeys(wanted(), "new"))
        # the first delivery: all of it is there, in effect, and jar.yaml says whose it is
        coinjar("deliver", "dev", "--restart")
        assert system.own() == wanted()
        assert set(states(cj).values()) <= {"in step", "cannot be read back"}
        assert ("account:" in cj.read("jar/jar.yaml")) is (name != "host")  # whose key is in known_hosts
        # once more: nothing to do
        assert json.loads(coinjar("deliver", "dev", "--json"))["targets"][0]["changes"] == []
        # somebody else's hand is seen, and put right
        system.outside("LEVEL", "meddled")
        assert states(cj, 1)["LEVEL"] == "changed outside"
        coinjar("deliver", "dev", "--restart")
        assert system.own() == wanted()
        # the jar moves on; what depends on it, too; what is unset goes
        cj("put", "LEVEL=debug", "--stage", "dev")
        cj("put", "TITLE", "--unset", "--stage", "dev")
        assert states(cj, 1)["LEVEL"] == "not delivered"
        coinjar("deliver", "dev", "--restart")
        changed = wanted(LEVEL="debug", LINK="x://debug/")
        del changed["TITLE"]
        assert system.own() == changed
        # and comes back
        number = json.loads(cj("deliveries", "--json").out)[0]["number"]
        assert {one["name"]: one["action"] for one in json.loads(cj("deliveries", str(number), "--json").out)["targets"][0]["changes"]} == {
            "LEVEL": "changed",
            "LINK": "changed",
            "TITLE": "gone",
        }
        coinjar("deliveries", "undo", str(number), "--restart")
        assert system.own() == wanted()
        # of a secret nothing is shown, and a new one arrives
        cj("put", "TOKEN", "--stage", "dev", stdin=f"{SECRET}-new")
        coinjar("deliver", "dev", "--restart")
        assert system.own()["TOKEN"] == f"{SECRET}-new"
        assert SECRET not in "".join(seen)
        # another account stops it
        text = cj.read("jar/jar.yaml")
        if "account" in text:
            (account,) = yaml.safe_load(text)["destinations"]["there"]["account"].values()
            cj.write({"jar/jar.yaml": text.replace(account, "another place")})
            assert "and the jar was delivered to another place" in cj("deliver", "dev", code=3).err
            cj.write({"jar/jar.yaml": text})
        # it is a source
        cj("put", "LEVEL=info", "--stage", "dev")
        cj("drop", "TITLE", "--stage", "dev")
        coinjar("deliver", "dev", "--restart")
        rows = {one["name"]: one["verdict"] for one in json.loads(cj("compare", "dest:there@dev", "dev", "--json", code=1 if system.blind else 0).out)["rows"]}
        assert {name: rows[name] for name in wanted() if name != "TOKEN"} == dict.fromkeys(["TITLE", "LEVEL", "LINK"], "same")
        assert "and dev: " in cj("compare", f"delivery:{number}", "dev", code=1).out


@pytest.mark.parametrize("name", ["saltmarsh", "lanternfish", "host"])
def test_a_delivery_that_was_killed_is_finished_by_the_next(name: str, jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """kill -9 before and after every request, transaction, and write on a host: run again, all of it is there, and in effect."""
    with there(name, jar, cj) as system:
        cj("deliver", "dev", "--restart")
        argv = [sys.executable, "-m", "tests.killing"]
        env = cj.env | {"PYTHONPATH": str(Path(__file__).parent.parent), "PYTHONDONTWRITEBYTECODE": "1"}
        with subprocess.Popen(argv, cwd=cj.folder, env=env, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as process:
            assert process.stdin
            assert process.stdout
            number = 0
            for line in process.stdout:
                told = json.loads(line)
                number = told["number"]
                assert (told["again"], told["drift"]) == (0, 0), told
                assert system.own() == wanted(LEVEL=f"v{number}", LINK=f"x://v{number}/"), told
                process.stdin.write("\n")
                process.stdin.flush()
        assert told["code"] == 0  # the last one lived
        assert number > 10
        if name == "saltmarsh":  # whose restart is asked for, and may have been carried out
            notes = (cj("deliveries", str(one["number"])).out for one in json.loads(cj("deliveries", "--most", "200", "--json").out))
            assert any("asked for its restart and was interrupted: it may happen twice" in one for one in notes)
        listed = json.loads(cj("deliveries", "--most", "200", "--json").out)
        assert {one["state"] for one in listed} == {"done", "interrupted"}


@pytest.mark.parametrize(
    ("name", "fault"), [(name, fault) for name in STANDINS for fault in ("drop:2", "500:3", "half:2", "429:3")] + [("saltmarsh", "slow:2")]
)
def test_faults_lose_nothing(name: str, fault: str, jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Whatever goes wrong there, a few runs later all of it is there; a run that did not get through says so."""
    with there(name, jar, cj, fault) as system:
        for _ in range(4):
            done = cj("deliver", "dev", "--restart", code=None)
            assert (done.code == 5) is ("1 failed" in done.out), done
            assert SECRET not in done.out + done.err
            if done.code == 0:
                break
        assert done.code == 0, done
        if fault == "drop:2" and name in ("lanternfish", "sluiceway"):
            assert "an answer was lost" in "".join(cj("deliveries", str(one["number"])).out for one in json.loads(cj("deliveries", "--json").out))
        assert system.running
        if system.running.standin.fault:
            system.running.standin.fault = None
        assert set(states(cj).values()) <= {"in step", "cannot be read back"}
        assert {one: text for one, text in system.own().items() if one in wanted()} == wanted()
