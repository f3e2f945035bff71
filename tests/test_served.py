"""What is rendered, in the hands of the programs that it is for: nginx, shells, builds, containers, runc."""

from __future__ import annotations

import json
import os
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from urllib.request import Request, urlopen

from tests.conftest import Coinjar
from tests.consumers import need, podman_engine
from tests.jars import SECRET, TEMPLATES, made


def test_nginx_serves_what_is_rendered_on_two_stages(jar: Callable[..., Coinjar]) -> None:
    cj = made(jar, TEMPLATES)
    cj.write(
        {
            "jar/jar.yaml": cj.read("jar/jar.yaml")
            + (
                f"  start: {{type: file, as: exec-script, services: [web], stages: [prod], path: start, fills: "
                f"{{conf: '{cj.folder}/out/prod'}}}}\n"
            )
        }
    )
    shutil.copy(Path(__file__).parent.parent / "src/coinjar/demo/app/web/nginx.conf.fill", cj.folder / "site")
    text = (
        (cj.folder / "site")
        .read_text()
        .replace("${LISTEN_PORT}", "${PORT}")
        .replace("${APP_TITLE}", "${LEVEL}")
        .replace("${PUBLIC_URL}", "$request_method")
    )
    cj.write({"in/nginx.conf.fill": text})
    nginx = need("/usr/sbin/nginx")
    for stage, title in (("dev", "info"), ("prod", "error")):
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        cj("put", f"PORT={port}", "--stage", stage)
        cj("render", stage)
        folder = cj.folder / "out" / stage
        start: list[str | Path] = [nginx, "-p", folder, "-e", "error.log", "-c", "nginx.conf", "-g", "daemon off;"]
        if stage == "prod":  # there its start script fills the template, and becomes the server
            (folder / "nginx.conf").unlink()
            start = ["sh", cj.folder / "start", *start]
        server = subprocess.Popen(start, stderr=subprocess.DEVNULL)
        try:
            assert answer(port, server)["settings"] == {
                "APP_TITLE": title,
                "PUBLIC_URL": "GET",
                "asked": "ferry.example/x",
            }
        finally:
            server.send_signal(signal.SIGTERM)
            server.wait(10)


def answer(port: int, server: subprocess.Popen[bytes]) -> dict[str, object]:
    while True:
        try:
            with urlopen(
                Request(f"http://127.0.0.1:{port}/x", headers={"Host": "ferry.example"}), timeout=5
            ) as response:
                data: dict[str, object] = json.load(response)
                return data
        except OSError:
            assert server.poll() is None
            time.sleep(0.05)


def test_a_script_fills_templates_where_it_starts(jar: Callable[..., Coinjar], tmp_path: Path) -> None:
    cj = made(
        jar,
        TEMPLATES
        + (
            "  start: {type: file, as: exec-script, services: [web], stages: [prod], path: start, fills: {conf: "
            '"filled/here"}}\n'
        ),
        prod="all: {TOKEN: \"it's $5\\n\", LEVEL: '-%s'}\n",
    )
    cj.write({"in/a b.fill": "${LEVEL}'${TOKEN}$host\n\n", "in/sub/x.fill": "${PORT}\n"})
    cj("render", "prod")
    for shell in (["dash"], ["bash"], ["busybox", "sh"]):
        folder = tmp_path / shell[0]
        folder.mkdir()
        done = subprocess.run(
            [*shell, cj.folder / "start", "/bin/cat", "filled/here/a b"], cwd=folder, capture_output=True, check=True
        )
        assert done.stdout == b"-%s'it's $5\n$host\n\n" == (cj.folder / "out/prod/a b").read_bytes()
        assert (folder / "filled/here/a b").stat().st_mode & 0o777 == 0o600
        assert (folder / "filled/here/sub/x").read_text() == "8080\n"
        assert sorted(path.name for path in folder.rglob("*") if path.is_file()) == ["a b", "x"]
    base, env = podman_engine()  # and in a container that has neither Coin Jar nor Python
    shared = tmp_path / "shared"
    shared.mkdir()
    shutil.copy(cj.folder / "start", shared / "start")
    run = [*base, "run", "--rm", "--network", "host", "-v", f"{shared}:/w", "-w", "/w", "localhost/coinjar/base:1"]
    done = subprocess.run(
        [*run, "/bin/busybox", "sh", "start", "/bin/busybox", "cat", "filled/here/a b"],
        env=env,
        capture_output=True,
        check=False,
    )
    assert done.stdout == b"-%s'it's $5\n$host\n\n", done.stderr


CONTAINERFILE = """\
# by hand
# coinjar: begin
# coinjar: end
FROM localhost/coinjar/${BASE}
# coinjar: begin web
old lines
# coinjar: end
RUN ["/bin/busybox", "sh", "-c", "echo $BASE $RELEASE > /built"]
"""


def test_a_containerfile_builds_with_what_is_rendered(jar: Callable[..., Coinjar]) -> None:
    more = "variables:\n  BASE: {phase: build, default: 'base:1'}\n  RELEASE: {phase: both, default: \"1.10 'x' $Y\"}\n"
    cj = made(
        jar, "  image: {type: containerfile, services: [web], stages: [prod], path: Containerfile, plain_only: true}\n"
    )
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("variables:\n", more, 1), "Containerfile": CONTAINERFILE})
    cj("put", 'LEVEL=a "b" \\ $HOME #c', "--stage", "prod", "--service", "web")
    cj("put", "TOKEN_LINE=x", "--stage", "prod")
    cj("render", "prod")
    text = cj.read("Containerfile")
    assert text.startswith(
        '# by hand\n# coinjar: begin\nARG BASE="base:1"\n# coinjar: end\nFROM localhost/coinjar/${BASE}\n'
        "# coinjar: begin web\nARG BASE\nARG RELEASE=\"1.10 'x' \\$Y\"\nENV RELEASE=${RELEASE}\n"
    )
    assert text.endswith(CONTAINERFILE.split("old lines\n")[1])
    base, env = podman_engine()
    tag = f"localhost/coinjar/demo:{os.getpid()}"
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
        tag,
        str(cj.folder),
    ]
    run = [
        *base,
        "run",
        "--rm",
        "--network",
        "host",
        tag,
        "/bin/busybox",
        "sh",
        "-c",
        "cat /proc/self/environ; cat /built",
    ]
    for argv in (build, run):
        done = subprocess.run(argv, env=env, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
    environment = dict(word.split("=", 1) for word in done.stdout.split("\0") if "=" in word)
    wanted = cj("render", "prod", "--as", "json", "-s", "web", "--show-secrets").out
    expected = {name: value for name, value in json.loads(wanted).items() if name not in ("TOKEN",)}
    assert {name: environment[name] for name in expected} == expected
    assert done.stdout.endswith("base:1 1.10 'x' $Y\n")
    for wrong, message in {
        "FROM x\n": "Containerfile: it has no marked place for the lines",
        CONTAINERFILE.split("\n", 3)[3]: "Containerfile:1:1: this FROM needs BASE, which is not declared above",
    }.items():
        cj.write({"Containerfile": wrong})
        assert message in cj("render", "prod", code=3).err
    cj.write(
        {"Containerfile": CONTAINERFILE, "jar/jar.yaml": cj.read("jar/jar.yaml").replace(", plain_only: true", "")}
    )
    assert "TOKEN is a secret, but everybody with the image could read it" in cj("render", "prod", code=3).err


def test_runc_runs_the_bundle_with_what_is_rendered(jar: Callable[..., Coinjar]) -> None:
    cj = made(
        jar,
        "  bundle: {type: oci-bundle, services: [web], stages: [prod], path: bundle/config.json}\n",
        prod=f'all: {{TOKEN: "a\\n\\"{SECRET}\\"", LEVEL: ""}}\n',
    )
    bundle = cj.folder / "bundle"
    (bundle / "rootfs/bin").mkdir(parents=True)
    (bundle / "rootfs/proc").mkdir()
    shutil.copy(need("busybox"), bundle / "rootfs/bin/busybox")
    subprocess.run([need("runc"), "spec"], cwd=bundle, check=True)
    config = json.loads((bundle / "config.json").read_text())
    config["process"] |= {
        "terminal": False,
        "args": ["/bin/busybox", "cat", "/proc/self/environ"],
        "env": ["PATH=/bin", "PORT=1", "MINE=kept", "MAIL__HOST=stale"],
    }
    (bundle / "config.json").write_text(json.dumps(config, indent="\t"))
    cj("render", "prod")
    assert (bundle / "config.json").stat().st_mode & 0o777 == 0o600
    out = subprocess.run(
        [need("runc"), "run", "--bundle", str(bundle), f"coinjar-{os.getpid()}"], capture_output=True, check=True
    ).stdout
    environment = dict(word.split("=", 1) for word in out.decode().split("\0") if word)
    wanted = json.loads(cj("render", "prod", "--as", "json", "-s", "web").out)
    assert {name: text for name, text in environment.items() if name != "HOME"} == {
        "PATH": "/bin",
        "MINE": "kept",
        **wanted,
    }
    assert cj("compare", "bundle:bundle", "dest:bundle@prod").out.startswith(
        "bundle:bundle and dest:bundle@prod: 8 the same"
    )
