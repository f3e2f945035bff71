"""Promote values from stage to stage, and lift what all stages agree on: the target sees what the source sees; a lift
changes no service's value.
"""

from __future__ import annotations

import json
from collections.abc import Callable

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from coinjar.core.definition import Definition
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar, Layer
from coinjar.core.planned_values import lifted, lifted_to_default, promoted, with_planned
from coinjar.jarfile.declarations import read_declarations
from tests.conftest import Coinjar
from tests.jars import somebody

JAR = """\
services: {web: {}, worker: {}}
stages: {dev: {}, prod: {guarded: true}, isles: {follows: prod}}
variables:
  HOST: {per_stage: true}
  URL: {kind: url, default: "http://x.example/"}
  PORT: {kind: port, default: 80}
  TOKEN: {secret: true}
  LOGIN: {secret: true, services: [worker]}
  ONLY_DEV: {stages: [dev]}
  CLOCK: {}
  LEVEL: {kind: choice, choices: [low, high]}
  MODE: {}
  MODE_FILE: {}
together: {mode: [MODE, MODE_FILE]}
"""


@pytest.fixture
def two(jar: Callable[..., Coinjar]) -> Coinjar:
    cj = jar(
        JAR,
        dev="all:\n  HOST: h.dev\n  URL: {text: 'http://${HOST}:${PORT}/'}\n  PORT: 81\n  ONLY_DEV: x\n"
        "  CLOCK: {command: [date]}\n  MODE_FILE: f\n  MODE: m\nworker:\n  PORT: 82\n",
        prod="all:\n  HOST: h.prod\nweb:\n  PORT: 90\n",
    )
    cj("put", "TOKEN", "--stage", "dev", stdin="made-up-dev-token")
    cj("put", "LOGIN", "--stage", "dev", stdin="made-up-dev-login")
    cj("put", "LOGIN", "--stage", "prod", stdin="made-up-prod-login")
    return cj


def seen(cj: Coinjar, stage: str, service: str) -> dict[str, str]:
    data: dict[str, str] = json.loads(cj("render", stage, "--service", service, "--as", "json").out)
    return data


def test_all_that_differs_is_promoted_in_its_form(two: Coinjar) -> None:
    shown = two("promote", "dev", "prod", "--dry-run", code=1)
    assert "made-up" not in shown.out + shown.err
    assert "left out: HOST: each stage has its own (per_stage)" in shown.err
    assert two("promote", "dev", "prod", code=1).err.endswith("Add --yes to write it.\n")
    two("promote", "dev", "prod", "--yes")
    prod = seen(two, "prod", "worker")
    assert prod["URL"] == "http://h.prod:82/"  # the reference, not dev's host
    assert (prod["PORT"], seen(two, "prod", "web")["PORT"]) == ("82", "81")
    assert (prod["TOKEN"], prod["LOGIN"]) == ("made-up-dev-token", "made-up-dev-login")
    assert "CLOCK: {command: [date]}" in two.read("jar/plain/prod.yaml")
    assert "ONLY_DEV" not in two.read("jar/plain/prod.yaml")
    assert "made-up" not in two.read("jar/plain/prod.yaml")
    assert "Nothing to promote" in two("promote", "dev", "prod", "--yes").err


def test_a_value_of_one_service_is_promoted_alone(two: Coinjar) -> None:
    two("put", "LEVEL=high", "--stage", "dev", "-s", "worker")
    two("promote", "dev", "prod", "LEVEL", "--yes")
    assert "worker:\n  LEVEL: high" in two.read("jar/plain/prod.yaml")
    assert "LEVEL" not in seen(two, "prod", "web")


def test_names_patterns_and_services(two: Coinjar) -> None:
    two("promote", "dev", "prod", "PORT", "-s", "worker", "--yes")
    assert (seen(two, "prod", "worker")["PORT"], seen(two, "prod", "web")["PORT"]) == ("82", "90")
    two("promote", "dev", "prod", "MODE*", "--yes")
    assert seen(two, "prod", "web")["MODE_FILE"] == "f"
    assert "LOGIN" not in two("promote", "dev", "prod", "TOK*", "--json", "--dry-run", code=1).out
    two("promote", "dev", "prod", "HOST", "--per-stage", "--yes")
    assert seen(two, "prod", "web")["HOST"] == "h.dev"


@pytest.mark.parametrize(
    ("words", "fault"),
    [
        ("dev prd", "there is no stage 'prd'"),
        ("dev dev", "both are dev"),
        ("dev shared", "`coinjar lift`"),
        ("dev prod PROT", "there is no variable 'PROT'"),
        ("dev prod P*X", "no variable matches 'P*X'"),
        ("dev prod PORT -s wob", "there is no service 'wob'"),
        ("dev prod MODE", "CJ004 would report"),
    ],
)
def test_what_cannot_be_promoted_is_refused_whole(two: Coinjar, words: str, fault: str) -> None:
    before = two.read("jar/plain/prod.yaml")
    done = two("promote", *words.split(), "--yes", code=None)
    assert done.code in (2, 3)
    assert fault in done.err
    assert two.read("jar/plain/prod.yaml") == before


def test_what_the_kind_of_the_target_refuses(two: Coinjar) -> None:
    two.write({"jar/plain/dev.yaml": two.read("jar/plain/dev.yaml").replace("PORT: 81", "PORT: eighty")})
    assert "PORT" in two("promote", "dev", "prod", "PORT", "--yes", code=3).err


def test_secrets_of_others_are_not_promoted(two: Coinjar) -> None:
    nobody, _ = somebody(two, "nobody")
    done = two("promote", "dev", "prod", "--dry-run", code=1, env=nobody)
    assert "left out: TOKEN, LOGIN: encrypted for others" in done.err
    two("promote", "dev", "prod", "TOKEN", "--yes", code=4, env=nobody)
    two("promote", "dev", "prod", "PORT", "--yes", env=nobody)  # which needs no identity


def test_a_secret_is_lifted_only_by_name(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {a: {}, b: {}}\nvariables: {X: {}, T: {secret: true}}\n",
        a="all: {X: 1}\n",
        b="all: {X: 1}\n",
    )
    for stage in ("a", "b"):
        cj("put", "T", "--stage", stage, stdin="made-up-token")
    cj("lift", "--dry-run", code=1)
    cj("lift", "--yes")
    assert cj.read("jar/plain/shared.yaml").endswith("all:\n  X: 1\n")
    assert "Nothing to lift" in cj("lift", "--yes").err
    cj("lift", "T", "--yes")
    assert "is not lifted" in cj("lift", "T", "--yes", code=2).err
    assert " T " in cj.read("jar/coins/shared.coins")
    assert all(" T " not in cj.read(f"jar/coins/{stage}.coins") for stage in ("a", "b"))
    assert seen(cj, "b", "web") == {"X": "1", "T": "made-up-token"}


DECLARED = read_declarations(
    b"coinjar: 1\napp: x\nservices: {web: {}, worker: {}, job: {}}\n"
    b"stages: {dev: {}, prod: {}, isles: {follows: prod}}\n"
    b"variables: {A: {default: '1'}, B: {services: [web, job]}}\n",
    "jar.yaml",
)
SCOPES = st.sampled_from(["all", "web", "worker", "job"])
LAYERS = st.dictionaries(
    st.tuples(st.sampled_from(["shared", "dev", "prod", "isles"]), SCOPES, st.sampled_from(["A", "B"])),
    st.sampled_from(["1", "2"]),
    max_size=10,
)


def filled(values: dict[tuple[str, str, str], str]) -> Jar:
    plain: dict[str, Layer] = {}
    for (layer, scope, name), text in values.items():
        plain.setdefault(layer, {}).setdefault(scope, {})[name] = Definition(text, "f", 1, 1)
    return DECLARED._replace(plain=plain)


def texts(jar: Jar) -> dict[tuple[str, str, str], str | None]:
    return {
        (stage, service, name): resolved.revealed
        for stage in ("dev", "prod", "isles")
        for resolver in [Resolver(jar, stage)]
        for service in jar.services
        for name, resolved in resolver.resolve(service).items()
    }


def test_lift_to_the_default(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}, worker: {}}\nstages: {dev: {}, prod: {}}\nvariables:\n  ZONE: {}\n  URL: {}\n"
        "  HOST: {default: old}\n  T: {secret: true}\n",
        shared="all: {ZONE: north}\nweb: {ZONE: north}\n",
        dev='all: {URL: {text: "x://${ZONE}"}, HOST: new}\n',
        prod='all: {URL: {text: "x://${ZONE}"}, HOST: new}\n',
    )
    cj("put", "T", "--stage", "shared", stdin="made-up")
    before = {stage: cj("render", stage, "-s", "web", "--as", "json").out for stage in ("dev", "prod")}
    assert "which variables?" in cj("lift", "--to-default", "--yes", code=2).err
    assert "a secret has no default" in cj("lift", "T", "--to-default", "--yes", code=2).err
    cj("lift", "ZONE", "URL", "HOST", "--to-default", "--dry-run", code=1)
    cj("lift", "ZONE", "URL", "HOST", "--to-default", "--yes")
    assert before == {stage: cj("render", stage, "-s", "web", "--as", "json").out for stage in ("dev", "prod")}
    assert "  HOST: {default: new}" in cj.read("jar/jar.yaml")
    for layer in ("shared", "dev", "prod"):
        assert "ZONE: north" not in cj.read(f"jar/plain/{layer}.yaml")
    assert "is not lifted" in cj("lift", "ZONE", "--to-default", "--yes", code=2).err
    cj("undo", "--yes")
    assert "ZONE: north" in cj.read("jar/plain/shared.yaml")


@settings(max_examples=400, suppress_health_check=list(HealthCheck))
@given(LAYERS)
def test_a_lift_changes_no_services_value(values: dict[tuple[str, str, str], str]) -> None:
    jar = filled(values)
    resolvers = [Resolver(jar, stage) for stage in ("dev", "prod", "isles")]
    planned = [change for variable in jar.variables.values() for change in lifted(resolvers, variable, "shared")]
    after = with_planned(jar, planned)
    assert texts(after) == texts(jar)
    again = [Resolver(after, stage) for stage in ("dev", "prod", "isles")]
    assert not any(lifted(again, variable, "shared") for variable in jar.variables.values())


@settings(max_examples=400, suppress_health_check=list(HealthCheck))
@given(LAYERS)
def test_a_lift_to_the_default_changes_no_services_value(values: dict[tuple[str, str, str], str]) -> None:
    jar = filled(values)
    resolvers = [Resolver(jar, stage) for stage in ("dev", "prod", "isles")]
    for variable in jar.variables.values():
        planned = lifted_to_default(resolvers, variable)
        if not planned:
            continue
        default = Definition(planned[0].content or "", "jar.yaml", 1, 1)
        after = with_planned(jar, planned[1:])
        after = after._replace(variables={**after.variables, variable.name: variable._replace(default=default)})
        assert texts(after) == texts(jar)
        assert not any(variable.name in scope for layer in after.plain.values() for scope in layer.values())


@settings(max_examples=400, suppress_health_check=list(HealthCheck))
@given(LAYERS, st.sampled_from([("dev", "prod"), ("prod", "isles"), ("isles", "dev")]))
def test_the_target_sees_what_the_source_sees(values: dict[tuple[str, str, str], str], pair: tuple[str, str]) -> None:
    jar = filled(values)
    source, target = (Resolver(jar, stage) for stage in pair)
    planned = []
    for variable in jar.variables.values():
        mine = [service for service in jar.services if variable.applies_to(service)]
        services = [service for service in mine if source.winner(variable.name, service)]
        if services:
            planned += promoted(source, target, variable, services, for_all=services == mine)
    after, before = texts(with_planned(jar, planned)), texts(jar)
    for service in jar.services:
        for name in ("A", "B"):
            if (pair[0], service, name) in before:
                assert after[pair[1], service, name] == before[pair[0], service, name]
