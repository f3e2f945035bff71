"""Variables that reach their end through several files: from the jar to a build argument and a base image."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable

from tests.conftest import Coinjar
from tests.consumers import podman_engine

CHAIN = """\
services: {web: {}}
stages: {dev: {}}
variables:
  BASE_IMAGE: {phase: build, default: "localhost/coinjar/base:1"}
  PORT: {kind: port, default: 8080}
destinations:
  project: {type: file, as: compose, path: .env, variables: [BASE_IMAGE]}
  compose: {type: document, path: compose.yaml, places: {/services/web/environment: {services: [web], stage: dev}}}
"""


def test_the_chain_to_a_base_image(jar: Callable[..., Coinjar]) -> None:
    """From the jar to the project's file, the build argument and FROM: the hop that is missing is named with what to
    write, one after the other; then the end of the chain builds.
    """
    cj = jar(CHAIN)
    compose = "services:\n  web:\n    build: {context: app}\n    environment: {}\n"
    cj.write({"compose.yaml": compose, "app/Containerfile": "FROM ${BASE}\nENV READY=1\n"})

    def steps() -> str:
        cj("render", "dev")
        return cj("check", code=None).out

    assert "BASE_IMAGE is for web's build, but neither the Compose file passes it" in steps()
    compose = compose.replace("context: app", 'context: app, args: {BASE: "${BASE_IMAGE}"}')
    cj.write({"compose.yaml": compose})
    found = steps()
    assert "the Compose file uses BASE_IMAGE, which .env does not set" in found
    assert "add phases: [build, run] to project, which writes .env" in found
    assert "BASE_IMAGE is passed to web's build as BASE, but app/Containerfile does not declare it" in found
    cj.write({"app/Containerfile": "FROM ${BASE}\nARG BASE\nENV READY=1\n"})
    assert "this FROM uses BASE, which no ARG before the first FROM declares" in steps()
    cj.write({"app/Containerfile": "ARG BASE\nFROM ${BASE}\nENV READY=1\n"})
    cj.write({"jar/jar.yaml": CHAIN.replace("variables: [BASE", "phases: [build, run], variables: [BASE")})
    cj.write({"jar/jar.yaml": "coinjar: 1\napp: trial\n" + cj.read("jar/jar.yaml")})
    assert "BASE" not in steps()
    assert "BASE_IMAGE" in cj.read(".env")
    assert "PORT" in cj.read("compose.yaml")
    value = dict(line.split("=", 1) for line in cj.read(".env").splitlines() if "=" in line)["BASE_IMAGE"].strip("'\"")
    base, env = podman_engine()
    tag = f"localhost/coinjar/chain:{os.getpid()}"
    build = [*base, "build", "-q", "--isolation", "chroot", "--network", "host", "--pull=never", "-t", tag]
    subprocess.run([*build, "--build-arg", f"BASE={value}", str(cj.folder / "app")], env=env, check=True)
    shown = subprocess.run([*base, "inspect", tag], env=env, capture_output=True, text=True, check=True).stdout
    assert "READY=1" in shown
