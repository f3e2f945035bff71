"""Places to deliver to, real ones and stand-ins: how jar.yaml names each, what it has by its own tools, and somebody
else's hand in it.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

from coinjar.standins.base import served
from tests.conftest import PROGRAM, Coinjar
from tests.consumers import need, podman_engine
from tests.described import description
from tests.millrace import Millrace
from tests.reedbank import Marl, Reedbank
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

    def __init__(
        self,
        declaration: str,
        own: Callable[[], dict[str, str]],
        outside: Callable[[str, str], None],
        blind: bool = False,
    ) -> None:
        self.declaration = declaration
        self.own = own
        self.outside = outside
        self.blind = blind
        self.running: Running | None = None
        self.env: dict[str, str] = {}


def described(
    running: Running,
    own: Callable[[], dict[str, str]],
    outside: Callable[[str, str], None],
    where: str,
    *,
    blind: bool = False,
) -> System:
    """A platform that is delivered to by a description of its stand-in's name."""
    address, name = running.standin.address, running.standin.name
    system = System(
        f"{{type: platform, platform: {name}, address: '{address}', {where}, token: {{from_env: THERE}}}}",
        own,
        outside,
        blind=blind,
    )
    system.running = running
    return system


@contextmanager
def saltmarsh(cj: Coinjar, fault: str) -> Iterator[System]:
    with standin("saltmarsh", cj.folder / "s", "sandling-dev", fault=fault) as running:
        settings = running.standin.state["apps"]["sandling-dev"]["settings"]
        yield described(running, lambda: settings, settings.__setitem__, "app: 'sandling-{stage}'")


@contextmanager
def lanternfish(cj: Coinjar, fault: str) -> Iterator[System]:
    with standin("lanternfish", cj.folder / "s", "sandling", fault=fault) as running:
        variables = running.standin.state["projects"]["sandling"]["variables"]

        def outside(name: str, text: str) -> None:
            for variable in variables.values():
                if variable["name"] == name:
                    variable.update(text=text, count=variable["count"] + 1)

        yield described(
            running,
            lambda: {variable["name"]: variable["text"] for variable in variables.values()},
            outside,
            "project: sandling",
            blind=True,
        )


@contextmanager
def sluiceway(cj: Coinjar, fault: str) -> Iterator[System]:
    with standin("sluiceway", cj.folder / "s", "sandling", fault=fault) as running:
        values = running.standin.state["projects"]["sandling"]["values"]

        def own() -> dict[str, str]:
            return {value["name"]: value["value"] for value in values.values() if value["stage"] == "dev"}

        def outside(name: str, text: str) -> None:
            for value in values.values():
                if value["name"] == name:
                    value.update(value=text, version=value["version"] + 1)

        yield described(running, own, outside, "project: sandling", blind=True)


@contextmanager
def millrace(cj: Coinjar, fault: str) -> Iterator[System]:
    """Described as docs/platforms.md teaches it."""
    described_in_the_docs(cj, "millrace")
    (cj.folder / "s").mkdir(exist_ok=True)
    millrace = Millrace(cj.folder / "s", fault)
    millrace.make("sandling-dev")
    space = millrace.state["spaces"]["sandling-dev"]

    def outside(name: str, text: str) -> None:
        space["env"][name] = text

    with served(millrace) as server:
        yield described(Running(millrace, server), lambda: space["env"], outside, "space: 'sandling-{stage}'")


def described_in_the_docs(cj: Coinjar, name: str) -> None:
    """Write the description that docs/platforms.md shows."""
    cj.write({f"jar/platforms/{name}.yaml": description(name)})


@contextmanager
def reedbank(cj: Coinjar, fault: str) -> Iterator[System]:
    described_in_the_docs(cj, "reedbank")
    reedbank = Reedbank(cj.folder / "s", fault)
    reedbank.make("sandling-dev")
    bank = reedbank.state["banks"]["sandling-dev"]

    def own() -> dict[str, str]:
        return {
            key.removeprefix("env.").replace(".", "_").upper(): item["content"] for key, item in bank["params"].items()
        }

    def outside(name: str, text: str) -> None:
        bank["etag"] += 1
        key = "env." + name.lower().replace("_", ".")
        rev = bank["params"].get(key, {"rev": 0})["rev"] + 1
        bank["params"][key] = {"kind": "open", "content": text, "rev": rev}

    with served(reedbank) as server:
        settings = "bank: 'sandling-{stage}', client: ferries"
        yield described(Running(reedbank, server), own, outside, settings, blind=True)


@contextmanager
def marl(cj: Coinjar, fault: str) -> Iterator[System]:
    described_in_the_docs(cj, "marl")
    marl = Marl(cj.folder / "s", fault)
    marl.make("sandling-dev")
    shelf = marl.state["shelves"]["sandling-dev"]

    def outside(name: str, text: str) -> None:
        shelf["cells"][name] = text

    with served(marl) as server:
        yield described(Running(marl, server), lambda: dict(shelf["cells"]), outside, "shelf: 'sandling-{stage}'")


@contextmanager
def hayloft(cj: Coinjar, fault: str) -> Iterator[System]:
    with standin("hayloft", cj.folder / "s", fault=fault) as running:
        config = running.standin.more()["kubeconfig"]
        cj.write({"k8s/web.yaml": K8S})

        def kubectl(*arguments: str) -> str:
            argv = [need("kubectl"), "--kubeconfig", config, "--cache-dir", str(cj.folder / "cache"), *arguments]
            return subprocess.run(argv, capture_output=True, text=True, check=True, env={"HOME": str(cj.folder)}).stdout

        def objects() -> list[tuple[str, Any]]:
            data = json.loads(kubectl("get", "deployment", "web", "-o", "json"))["spec"]["template"]["spec"][
                "containers"
            ][0].get("envFrom", [])
            kinds = [
                ("configmap", item["configMapRef"]["name"])
                if "configMapRef" in item
                else ("secret", item["secretRef"]["name"])
                for item in data
            ]
            return [(kind, json.loads(kubectl("get", kind, name, "-o", "json"))) for kind, name in kinds]

        def own() -> dict[str, str]:
            from base64 import b64decode

            environment: dict[str, str] = {}
            for kind, item in objects():
                environment |= {
                    name: b64decode(text).decode() if kind == "secret" else text for name, text in item["data"].items()
                }
            return environment

        def outside(name: str, text: str) -> None:
            for kind, item in objects():
                if name in item["data"]:
                    kubectl("patch", kind, item["metadata"]["name"], "-p", json.dumps({"data": {name: text}}))

        system = System(
            (
                f"{{type: cluster, manifests: workloads, kubeconfig: '{config}'}}\n"
                f"  workloads: {{type: manifests, from: k8s, to: 'out/{{stage}}'}}"
            ),
            own,
            outside,
        )
        system.running = running
        yield system


@contextmanager
def host(cj: Coinjar, fault: str) -> Iterator[System]:
    del fault
    with sshd(cj.folder / "sshd") as port:
        path = cj.folder / "there" / "web.dev.env"

        def own() -> dict[str, str]:
            assert path.stat().st_mode & 0o777 == 0o600
            done = subprocess.run(["/bin/sh", "-ec", f". {path}; env -0"], capture_output=True, check=True, env={})
            pairs = [word.partition("=") for word in done.stdout.decode().split("\0") if "=" in word]
            return {name: text for name, _, text in pairs if name not in ("PWD", "OLDPWD", "SHLVL", "_")}

        def outside(name: str, text: str) -> None:
            path.write_text(re.sub(rf"(?m)^(export )?{name}=.*$", f"export {name}='{text}'", path.read_text()))

        keys = f"known_hosts: '{cj.folder}/sshd/known_hosts', identity_file: '{cj.folder}/sshd/user_key'"
        reload = f"reload: [touch, '{cj.folder}/reloaded']"
        user = subprocess.run(["id", "-un"], capture_output=True, text=True, check=True).stdout.strip()
        yield System(
            (
                f"{{type: host, hosts: ['{user}@127.0.0.1:{port}'], path: "
                f"'{cj.folder}/there/{{service}}.{{stage}}.env', as: posix, {keys}, {reload}}}"
            ),
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
        pairs = [
            word.partition("=")
            for word in Path(f"/proc/{pid}/environ").read_bytes().decode().split("\0")
            if "=" in word
        ]
        return {key: text for key, _, text in pairs if key not in ("PATH", "HOME", "TERM", "HOSTNAME", "container")}

    def outside(key: str, text: str) -> None:
        path.write_text(re.sub(rf"(?m)^{key}=.*$", f"{key}={text}", path.read_text()))

    system = System(
        f"{{type: container, container: {name}, env_file: web.env, engine: [{', '.join(base)}]}}", own, outside
    )
    system.env = {"CONTAINERS_CONF": env["CONTAINERS_CONF"], "PATH": f"{Path(PROGRAM).parent}:{env['PATH']}"}
    try:
        yield system
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

            data = json.loads(ctl("get", "--prefix", "/sandling/dev/", "-w", "json")).get("kvs", [])
            return {
                b64decode(item["key"]).decode().rpartition("/")[2]: b64decode(item.get("value", "")).decode()
                for item in data
            }

        def outside(name: str, text: str) -> None:
            ctl("put", f"/sandling/dev/{name}", text)

        yield System(f"{{type: etcd, address: '{address}', prefix: '/sandling/{{stage}}/'}}", own, outside)


SYSTEMS = {
    "saltmarsh": saltmarsh,
    "lanternfish": lanternfish,
    "sluiceway": sluiceway,
    "millrace": millrace,
    "reedbank": reedbank,
    "marl": marl,
    "hayloft": hayloft,
    "host": host,
    "container": container,
    "etcd": key_store,
}
STANDINS = ("saltmarsh", "lanternfish", "sluiceway", "millrace", "reedbank", "marl", "hayloft")


@contextmanager
def there(name: str, jar: Callable[..., Coinjar], cj: Coinjar, fault: str = "") -> Iterator[System]:
    """A jar with one destination, `there`, that is this system."""
    with ExitStack() as stack:
        system = stack.enter_context(SYSTEMS[name](cj, fault))
        jar(JAR + f"destinations:\n  there: {system.declaration}\n")
        cj.env |= {"THERE": system.running.token if system.running else "", "COLUMNS": "140"} | system.env
        cj("put", "TOKEN", "--stage", "dev", stdin=SECRET)
        yield system
