"""Sources of every kind: what adopt and compare read from them, and what they say about it."""

from __future__ import annotations

import json
import os
import re
import subprocess
import tempfile
from collections.abc import Callable
from pathlib import Path

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from coinjar.core.errors import CoinJarError
from coinjar.dialects import BUILT_IN, get
from coinjar.sources import read_source
from tests.conftest import SMALL, Coinjar
from tests.consumers import podman_engine

COMPOSE = """\
x-common: &common {LEVEL: warn, TZ: UTC}
services:
  web:
    image: shop:${TAG:-1}
    env_file: [base.env, {path: more.env, required: false}]
    environment:
      <<: *common
      PORT: 8081
      HOST: "${NAME}.example"
      PRICE: "5$$"
      FLAG: yes
      CALLER:
      LOST: ${NO_SUCH}
  mailer:
    build: .
    env_file: base.env
    environment: [LEVEL=debug, FROM_CALLER, "EMPTY="]
"""


def seen(cj: Coinjar, source: str, *more: str) -> dict[str, dict[str, str | None]]:
    """What a source gives: by service (`-` where it tells none apart), name to value."""
    cj.write({"nothing.json": "{}"})
    rows = json.loads(
        cj("compare", source, "file:nothing.json", "--json", "--every-name", "--show-secrets", *more, code=None).out
    )["rows"]
    result: dict[str, dict[str, str | None]] = {}
    for row in rows:
        result.setdefault(row["service"] or "-", {})[row["name"]] = row["left"]["value"]
    return result


def test_compose_files_are_worked_out_as_specified(cj: Coinjar) -> None:
    cj.write(
        {
            "compose.yaml": COMPOSE,
            ".env": "NAME=pier\n",
            "base.env": "LEVEL=from-file\nFILE_ONLY='a $b'\nBOTH=\"x-$FILE_ONLY\"\n",
        }
    )
    shared = {"FILE_ONLY": "a $b", "BOTH": "x-a $b"}
    web = {"LEVEL": "warn", "TZ": "UTC", "PORT": "8081", "HOST": "pier.example", "PRICE": "5$", "FLAG": "true"}
    result = {
        service: {name: text for name, text in texts.items() if text is not None}
        for service, texts in seen(cj, "compose:compose.yaml").items()
    }
    assert result == {"-": shared, "web": web, "mailer": {"LEVEL": "debug", "EMPTY": ""}}
    message = cj("compare", "compose:compose.yaml", "file:nothing.json", code=1).err
    for line in (
        "compose.yaml:11:7: FLAG is a boolean to readers of YAML 1.1 there, and is read as 'true': quote it",
        "compose.yaml:12:7: ignored: CALLER has no value: the container gets it from its caller",
        "compose.yaml:13:7: ignored: LOST needs NO_SUCH, which the .env file beside it does not set",
        "compose.yaml:17:32: ignored: FROM_CALLER has no value",
    ):
        assert line in message
    for same in ("file:compose.yaml", "compose.yaml", "./compose.yaml"):  # told by content
        assert {
            service: {name: text for name, text in texts.items() if text is not None}
            for service, texts in seen(cj, same).items()
        } == result


def test_adopting_several_services_shares_what_they_agree_on(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL.replace("services: {web: {}, mailer: {}}", "services: {web: {}, mailer: {}, other: {}}"))
    cj.write(
        {
            "compose.yaml": (
                "services:\n  web: {environment: {NEW: same, LEVEL: info, OWN: a, MINE: x}}\n"
                "  mailer: {environment: {NEW: same, LEVEL: debug, OWN: b}}\n"
                "  stranger: {environment: {NEW: z}}\n"
            )
        }
    )
    result = cj("adopt", "compose:compose.yaml", "--stage", "dev", "--yes")
    declared = yaml.safe_load(cj.read("jar/jar.yaml"))["variables"]
    assert declared["NEW"] == {"services": ["mailer", "web"]}
    assert declared["MINE"] == {"services": ["web"]}
    assert yaml.safe_load(cj.read("jar/plain/dev.yaml")) == {
        "all": {"NEW": "same", "MINE": "x"},  # each declared for those that have it
        "web": {"OWN": "a"},
        "mailer": {"LEVEL": "debug", "OWN": "b"},
    }
    assert "left out: NEW: the jar has no service 'stranger'" in result.err
    assert cj("adopt", "compose:compose.yaml", "--stage", "dev", "--service", "other", code=2).err.startswith(
        "coinjar: compose:compose.yaml has no variables for other"
    )
    assert "Nothing to adopt" in cj("adopt", "compose:compose.yaml", "--stage", "dev").err


def test_images_of_podman_and_layouts(cj: Coinjar, tmp_path_factory: pytest.TempPathFactory) -> None:
    base, env = podman_engine()
    context = tmp_path_factory.mktemp("image")
    (context / "Containerfile").write_text('FROM localhost/coinjar/base:1\nENV GREETING="a b=c" EMPTY=""\n')
    tag = "localhost/coinjar/seen:1"
    for argv in (
        ["build", "-q", "--isolation", "chroot", "--network", "host", "--pull=never", "-t", tag, str(context)],
        ["push", "-q", tag, f"oci:{context}/layout"],
    ):
        done = subprocess.run([*base, *argv], env=env, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
    wanted = {"-": {"PATH": "/bin", "GREETING": "a b=c", "EMPTY": ""}}
    assert seen(cj, f"image:{context}/layout") == wanted
    wrapper = cj.folder / "bin/podman"
    cj.write({"bin/podman": f'#!/bin/sh\nCONTAINERS_CONF={env["CONTAINERS_CONF"]} exec {" ".join(base)} "$@"\n'})
    wrapper.chmod(0o755)
    cj.env["PATH"] = f"{wrapper.parent}:{cj.env['PATH']}"
    assert seen(cj, f"image:{tag}") == wanted
    assert "podman cannot inspect it" in cj("compare", "image:localhost/none:1", "file:nothing.json", code=5).err
    assert "'--all' is not an image" in cj("compare", "image:--all", "file:nothing.json", code=2).err
    rows = json.loads(cj("compare", f"image:{tag}", "file:nothing.json", "--json", code=1).out)["rows"]
    assert {row["name"] for row in rows} == {"GREETING", "EMPTY"}  # PATH is every image's
    name = f"seen-{os.getpid()}"
    argv = [
        "run",
        "--detach",
        "--network",
        "host",
        "--name",
        name,
        "--stop-signal",
        "KILL",
        "--env",
        "SHINY=new",
        tag,
        "/bin/busybox",
        "sleep",
        "600",
    ]
    assert subprocess.run([*base, *argv], env=env, capture_output=True, check=False).returncode == 0
    try:  # a running container: what its image sets by itself is left out
        running = cj("compare", f"container:{name}", "file:nothing.json", "--json", code=1)
        assert [row["name"] for row in json.loads(running.out)["rows"]] == ["SHINY"]
        message = next(line for line in running.err.splitlines() if "set by the image" in line)
        assert {"GREETING", "EMPTY"} <= set(re.findall("[A-Z]+", message))
        cj.write(
            {
                "jar/jar.yaml": (
                    "coinjar: 1\napp: x\nservices: {web: {}}\nstages: {dev: {}}\n"
                    "variables: {GREETING: {default: a b=c}}\n"
                )
            }
        )
        rows = json.loads(cj("compare", f"container:{name}", "dev", "--json", code=1).out)["rows"]
        assert {row["name"]: row["verdict"] for row in rows} == {
            "GREETING": "same",
            "SHINY": "only left",
        }  # what the jar declares is kept
    finally:
        subprocess.run([*base, "rm", "--force", name], env=env, capture_output=True, check=False)
    assert "podman cannot inspect it" in cj("compare", "container:none", "file:nothing.json", code=5).err
    cj.write({"broken/index.json": '{"manifests": [{"digest": "sha256:' + "0" * 64 + '"}]}'})
    assert "cannot read it" in cj("compare", "image:broken", "file:nothing.json", code=3).err


@pytest.mark.parametrize(
    ("text", "items", "expected"),
    [
        ((
            "FROM a AS one\nENV LOST=1\nFROM b\nARG V=1.2\nENV A=$V B='x y' \\\n  # comment\n"
            "  C=\"q\\\"$V\\$\"\nENV OLD style value\nENV D=$NO\n"
        ), {"V": "1.2", "A": "1.2", "B": "x y", "C": 'q"1.2$', "OLD": "style value"},
         ["f:1:1: of 2 stages only the ENV of the last one and its base stages was read",
             "f:9:1: ignored: D needs the value of NO"]),
        ("# escape=`\nFROM a\nENV A=1 `\n B=2\n", {"A": "1", "B": "2"}, []),
    ],
)  # fmt: skip
def test_containerfiles(cj: Coinjar, text: str, items: dict[str, str], expected: list[str]) -> None:
    cj.write({"f": text})
    assert seen(cj, "file:f") == {"-": items}
    err = cj("compare", "file:f", "file:nothing.json", code=1).err
    assert all(line in err for line in expected), err


def test_build_arguments_are_adopted_as_such(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SMALL)
    cj.write({"Containerfile": 'ARG BASE=3\nFROM x:${BASE}\nARG RELEASE=1\nENV RELEASE=${RELEASE} LEVEL="debug"\n'})
    cj("adopt", "file:Containerfile", "--stage", "dev", "--yes")
    declared = yaml.safe_load(cj.read("jar/jar.yaml"))["variables"]
    assert (declared["BASE"]["phase"], declared["RELEASE"]["phase"]) == ("build", "both")
    assert json.loads(cj("render", "dev", "--as", "json", "-s", "mailer").out) == {
        "PORT": "8080",
        "LEVEL": "debug",
        "RELEASE": "1",
    }


def test_documents_bundles_and_objects(cj: Coinjar) -> None:
    cj.write({
        "ci.yaml": "jobs:\n- name: a\n  env: {A: 1.10, B: 'x', C: }\n",
        "config.json": '{"ociVersion": "1.0", "process": {"env": ["A=1", "A=2", "BAD"]}}',
        "m.yaml": (
            "kind: ConfigMap\nmetadata: {name: c}\ndata: {A: '1', N: 5}\n---\nkind: Secret\n"
            "metadata: {name: s}\ndata: {B: eA==, BAD: '!'}\nstringData: {C: y}\n"
        ),
    })  # fmt: skip
    assert seen(cj, "document:ci.yaml#/jobs/[name=a]/env") == {"-": {"A": "1.10", "B": "x"}}
    assert seen(cj, "bundle:config.json") == {"-": {"A": "2"}}
    assert seen(cj, "file:m.yaml") == seen(cj, "manifests:m.yaml") == {"-": {"A": "1", "N": "5", "B": "x", "C": "y"}}
    message = cj("compare", "document:ci.yaml#/jobs/0/env", "bundle:config.json", code=1).err
    for line in (
        "ci.yaml:3:9: A is a number there, and is read as '1.1'",
        "ci.yaml:3:26: ignored: C has no value",
        "config.json:1:50: A is given twice (first in line 1); the last one is used",
        "'BAD' has no '='",
    ):
        assert line in message
    assert (
        "m.yaml:7:17: ignored: BAD is not a text in base64"
        in cj("compare", "file:m.yaml", "file:nothing.json", code=1).err
    )
    for source, words in {
        "document:ci.yaml": "a document requires a pointer", "dest:x@prod": "a destination requires a jar",
        "imag:x": "'imag:x' is not a source", "bundle+json:x": "bundle does not support a dialect",
    }.items():  # fmt: skip
        assert words in cj("compare", source, "file:nothing.json", code=2).err
    for source, words in {
        "document:ci.yaml#/jobs/x": "does not exist",
        "bundle:nothing.json": "this is not a bundle's config.json",
        "manifests:none": "there are no manifests",
    }.items():
        assert words in cj("compare", source, "file:nothing.json", code=3).err


BROKEN = [
    "a: [1\n", '{"a":', "[1,2]", "null", "---\n---\nkind: Pod\n", "kind: Secret\ndata: []\nmetadata: 3\n",
    "kind: Pod\nspec: {containers: [1, {name: [x], env: 5, envFrom: [3]}]}\n", "services: {web: 3}\n",
    "services:\n web:\n  environment: [1, [2], {name: x}]\n  env_file: [[x]]\n", '{"process": {"env": {"a": 1}}}',
    "? [a]\n: b\n", "- &a [*a]\n", "a: !x 1\n", "\0", 'name,value\n"', "ENV\nENV A\nFROM\n",
    '[Service]\nEnvironment="x\n', "A=${", 'A="', "<<: {a: b}\n",
    "kind: Deployment\nmetadata: {name: [1]}\nspec:\n  template: x\n",
]  # fmt: skip


@settings(max_examples=150)
@given(
    st.sampled_from(BROKEN), st.lists(st.tuples(st.floats(0, 1), st.sampled_from("{}[]:\n \"'-&*$=é\x010")), max_size=4)
)
def test_no_broken_text_breaks_a_reader(text: str, changes: list[tuple[float, str]]) -> None:
    """Every source and dialect either reads it or says what is wrong."""
    for where, letter in changes:
        at = int(where * len(text))
        text = text[:at] + letter + text[at:]
    silent: list[str] = []
    with tempfile.TemporaryDirectory() as folder:
        for name in ("f.yaml", "f.json"):
            (Path(folder) / name).write_text(text)
        forms = [f"file+{name}:PATH" for name in BUILT_IN if get(name).reads] + [
            "file:PATH",
            "manifests:PATH",
            "compose:PATH",
            "bundle:PATH",
            "document:PATH#/a",
            "document:PATH#/a/0/env",
        ]
        for form in forms:
            for name in ("f.yaml", "f.json"):
                try:
                    read_source(form.replace("PATH", f"{folder}/{name}"))
                except CoinJarError as fault:
                    silent += [] if fault.hint else [form]
    assert silent == []
