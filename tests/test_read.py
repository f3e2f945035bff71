"""What a source contains, as a list, as JSON, or in a dialect: kinds guessed, secrets masked, also without a jar."""

from __future__ import annotations

import json
from collections.abc import Callable

import pytest

from tests.conftest import Coinjar

FILE = "PORT=80\nAPI_TOKEN=made-up-token\nPORT=81\nURL=http://x.example/\n"


def test_a_file_without_a_jar(cj: Coinjar) -> None:
    cj.write({"a.env": FILE})
    done = cj("read", "a.env")
    assert done.out.splitlines()[0] == "file:a.env: 4 variables"
    assert "made-up" not in done.out + done.err
    assert "PORT is given twice" in done.err
    assert [line.split()[0] for line in done.out.splitlines()[3:]] == ["PORT", "API_TOKEN", "PORT", "URL"]
    assert cj("read", "a.env", "--as", "posix").out.splitlines()[1:] == [
        "export PORT='81'",
        "export API_TOKEN='made-up-token'",
        "export URL='http://x.example/'",
    ]
    rows = json.loads(cj("read", "a.env", "--json", "--name", "API*").out)["variables"]
    assert [(row["name"], row["value"], row["secret"], row["masked"]) for row in rows] == [
        ("API_TOKEN", None, True, "•••• 13 chars #1")
    ]
    assert cj("read", "-", stdin=FILE).out.splitlines()[0].endswith(": 4 variables")


def test_what_the_jar_declares_decides(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {web: {}, job: {}}\nstages: {dev: {}}\nvariables: {PORT: {secret: true}, API_TOKEN: {}}\n")
    cj.write({"a.env": FILE, "k8s.yaml": MANIFEST})
    rows = {row["name"]: row for row in json.loads(cj("read", "a.env", "--json").out)["variables"]}
    assert (rows["PORT"]["value"], rows["API_TOKEN"]["value"]) == (None, "made-up-token")
    assert "several values" in cj("read", "manifests:k8s.yaml", "--as", "posix", code=2).err
    assert "export LEVEL='high'" in cj("read", "manifests:k8s.yaml", "--as", "posix", "-s", "web").out


MANIFEST = """\
kind: Pod
metadata: {name: p}
spec:
  containers:
    - {name: web, image: x, env: [{name: LEVEL, value: high}]}
    - {name: job, image: x, env: [{name: LEVEL, value: low}]}
"""


@pytest.mark.parametrize(
    ("words", "fault"),
    [
        ("read nothing.env", "there is no file 'nothing.env'"),
        ("read manifests:k8s.yaml -s wob", "it has no service 'wob'"),
        ("read a.env --as nope", "there is no dialect 'nope'"),
    ],
)
def test_what_does_not_exist_is_an_error(cj: Coinjar, words: str, fault: str) -> None:
    cj.write({"a.env": FILE, "k8s.yaml": MANIFEST})
    assert fault in cj(*words.split(), code=2).err


def test_adopt_as_json_is_a_plan(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {URL: {}}\n", dev="all: {URL: old}\n")
    cj.write({"a.env": FILE})
    done = cj("adopt", "a.env", "--stage", "dev", "--json", "--dry-run", code=1)
    steps = {step["name"]: step for step in json.loads(done.out)["steps"]}
    assert {name: step["action"] for name, step in steps.items()} == {
        "PORT": "new",
        "API_TOKEN": "new",
        "URL": "change",
    }
    assert (steps["URL"]["old"], steps["URL"]["value"]) == ("old", "http://x.example/")
    assert "made-up" not in done.out
    cj("adopt", "a.env", "--stage", "dev", "--json", "--yes")
    assert cj("value", "dev", "PORT").out == "81"
