"""What docs/images.md shows: Coin Jar in an image, an application's image with it, and one without it and Python."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tomllib
from collections.abc import Callable
from pathlib import Path

import pytest
import yaml

from tests.conftest import Coinjar
from tests.consumers import need, podman_engine
from tests.jars import somebody

ROOT = Path(__file__).parent.parent
PAGE = (ROOT / "docs/images.md").read_text()
CONTAINERFILES = re.findall(r"```containerfile\n(.*?)```", PAGE, re.DOTALL)
JAR = (
    "services: {web: {}, worker: {}}\nstages: {dev: {}, prod: {}}\nvariables:\n  PORT: {kind: port, default: 8080}\n"
    "  TOKEN: {secret: true, services: [web]}\n  OTHER_TOKEN: {secret: true, services: [worker]}\n"
)
_PYTHON = "/usr/bin/python3"


def podman(*words: str, code: int = 0, text: str = "") -> str:
    base, env = podman_engine()
    done = subprocess.run([*base, *words], env=env, capture_output=True, text=True, check=False, input=text)
    assert done.returncode == code, f"{words}\n{done.stdout}\n{done.stderr}"
    return done.stdout + done.stderr


def build(tag: str, folder: Path, *more: str) -> str:
    """Build an image offline; return its name."""
    name = f"localhost/coinjar/{tag}:{os.getpid()}"
    podman("build", "-q", "--isolation", "chroot", "--network", "host", "--pull=never", "-t", name, *more, str(folder))
    return name


def run(image: str, *words: str, options: tuple[str, ...] = (), code: int = 0) -> str:
    return podman("run", "--rm", "--network", "host", *options, image, *words, code=code)


def libraries(*programs: str | Path) -> set[str]:
    """The shared libraries that programs need, and their loader."""
    found = subprocess.run(["ldd", *programs], capture_output=True, text=True, check=False).stdout
    return set(re.findall(r"(?:=> |^\t)(/\S+)", found, re.MULTILINE))


@pytest.fixture(scope="module")
def python_base(tmp_path_factory: pytest.TempPathFactory) -> str:
    """An image with this machine's Python, its venv, and a shell."""
    root = tmp_path_factory.mktemp("python")
    need("busybox")
    where = "import sys, sysconfig; print(sysconfig.get_path('stdlib'), '%d.%d' % sys.version_info[:2])"
    stdlib, version = subprocess.check_output([_PYTHON, "-c", where], text=True).split()
    for folder in (stdlib, "/usr/share/python-wheels"):
        shutil.copytree(folder, root / folder[1:], ignore=shutil.ignore_patterns("__pycache__", "test"), symlinks=True)
    binary = f"/usr/bin/python{version}"
    extensions = Path(stdlib, "lib-dynload").glob("*.so")
    # beside those of Python, what wheels with compiled parts may need
    wanted = libraries(binary, *extensions, need("dash"))
    for name in ("libgcc_s", "libpthread", "libdl", "librt", "libutil", "libstdc++"):
        wanted |= {str(path) for path in Path("/lib").glob(f"*-linux-gnu/{name}.so.*")}
        wanted |= {str(path) for path in Path("/usr/lib").glob(f"*-linux-gnu/{name}.so.*")}
    for path in [binary, need("dash"), need("busybox"), *sorted(wanted)]:
        (root / path[1:]).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(path, root / path[1:])
    for link, target in (("usr/bin/python3", f"python{version}"), ("bin/sh", "/usr/bin/dash")):
        (root / link).parent.mkdir(parents=True, exist_ok=True)
        (root / link).unlink(missing_ok=True)
        (root / link).symlink_to(target)
    (root / "tmp").mkdir(mode=0o1777)
    shutil.copy(need("busybox"), root / "bin/env")
    (root / "Containerfile").write_text("FROM scratch\nCOPY . /\nENV PATH=/usr/bin:/bin\n")
    return build("python", root)


@pytest.fixture(scope="module")
def coinjar_image(python_base: str, tmp_path_factory: pytest.TempPathFactory) -> str:
    """The repository's Containerfile; the packages come from a folder, as on a machine without a network."""
    context = tmp_path_factory.mktemp("source")
    for name in ("pyproject.toml", "README.md", "LICENSE", "Containerfile", ".containerignore"):
        shutil.copy(ROOT / name, context)
    for name in ("docs", "src"):
        shutil.copytree(ROOT / name, context / name, ignore=shutil.ignore_patterns("__pycache__"))
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    wanted = ["hatchling", *project["dependencies"], *project["optional-dependencies"]["deliver"]]
    version = subprocess.check_output([_PYTHON, "-c", "import sys; print('%d.%d' % sys.version_info[:2])"], text=True)
    wheels = tmp_path_factory.mktemp("wheels")
    options = ["--quiet", "--dest", str(wheels), "--only-binary=:all:", "--python-version", version.strip()]
    subprocess.run([sys.executable, "-m", "pip", "download", *options, *wanted], check=True, capture_output=True)
    offline = ("-v", f"{wheels}:/wheels:ro", "--env", "PIP_NO_INDEX=1", "--env", "PIP_FIND_LINKS=/wheels")
    return build("program", context, "--build-arg", f"BASE={python_base}", *offline)


def test_coin_jar_in_an_image(coinjar_image: str, jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR, dev="all: {PORT: 81}\n")
    assert "coinjar" in run(coinjar_image, "--version")
    mounted = ("-v", f"{cj.folder / 'jar'}:/work/jar:ro")
    assert "0 errors" in run(coinjar_image, "check", "--summary", options=mounted)
    assert "PORT=81" in run(coinjar_image, "render", "dev", "--service", "web", "--as", "literal", options=mounted)
    whoami = podman("run", "--rm", "--network", "host", "--entrypoint", "/usr/bin/python3", coinjar_image, "-c", _WHO)
    assert whoami.strip() == "65532"


_WHO = "import os; print(os.getuid())"


def test_an_application_that_starts_with_its_variables(coinjar_image: str, jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR, prod="all: {PORT: 8443}\n")
    cj("put", "TOKEN", "--stage", "prod", stdin="made-up-of-the-web")
    cj("put", "OTHER_TOKEN", "--stage", "prod", stdin="made-up-of-the-worker")
    for service in ("web", "worker"):
        _, recipient = somebody(cj, service)
        cj("readers", "add", recipient, "--label", service, "--stage", "prod", "--service", service, "--yes")
    cj.write({"Containerfile": CONTAINERFILES[0].replace("FROM coinjar", f"FROM {coinjar_image}")})
    cj.write({"start-web": 'echo "web listens on $PORT with $TOKEN"; test -z "$OTHER_TOKEN"\n'})
    image = build("web", cj.folder)
    digest = re.search(r"COINJAR_CONSENT=(\w+)", cj("consent", "--show").err)
    assert digest
    consented = ("-e", f"COINJAR_CONSENT={digest[1]}")
    for service in ("web", "worker"):
        podman("secret", "create", f"{service}-identity", str(cj.folder / f"{service}.identity"))

    def identity(service: str) -> tuple[str, ...]:
        name = f"{service}-identity"
        return ("--secret", f"{name},uid=65532,mode=0400", "-e", f"COINJAR_IDENTITY_FILE=/run/secrets/{name}")

    assert run(image, options=(*identity("web"), *consented)) == "web listens on 8443 with made-up-of-the-web\n"
    for options in ((), consented, identity("web"), (*identity("worker"), *consented)):
        refused = run(image, options=options, code=4)
        assert "made-up" not in refused
        assert "listens" not in refused


def test_an_image_without_coin_jar_and_python(tmp_path: Path, jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR.replace("  TOKEN: {secret: true, services: [web]}\n", ""), prod="all: {PORT: 8443}\n")
    (tmp_path / "base/bin").mkdir(parents=True)
    for name in ("sh", "env"):
        shutil.copy(need("busybox"), tmp_path / "base/bin" / name)
    (tmp_path / "base/Containerfile").write_text("FROM scratch\nCOPY bin /bin\nENV PATH=/bin\n")
    base = build("shell", tmp_path / "base")
    cj.write({"start": cj("render", "prod", "--service", "web", "--as", "exec-script", "--keep-set").out})
    cj.write({"Containerfile": CONTAINERFILES[1].replace("FROM base", f"FROM {base}")})
    image = build("start", cj.folder)
    assert "PORT=8443\n" in run(image)
    assert "PORT=9000\n" in run(image, options=("-e", "PORT=9000"))


def test_the_manifest_of_the_page_is_one() -> None:
    documents = re.findall(r"```yaml\n(.*?)```", PAGE, re.DOTALL)
    pod = yaml.safe_load(documents[0])
    names = {volume["name"] for volume in pod["spec"]["volumes"]}
    assert {mount["name"] for mount in pod["spec"]["containers"][0]["volumeMounts"]} == names
