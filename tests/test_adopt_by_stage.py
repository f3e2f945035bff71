"""Sources as layers, and of several stages at once: a base file with a file per stage; what all agree on is shared."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import Coinjar

JAR = "services: {web: {}, worker: {}}\nstages: {dev: {}, prod: {}, prod-isles: {follows: prod}}\nvariables: {}\n"
CHAINS = {"dev": ("shared", "dev"), "prod": ("shared", "prod"), "prod-isles": ("shared", "prod", "prod-isles")}


def seen(cj: Coinjar, stage: str) -> dict[str, str]:
    data: dict[str, str] = json.loads(cj("render", stage, "--service", "web", "--as", "json").out)
    return data


def shared(cj: Coinjar) -> str:
    path = cj.folder / "jar/plain/shared.yaml"
    return path.read_text() if path.exists() else ""


VALUES = st.dictionaries(st.sampled_from(["HOST", "LEVEL", "ZONES"]), st.sampled_from(["a", "b", "7"]), max_size=3)


@settings(max_examples=30)
@given(st.fixed_dictionaries({}, optional=dict.fromkeys(["shared", *CHAINS], VALUES)))
def test_every_stage_sees_what_its_files_say(files: dict[str, dict[str, str]]) -> None:
    """Whatever the files have: each stage sees its own over those below it, and a second run changes nothing."""
    files = {layer: values for layer, values in files.items() if values}
    if not files:
        return
    with tempfile.TemporaryDirectory() as folder:
        cj = Coinjar(Path(folder))
        cj.needs_consents = False
        cj.write({"jar/jar.yaml": f"coinjar: 1\napp: trial\n{JAR}"})
        cj.write({f"{layer}.json": json.dumps(values) for layer, values in files.items()})
        words = [f"{layer}={layer}.json" for layer in files]
        cj("adopt", *words, "--yes")
        for stage, chain in CHAINS.items():
            wanted: dict[str, str] = {}
            for layer in chain:
                wanted |= files.get(layer, {})
            got = seen(cj, stage)
            assert {name: got[name] for name in wanted} == wanted, (stage, files)
            extra = set(got) - set(wanted)  # agreed on by all others, and lifted
            assert not extra, (stage, files)
        before = {path: path.read_bytes() for path in (cj.folder / "jar").rglob("*.yaml")}
        assert "Nothing to adopt" in cj("adopt", *words, "--yes").err
        assert before == {path: path.read_bytes() for path in before}


def test_a_base_with_its_stages(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR)
    cj.write(
        {
            "base.json": '{"mail": {"host": "localhost", "port": 25}}',
            "dev.json": '{"mail": {"host": "localhost"}, "zone": "north", "token": "made-up-a1b2c3d4e5"}',
            "prod.json": '{"mail": {"host": "mail.example"}, "zone": "north", "token": "made-up-a1b2c3d4e5"}',
        }
    )
    words = [
        f"{layer}=file+settings:{name}.json" for layer, name in (("shared", "base"), ("dev", "dev"), ("prod", "prod"))
    ]
    shown = cj("adopt", *words, "--dry-run", code=1).out
    cj("adopt", *words, "--yes")
    assert "mail__host" in shared(cj), "the base"
    assert "zone: north" in shared(cj), "what all agree on"
    assert not (cj.folder / "jar/plain/dev.yaml").exists(), "it repeats the base"
    assert "mail.example" in cj.read("jar/plain/prod.yaml")
    assert "shared" in shown
    assert "token" in cj.read("jar/coins/dev.coins")
    assert "token" in cj.read("jar/coins/prod.coins")
    assert not (cj.folder / "jar/coins/shared.coins").exists(), "a secret is not shared by accident"


def test_adopt_into_shared(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR)
    cj.write({"a.env": "HOST=x\nAPI_TOKEN=made-up-token-1\n"})
    cj("adopt", "a.env", "--stage", "shared", "--yes")
    assert "HOST: x" in shared(cj)
    assert seen(cj, "prod-isles") == {"HOST": "x", "API_TOKEN": "made-up-token-1"}
    assert "Nothing to adopt" in cj("adopt", "a.env", "--stage", "shared").err


def test_several_files_are_layers(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR)
    cj.write({"a.env": "HOST=x\nLEVEL=a\n", "b.toml": "LEVEL = 'b'\n", "c,d.env": "LEVEL=c\n"})
    cj("adopt", "a.env,b.toml", "--stage", "dev", "--yes")
    assert seen(cj, "dev") == {"HOST": "x", "LEVEL": "b"}
    cj("compare", "a.env,b.toml", "dev")
    assert "LEVEL" in cj("compare", "b.toml,file+dotenv:a.env", "dev", code=1).out
    cj("adopt", "c,d.env", "--stage", "prod", "--yes")
    assert seen(cj, "prod") == {"LEVEL": "c"}
    assert "LEVEL" in cj("read", "a.env,b.toml").out
    assert "there is no file 'nope.env'" in cj("adopt", "a.env,nope.env", "--stage", "dev", code=2).err
    assert json.loads(cj("read", "a.env,b.toml", "--json").out)


REFUSED = {
    "a.env a.env": "'a.env' names no stage",
    "dev=a.env prd=a.env": "there is no stage 'prd'",
    "dev=a.env prod=nope.env": "there is no file 'nope.env'",
    "dev=a.env --stage prod": "there is no file 'dev=a.env'",
    "dev=a.env prod=a.env --stage prod": "--stage is for one source",
    "dev=": "names no stage",
    "a.env": "which stage?",
    "a.env --stage sharde": "there is no stage 'sharde'",
}


@pytest.mark.parametrize("words", REFUSED)
def test_what_is_refused(jar: Callable[..., Coinjar], words: str) -> None:
    cj = jar(JAR)
    cj.write({"a.env": "HOST=x\n"})
    assert REFUSED[words] in cj("adopt", *words.split(), code=2).err


def test_what_the_jar_has_stays(jar: Callable[..., Coinjar]) -> None:
    """A value that the jar has somewhere is not lifted; a variable of one stage neither."""
    cj = jar(
        JAR.replace("variables: {}", "variables: {HOST: {}, ZONE: {per_stage: true}, PIER: {stages: [prod]}}"),
        prod_isles="all: {HOST: isles}\n",
    )
    cj.write(dict.fromkeys(("dev.env", "prod.env"), "HOST=x\nZONE=z\nPIER=p\n"))
    cj("adopt", "dev=dev.env", "prod=prod.env", "--yes")
    assert shared(cj) == ""
    assert seen(cj, "prod-isles") == {"HOST": "isles", "ZONE": "z", "PIER": "p"}
    assert seen(cj, "dev") == {"HOST": "x", "ZONE": "z"}
