"""The actions, called as a library calls them: without the command line, in this process."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from coinjar import OpenJar
from coinjar.actions.comparing.sides import compare_sources
from coinjar.actions.editing.finish_rename import finish_old
from coinjar.actions.editing.generate import generate
from coinjar.actions.editing.removal import drop
from coinjar.actions.editing.rename import apply_edits, plan
from coinjar.actions.editing.rename_edits import RenameOptions
from coinjar.actions.editing.values import Assignment, put
from coinjar.core.errors import CoinJarError
from coinjar.core.secret import Secret, reveal
from tests.conftest import IDENTITY
from tests.consenting import Everything

pytestmark = pytest.mark.unit

DECLARATIONS = """\
coinjar: 1
app: pier
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {}, isles: {follows: prod}}
variables:
  LEVEL: {default: info}
  PORT: {kind: port, default: 8080}
  TOKEN: {secret: true, services: [web], generate: {length: 24}}
  URL: {default: {text: "http://localhost:${PORT}/${LEVEL}"}}
"""
HOSTING = """\
destinations:
  hosting:
    type: platform
    platform: saltmarsh
    services: [web]
    address: http://127.0.0.1:1
    app: pier-{service}-{stage}
    token: {from_env: SALT_TOKEN}
"""


@pytest.fixture(autouse=True)
def _identity(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("COINJAR_IDENTITY", reveal(IDENTITY))


@contextmanager
def jar_of(declarations: str, **plain: str) -> Iterator[OpenJar]:
    """A jar in a folder of its own."""
    with tempfile.TemporaryDirectory() as folder:
        jar = Path(folder, "jar")
        (jar / "plain").mkdir(parents=True)
        (jar / "jar.yaml").write_text(declarations)
        for layer, text in plain.items():
            (jar / "plain" / f"{layer}.yaml").write_text(text)
        opened = OpenJar(jar)
        opened.gate = Everything()
        yield opened


def texts(opened: OpenJar, stage: str, service: str) -> dict[str, str]:
    return opened.resolve(stage, service=service).environment()


names = st.sampled_from(["LEVEL", "URL"])
values = st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=12)
assignments = st.lists(
    st.tuples(st.sampled_from(["shared", "prod", "isles"]), st.sampled_from(["", "web", "mailer"]), names, values),
    max_size=6,
)


@settings(max_examples=40)
@given(assignments)
def test_the_last_value_of_the_highest_layer_is_effective(done: list[tuple[str, str, str, str]]) -> None:
    """`put` and `resolve` against a dictionary of layers."""
    layers: dict[tuple[str, str, str], str] = {}
    with jar_of(DECLARATIONS) as opened:
        for stage, service, name, text in done:
            services = [service] if service else []
            put(opened, [Assignment(name, text)], [stage], services=services, declare=False, mine=False)
            layers[stage, service, name] = text
        for service in ("web", "mailer"):
            seen = texts(opened, "isles", service)
            for name in ("LEVEL", "URL"):
                order = [(stage, scope, name) for stage in ("shared", "prod", "isles") for scope in ("", service)]
                set_there = [layers[key] for key in order if key in layers]
                if set_there:
                    assert seen[name] == set_there[-1]
        for stage, service, name in layers:
            drop(opened, [name], [stage], services=[service] if service else [], mine=False)
        assert texts(opened, "isles", "web")["LEVEL"] == "info"


def test_put_refuses_everything_at_once_and_writes_nothing() -> None:
    with jar_of(DECLARATIONS, dev="all: {LEVEL: debug}\n") as opened:
        before = {path: path.read_bytes() for path in opened.folder.rglob("*.yaml")}
        wrong = [Assignment("LEVEL", "x"), Assignment("PORT", "eighty"), Assignment("NOPE", "y")]
        with pytest.raises(CoinJarError) as caught:
            put(opened, wrong, ["dev"], services=[], declare=False, mine=False)
        assert caught.value.each()
        assert {path: path.read_bytes() for path in opened.folder.rglob("*.yaml")} == before


def test_secrets_are_encrypted_and_generated_ones_differ_by_stage() -> None:
    with jar_of(DECLARATIONS) as opened:
        put(
            opened,
            [Assignment("TOKEN", Secret("made-up"), in_argv=False)],
            ["dev"],
            services=[],
            declare=False,
            mine=False,
        )
        assert texts(opened, "dev", "web")["TOKEN"] == "made-up"
        assert "TOKEN" not in texts(opened, "dev", "mailer")
        generate(opened, "TOKEN", ["prod", "isles"], {}, services=[], same=False, replace=False)
        made = {stage: texts(opened, stage, "web")["TOKEN"] for stage in ("prod", "isles")}
        assert len(made["prod"]) == 24
        assert made["prod"] != made["isles"]
        everything = b"".join(path.read_bytes() for path in opened.folder.rglob("*") if path.is_file())
        assert not [text for text in ("made-up", *made.values()) if text.encode() in everything]


def test_a_rename_is_planned_once_and_undone_by_its_inverse() -> None:
    with jar_of(DECLARATIONS, prod="all: {LEVEL: error}\nweb: {URL: {text: 'x-${LEVEL}'}}\n") as opened:
        before = {path.name: path.read_text() for path in opened.folder.rglob("*.yaml")}
        edits = plan(opened, {"LEVEL": "DEPTH"}, RenameOptions())
        assert {file.path.name for file in edits.files} == {"jar.yaml", "prod.yaml"}
        assert {path.name: path.read_text() for path in opened.folder.rglob("*.yaml")} == before  # only planned
        apply_edits(opened, {"LEVEL": "DEPTH"}, RenameOptions(), edits)
        assert texts(opened, "prod", "web")["URL"] == "x-error"
        assert texts(opened, "prod", "web")["DEPTH"] == "error"
        back = plan(opened, {"DEPTH": "LEVEL"}, RenameOptions())
        apply_edits(opened, {"DEPTH": "LEVEL"}, RenameOptions(), back)
        finish_old(opened, ["DEPTH"])
        assert {path.name: path.read_text() for path in opened.folder.rglob("*.yaml")} == before


def test_an_edit_in_between_stops_a_shown_rename() -> None:
    with jar_of(DECLARATIONS, prod="all: {LEVEL: error}\n") as opened:
        edits = plan(opened, {"LEVEL": "DEPTH"}, RenameOptions())
        put(opened, [Assignment("LEVEL", "debug")], ["prod"], services=[], declare=False, mine=False)
        with pytest.raises(CoinJarError, match="changed meanwhile"):
            apply_edits(opened, {"LEVEL": "DEPTH"}, RenameOptions(), edits)
        assert texts(opened, "prod", "web")["LEVEL"] == "debug"


def test_two_sources_are_compared_value_by_value() -> None:
    with jar_of(DECLARATIONS, dev="all: {LEVEL: debug}\n", prod="all: {PORT: 9090}\n") as opened:
        comparison = compare_sources(opened, "dev", "prod", services=[], every_name=False)
        rows = {row.name: row.verdict for row in comparison.rows}
        assert rows == {"LEVEL": "different", "PORT": "different", "URL": "different"}
        assert reveal(texts(opened, "prod", "web")["URL"]) == "http://localhost:9090/info"
