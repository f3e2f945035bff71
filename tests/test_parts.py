"""Stages, services and the application come, go and get new names: whatever was true of the old name is true of the
new one, for everybody, and what runs does not notice.
"""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from coinjar.core.name_change import SERVICE, STAGE, NameChange
from coinjar.jarfile.name_places import PLACES, in_jar_yaml, in_values
from tests.conftest import Coinjar
from tests.jars import readers_of, somebody
from tests.systems import standin

JAR = """\
services: {web: {about: pages}, worker: {code: [jobs]}}
stages: {dev: {}, prod: {guarded: true}, isles: {follows: prod}, "trial-*": {follows: dev}}
sets: {behind: [worker]}
variables:
  HOST: {}
  TOKEN: {secret: true}
  LOGIN: {secret: true, services: [behind], stages: [prod]}
  LINK: {default: {text: "http://${HOST@of:worker:-none}/"}}
proofs:
  alive: {service: worker, http: "http://x.example/", expect_on: {prod: "${HOST@of:worker}"}}
accepted:
  - {rule: CJ013, variable: HOST, stage: prod, service: worker, reason: by hand}
"""
SECRETS = {"prod TOKEN": "made-up-token", "prod LOGIN": "made-up-login", "isles TOKEN": "made-up-${isle}"}


@pytest.fixture
def parts(jar: Callable[..., Coinjar]) -> Coinjar:
    cj = jar(JAR, prod="all:\n  HOST: h1\nworker:\n  HOST: h2  # beside\n", isles="worker:\n  HOST: h3\n")
    for where, text in SECRETS.items():
        stage, name = where.split()
        cj("put", name, "--stage", stage, stdin=text)
    cj("put", "TOKEN", "--stage", "dev", "--text", stdin="ref-${HOST@of:worker:-x}")
    return cj


def seen(cj: Coinjar, stage: str, service: str, **how: str) -> dict[str, str]:
    data: dict[str, str] = json.loads(cj("render", stage, "--service", service, "--as", "json", env=how).out)
    return data


def files(cj: Coinjar) -> dict[str, bytes]:
    return {str(path): path.read_bytes() for path in sorted((cj.folder / "jar").rglob("*")) if path.is_file()}


def test_a_stage_gets_a_new_name_everywhere(parts: Coinjar) -> None:
    before = {stage: seen(parts, stage, "worker") for stage in ("prod", "isles", "dev")}
    grid = parts("check", code=None).out
    assert "3 values encrypted again" not in parts("stages", "rename", "prod", "live", "--dry-run", code=1).out
    assert parts("stages", "rename", "prod", "live", code=1).err.endswith("Add --yes to write it.\n")
    parts("stages", "rename", "prod", "live", "--yes")
    assert {"prod": seen(parts, "live", "worker"), "isles": seen(parts, "isles", "worker")} == {
        stage: before[stage] for stage in ("prod", "isles")
    }
    assert parts("check", code=None).out.replace("live", "prod") == grid
    assert "stages: [live]" in parts.read("jar/jar.yaml")
    assert "live: {guarded: true, formerly: [prod]}" in parts.read("jar/jar.yaml")
    assert 'expect_on: {live: "${HOST@of:worker}"}' in parts.read("jar/jar.yaml")
    assert "prod" not in "".join(path.name for path in (parts.folder / "jar").rglob("*"))
    assert all(stage["state"] == "approved" for stage in json.loads(parts("readers", "list", "--json").out)["stages"])
    assert "Nothing to change" in parts("stages", "rename", "prod", "live", "--yes").err
    parts("put", "TOKEN", "--stage", "live", stdin="made-up-later")  # with the same key


def test_a_service_gets_a_new_name_with_references_to_it(parts: Coinjar) -> None:
    env, recipient = somebody(parts, "runner")
    parts("readers", "add", recipient, "--label", "runner", "--stage", "prod", "--service", "worker", "--yes")
    before = {stage: seen(parts, stage, "worker") for stage in ("prod", "isles", "dev")}
    web = seen(parts, "prod", "web")
    parts("services", "rename", "worker", "jobs", "--yes")
    assert {stage: seen(parts, stage, "jobs") for stage in before} == before
    assert before["dev"]["TOKEN"] == "ref-x"
    assert seen(parts, "prod", "web") == web
    assert seen(parts, "prod", "jobs", **env) == before["prod"]
    assert "jobs:\n  HOST: h2  # beside\n" in parts.read("jar/plain/prod.yaml")
    assert "@of:worker" not in parts.read("jar/jar.yaml")
    assert [reader["service"] for reader in readers_of(parts)] == [None, "jobs"]
    parts("put", "LOGIN", "--stage", "prod", "-s", "jobs", stdin="made-up-later", env=env)


def test_the_application_gets_a_new_name(parts: Coinjar) -> None:
    before = {stage: seen(parts, stage, "worker") for stage in ("prod", "isles", "dev")}
    parts("app", "rename", "trial", "ferry", "--yes")
    assert {stage: seen(parts, stage, "worker") for stage in before} == before
    assert parts("app", "show").out.startswith("ferry (formerly trial): 2 services, 4 stages")
    parts("put", "TOKEN", "--stage", "prod", stdin="made-up-later")


@pytest.mark.parametrize("rename", ["stages rename prod live", "services rename worker jobs", "app rename trial ferry"])
def test_a_rename_and_the_rename_back_leave_no_trace(parts: Coinjar, rename: str) -> None:
    *words, old, new = rename.split()
    before = {name: data for name, data in files(parts).items() if not name.endswith((".coins", "readers.yaml"))}
    parts(*words, old, new, "--yes")
    parts(*words, new, old, "--yes")
    after = {name: data for name, data in files(parts).items() if not name.endswith((".coins", "readers.yaml"))}
    assert {name: data for name, data in after.items() if ".local" not in name} == {
        name: data for name, data in before.items() if ".local" not in name
    }


def test_others_keep_what_is_encrypted_for_them_until_they_run_the_same(parts: Coinjar) -> None:
    """Somebody without the keys renames; a reader completes it."""
    nobody, _ = somebody(parts, "nobody")
    before = seen(parts, "prod", "worker")
    done = parts("stages", "rename", "prod", "live", "--yes", env=nobody)
    assert "TOKEN on live stays bound to the old name" in done.err
    fault = parts("value", "live", "TOKEN", "-s", "web", code=4).err
    assert "still belongs to the stage 'prod', its earlier name" in fault
    assert "`coinjar stages rename prod live`" in fault
    assert "`coinjar stages rename prod live`" in parts("put", "TOKEN", "--stage", "live", stdin="x", code=4).err
    parts("stages", "rename", "prod", "live", "--yes")
    assert seen(parts, "live", "worker") == before
    parts("put", "TOKEN", "--stage", "live", stdin="made-up-x")


def test_a_rename_without_an_identity_keeps_a_jar_without_secrets_whole(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {a: {}}\nstages: {s: {}}\nvariables: {X: {}}\n", s="all: {X: 1}\n")
    nobody = {"COINJAR_IDENTITY_FILE": "none"}
    cj("stages", "rename", "s", "t", "--yes", env=nobody)
    cj("services", "rename", "a", "b", "--yes", env=nobody)
    cj("app", "rename", "trial", "u", "--yes", env=nobody)
    assert cj("value", "t", "X", "-s", "b").out == "1"
    cj("stages", "copy", "t", "t2", "--yes", env=nobody)
    cj("stages", "remove", "t", "--yes", env=nobody)
    assert cj("value", "t2", "X").out == "1"


def by_hand(cj: Coinjar, old: str, new: str, *paths: str) -> None:
    for path in (cj.folder / "jar/jar.yaml", *(cj.folder / "jar/plain").glob("*.yaml")):
        path.write_text(path.read_text().replace(old, new))
    for moved in paths:
        (cj.folder / moved).rename(cj.folder / moved.replace(old, new))


def test_a_jar_that_was_renamed_by_hand_says_how_to_repair_it(parts: Coinjar) -> None:
    before = seen(parts, "prod", "worker")
    by_hand(parts, "prod", "live", "jar/plain/prod.yaml")
    stray = parts("grid", code=3).err
    assert "`coinjar stages rename prod NEW`" in stray
    (parts.folder / "jar/coins/prod.coins").rename(parts.folder / "jar/coins/live.coins")
    assert "`coinjar stages rename prod live`" in parts("value", "live", "TOKEN", "-s", "web", code=4).err
    parts("stages", "rename", "prod", "live", "--yes")
    assert seen(parts, "live", "worker") == before
    by_hand(parts, "worker", "jobs")
    parts("services", "rename", "worker", "jobs", "--yes")
    assert seen(parts, "live", "jobs") == before
    by_hand(parts, "app: trial", "app: ferry")
    parts("app", "rename", "trial", "ferry", "--yes")
    assert seen(parts, "live", "jobs") == before


@pytest.mark.parametrize(
    ("words", "fault"),
    [
        ("stages rename porq live", "there is no stage 'porq'"),
        ("stages rename porq prod", "there is no stage 'porq'"),
        ("stages rename prod isles", "there is already a stage 'isles'"),
        ("stages rename prod prod", "is its name already"),
        ("stages rename prod shared", "'shared' is a reserved name"),
        ("stages rename trial-* branch-*", "a pattern cannot be renamed"),
        ("services rename web behind", "'behind'"),
        ("services rename wed web", "there is no service 'wed'"),
        ("app rename other ferry", "there is no application 'other'"),
        ("stages copy porq x", "there is no stage 'porq'"),
        ("stages copy prod dev", "there is already a stage 'dev'"),
        ("services copy web behind", "already a set of services"),
        ("stages remove porq", "there is no stage 'porq'"),
        ("stages remove prod", "isles follows prod"),
        ("services remove worker", "refers to the service worker"),
        ("stages add prod", "there is already a stage 'prod'"),
        ("stages add x --follows porq", "there is no stage 'porq'"),
    ],
)
def test_a_typing_error_changes_nothing(parts: Coinjar, words: str, fault: str) -> None:
    before = files(parts)
    done = parts(*words.split(), "--yes" if "add" not in words else "--about=x", code=None)
    assert done.code in (2, 3), done
    assert fault in done.err
    assert files(parts) == before


def test_a_name_that_was_another_ones_is_not_given_again(parts: Coinjar) -> None:
    parts("stages", "rename", "prod", "live", "--yes")
    assert "live was formerly prod" in parts("stages", "add", "prod", code=2).err
    parts.write({"jar/jar.yaml": parts.read("jar/jar.yaml").replace("dev: {}", "dev: {}, prod: {}", 1)})
    assert "which is also a name of prod" in parts("check", code=3).err


def test_copies_have_the_same_values_and_removing_them_leaves_the_jar_as_it_was(parts: Coinjar) -> None:
    env, recipient = somebody(parts, "ops")
    parts("readers", "add", recipient, "--label", "ops", "--stage", "prod", "--yes")
    before = {name: data for name, data in files(parts).items() if ".local" not in name}
    assert "can decrypt it: root, ops" in parts("stages", "copy", "prod", "pre", "--dry-run", code=1).out.replace(
        json.loads(parts("readers", "list", "--json").out)["readers"][0]["label"], "root"
    )
    parts("stages", "copy", "prod", "pre", "--yes")
    assert seen(parts, "pre", "worker") == seen(parts, "prod", "worker") == seen(parts, "pre", "worker", **env)
    assert "stages: [prod, pre]" in parts.read("jar/jar.yaml")
    parts("stages", "remove", "pre", "--yes")
    assert {name: data for name, data in files(parts).items() if ".local" not in name} == before
    parts("services", "copy", "worker", "jobs", "--yes")
    assert seen(parts, "prod", "jobs") == seen(parts, "prod", "worker")
    assert "alive-jobs: {service: jobs," in parts.read("jar/jar.yaml")
    parts("services", "remove", "jobs", "--yes")
    assert seen(parts, "prod", "web")
    assert "jobs" not in parts.read("jar/jar.yaml").replace("code: [jobs]", "")


def test_what_exists_nowhere_after_a_removal_is_named(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {a: {}}\nstages: {s: {}, t: {}}\nvariables: {X: {stages: [s]}, Y: {stages: [s, t]}, Z: {}}\n")
    done = cj("stages", "remove", "s", "--yes")
    assert "no stage has X then: `coinjar drop X --everywhere` removes them" in done.out
    assert "variables: {X: {stages: []}, Y: {stages: [t]}, Z: {}}" in cj.read("jar/jar.yaml")


def test_a_copy_under_a_pattern_needs_no_declaration(parts: Coinjar) -> None:
    declared = parts.read("jar/jar.yaml")
    parts("stages", "copy", "dev", "trial-7", "--yes")
    assert parts.read("jar/jar.yaml") == declared
    assert seen(parts, "trial-7", "web") == seen(parts, "dev", "web")
    assert "already a stage" in parts("stages", "copy", "dev", "trial-7", "--yes", code=2).err
    assert "trial-7" in parts("stages", "list").out


def test_a_copy_without_the_keys_says_how_to_go_on(parts: Coinjar) -> None:
    nobody, _ = somebody(parts, "nobody")
    before = files(parts)
    assert (
        "--without-secrets copies the rest" in parts("stages", "copy", "prod", "pre", "--yes", code=4, env=nobody).err
    )
    assert files(parts) == before
    parts("stages", "copy", "prod", "pre", "--without-secrets", "--yes", env=nobody)
    assert parts("value", "pre", "HOST", "-s", "worker").out == "h2"


def test_what_runs_does_not_notice_and_deliveries_stay_recorded(jar: Callable[..., Coinjar], tmp_path: Path) -> None:
    with standin("saltmarsh", tmp_path / "s", "web-prod", "web-dev") as salt:
        cj = jar(
            "services: {web: {}}\nstages: {dev: {}, prod: {}}\nvariables: {X: {}, TOKEN: {secret: true}}\n"
            f"destinations:\n  salt: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}', "
            "app: '{service}-{stage}', token: {from_env: SALT}}\n",
            prod="all: {X: one}\n",
            dev="all: {X: two}\n",
        )
        cj.env |= {"SALT": salt.token}
        cj("put", "TOKEN", "--stage", "prod", stdin="made-up-token")
        for stage in ("prod", "dev"):
            cj("deliver", stage, "--restart")
        kept = json.dumps(salt.standin.state["apps"], sort_keys=True)
        cj("stages", "rename", "prod", "live", "--yes")
        cj("services", "rename", "web", "site", "--yes")
        cj("app", "rename", "trial", "ferry", "--yes")
        assert "stage_names: {live: prod}, service_names: {site: web}" in cj.read("jar/jar.yaml")
        assert "up to date" in cj("deliver", "live").out
        assert "up to date" in cj("deliver", "dev").out
        cj("drift", "live")
        assert json.dumps(salt.standin.state["apps"], sort_keys=True) == kept
        assert {row["stage"] for row in json.loads(cj("deliveries", "--json").out)} == {"live", "dev"}
        cj("put", "X=three", "--stage", "live")
        assert cj("deliver", "live", "--restart").out.count("X") == 1
        assert salt.standin.state["apps"]["web-prod"]["settings"]["X"] == "three"
        cj("deliveries", "undo", "1")  # from before the renames: its snapshot can still be opened
        assert "X" not in salt.standin.state["apps"]["web-prod"]["settings"]
        rows = {row["name"]: row for row in json.loads(cj("stages", "list", "--json").out)["stages"]}
        assert rows["live"]["delivered_to"] == "salt"
        assert rows["live"]["formerly"] == ["prod"]


def test_documents_and_scripts_that_people_write(parts: Coinjar) -> None:
    text = parts.read("jar/jar.yaml")
    parts.write(
        {
            "jar/jar.yaml": f"{text}destinations:\n  doc: {{type: document, path: 'deploy/{{stage}}.yaml', places: "
            "{/env: {service: web, variables: [HOST]}}}\n".replace("service: web, ", "services: [web], "),
            "deploy/prod.yaml": "env: {HOST: x}\n",
            "release.sh": "coinjar deliver prod\nnext deliver prod\ncoinjar deliver product\n",
        }
    )
    for words in (["init", "-q"], ["add", "-A"]):
        subprocess.run(["git", *words], cwd=parts.folder, check=True)
    done = parts("stages", "rename", "prod", "live", "--yes")
    assert (parts.folder / "deploy/live.yaml").read_text() == "env: {HOST: x}\n"
    assert not (parts.folder / "deploy/prod.yaml").exists()
    assert "release.sh:1:1: calls coinjar with prod: change it by hand" in done.err
    assert "release.sh:2" not in done.err
    assert "release.sh:3" not in done.err


DESTINATION = "moved_to: {a/a: x, a: y, ab/a: z}, account: {a: q}"
NAMES = st.sampled_from(["a", "a-b", "b", "ab"])


@settings(max_examples=80, suppress_health_check=list(HealthCheck))
@given(NAMES, st.sampled_from(["'a'", '"a"', "a"]), st.booleans())
def test_only_whole_names_change_and_every_other_byte_stays(other: str, written: str, crlf: bool) -> None:
    """`a` becomes `z` at every place that the table knows; its neighbours `a-b` and `ab` do not."""
    lines = [
        "coinjar: 1  # a",
        "app: a",
        f"stages: {{{written}: {{}}, a-b: {{follows: {written}}}, ab: {{}}, b: {{}}}}",
        f"destinations: {{a: {{stages: [{other}, {written}], {DESTINATION}}}}}",
        f"proofs: {{a: {{stages: [{written}], expect_on: {{a: a, ab: ab}}}}}}",
    ]
    data = ("\r\n" if crlf else "\n").join(lines).encode()
    done = in_jar_yaml(data, "f", NameChange(STAGE, "a", "z")).decode()
    assert len(done) == len(data)
    assert done.split("\n")[1].strip() == "app: a"
    assert "ab: {}, b: {}" in done
    assert "moved_to: {z/a: x, z: y, ab/a: z}" in done
    assert "expect_on: {z: a, ab: ab}" in done
    assert "destinations: {a: " in done
    assert in_jar_yaml(done.encode(), "f", NameChange(STAGE, "z", "a")) == data or "z}" in done


def test_a_service_in_a_reference_is_the_whole_name() -> None:
    text = b"all:\n  X: {text: '${A@of:web} ${A@of:web-2} ${A@url@of:web:-${B@of:web}} $${A@of:web} @of:web'}\n"
    assert in_values(text, "f", NameChange(SERVICE, "web", "site")) == (
        b"all:\n  X: {text: '${A@of:site} ${A@of:web-2} ${A@url@of:site:-${B@of:site}} $${A@of:web} @of:web'}\n"
    )


def test_every_place_of_a_stage_is_in_the_schema() -> None:
    """The table of places has paths that exist: a place that no option has would be dead."""
    schema = Path("src/coinjar/jarfile/schemas/jar.schema.json").read_text()
    for places in PLACES.values():
        for path, _ in places:
            assert f'"{path.partition("/")[0]}"' in schema
