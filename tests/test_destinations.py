"""Destinations that are files: written, shown, verified, refused; and served or run by the real programs."""

from __future__ import annotations

import csv
import json
import re
import subprocess
import tempfile
from collections.abc import Callable
from pathlib import Path

import pytest
import yaml
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from coinjar.dialects import BUILT_IN
from tests.conftest import Coinjar
from tests.consumers import need
from tests.jars import JAR, SECRET, TEMPLATES, made


def test_files_are_written_whole_private_and_only_if_all_is_well(jar: Callable[..., Coinjar]) -> None:
    cj = made(
        jar,
        (
            '  env: {type: file, as: literal, path: "out/{stage}/{service}.env"}\n'
            "  run: {type: file, as: exec-script, services: [web], stages: [prod], path: out/run}\n"
        ),
    )
    done = cj("render", "prod", "env")
    assert done.out.startswith("2 files written, 0 already up to date\n")
    env = cj.folder / "out/prod/web.env"
    assert f"TOKEN={SECRET}\n" in env.read_text()
    assert [(cj.folder / "out/prod" / name).stat().st_mode & 0o777 for name in ("web.env", "mailer.env")] == [
        0o600,
        0o644,
    ]
    assert cj("render", "prod", "env", "--verify").out == "all 2 files up to date\n"
    env.chmod(0o644)
    assert "only its mode changes: only its owner may read it" in cj("render", "prod", "env", "--dry-run").out
    assert "1 of 2 files out of date" in cj("render", "prod", "env", "--verify", code=1).out
    cj("render", "prod")
    assert env.stat().st_mode & 0o777 == 0o600
    assert (cj.folder / "out/run").stat().st_mode & 0o777 == 0o700
    assert (
        subprocess.run(
            [cj.folder / "out/run", "printenv", "TOKEN_LINE"], capture_output=True, text=True, check=True
        ).stdout
        == f"t={SECRET}\n"
    )
    before = {path: path.read_bytes() for path in (cj.folder / "out").rglob("*") if path.is_file()}
    cj("put", "LEVEL=a\nb", "--stage", "prod", "--service", "mailer")
    cj("put", "PORT=81", "--stage", "prod")
    message = cj("render", "prod", code=3).err
    assert "env on prod: literal cannot carry LEVEL: it has a line break" in message
    assert {path: path.read_bytes() for path in before} == before


def test_a_diff_shows_what_changes_and_no_secret(jar: Callable[..., Coinjar]) -> None:
    cj = made(
        jar,
        "".join(
            f"  d{number}: {{type: file, as: {name}, services: [web], stages: [prod], path: out/{name}}}\n"
            for number, name in enumerate(("posix", "json", "yaml", "systemd", "pairs", "kube-secret", "exec-script"))
        ),
    )
    cj("render", "prod")
    cj("put", "TOKEN", "--stage", "prod", stdin="another\nmade-up")
    cj("put", "LEVEL=debug", "--stage", "prod")
    shown = cj("render", "prod", "--dry-run").out
    for text in (SECRET, "another", "bWFkZS11c", "YW5vdGhlc"):
        assert text not in shown
    assert shown.count("debug") >= 6
    assert "-TOKEN = •••• 14 chars #1\n" in shown
    assert re.search(r"\+TOKEN = •••• 15 chars #\d+\n\+••••\n", shown)
    cj.write({"out/json": '{"TOKEN": "left-by-hand" oops'})
    shown = cj("render", "prod", "d1", "--dry-run").out
    assert "left-by-hand" not in shown
    assert "-•••• (a file that cannot be read and may contain secrets)" in shown


def test_secrets_do_not_go_into_version_control(jar: Callable[..., Coinjar]) -> None:
    cj = made(
        jar,
        (
            "  env: {type: file, as: json, services: [web], stages: [prod], path: out.json}\n"
            "  safe: {type: file, as: json, services: [web], stages: [prod], path: safe.json, plain_only: "
            "true}\n"
        ),
    )
    need("git")
    subprocess.run(["git", "init", "-q"], cwd=cj.folder, check=True)
    assert (
        "out.json: this file will contain a secret, but version control does not ignore it" in cj("render", "prod").err
    )
    (cj.folder / "alias.json").symlink_to("out.json")
    subprocess.run(["git", "add", "-A"], cwd=cj.folder, check=True)
    message = cj("render", "prod", code=3).err
    assert "out.json: env would write a secret to a file that version control tracks" in message
    assert "secrets: …" in message
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("path: out.json", "path: alias.json")})
    assert "alias.json: env would write a secret" in cj("render", "prod", code=3).err
    cj.write(
        {
            "jar/jar.yaml": cj.read("jar/jar.yaml").replace(
                "path: alias.json", "path: alias.json, secrets: 'vault/{name}'"
            )
        }
    )
    cj("render", "prod")
    assert json.loads(cj.read("out.json"))["TOKEN_LINE"] == "vault/TOKEN_LINE"
    assert "TOKEN" not in cj.read("safe.json")


def test_settings_hold_only_what_differs_typed_and_in_place(jar: Callable[..., Coinjar]) -> None:
    for suffix, load in (("json", json.loads), ("yaml", yaml.safe_load)):
        cj = made(
            jar,
            f'  s: {{type: file, as: settings, services: [mailer], base: s.{suffix}, path: "s.{{stage}}.{suffix}"}}\n',
            dev="all: {MAIL_ON: yes, FARES: {b: true}, PIERS: [north]}\n",
        )
        own = {
            "json": '{"framework": {"n": 1.10},\n "mail": {"subject": "x"}}\n',
            "yaml": "# by hand\nframework: {n: 1.10}   # kept\nmail:\n  subject: x\n",
        }[suffix]
        cj.write({f"s.{suffix}": own, f"s.dev.{suffix}": '{"LEVEL": "stale", "mine": 1}\n'})
        cj("render", "--every-stage")
        base = cj.read(f"s.{suffix}")
        assert own.split("\n")[0 if suffix == "json" else 1] in base
        assert load(base) == {
            "framework": {"n": 1.1},
            "mail": {"subject": "x", "on": False},
            "PORT": 8080,
            "LEVEL": "info",
            "PIERS": ["north", "south"],
            "FARES": {"a": [1.1, None]},
        }
        assert "1.10" in base
        assert load(cj.read(f"s.dev.{suffix}")) == {
            "mine": 1,
            "mail": {"on": True},
            "FARES": {"b": True},
            "PIERS": ["north"],
        }
        assert load(cj.read(f"s.prod.{suffix}")) == {"LEVEL": "error", "MAIL": {"HOST": "mail.example"}}
        assert cj("render", "--every-stage", "--verify").out.startswith("all 4 files")
        for stage in ("dev", "prod"):
            assert "different" not in cj("compare", f"dest:s@{stage}", stage, code=None).out.split("\n")[0]
        message = cj(
            "adopt", f"file+settings:s.{suffix},s.dev.{suffix}", "--stage", "dev", "--service", "mailer", code=1
        ).out
        assert "+  framework__n" in message
        assert "5 the same" in message
        cj("put", "LEVEL", "--unset", "--stage", "dev")
        assert (
            "LEVEL is unset on dev, but a settings file cannot remove what its base contains"
            in cj("render", "dev", code=3).err
        )


def test_one_file_for_all_stages(jar: Callable[..., Coinjar]) -> None:
    cj = made(
        jar,
        (
            "  p: {type: file, as: stage-prefixed, services: [mailer], variables: [LEVEL, PORT], path: "
            "all.json}\n  c: {type: file, as: csv, services: [mailer], path: all.csv}\n"
        ),
    )
    cj.write({"all.json": '{"OTHER": "x", "PROD_GONE": "y"}\n'})
    cj("render", "--every-stage")
    assert json.loads(cj.read("all.json")) == {
        "OTHER": "x", "DEV_PORT": "8080", "DEV_LEVEL": "info", "PROD_PORT": "8080", "PROD_LEVEL": "error",
        "PROD_ISLES_PORT": "8080", "PROD_ISLES_LEVEL": "error",
    }  # fmt: skip
    rows = {row["name"]: row for row in csv.DictReader(cj.read("all.csv").splitlines())}
    assert rows["LEVEL"] == {"name": "LEVEL", "dev": "info", "prod": "error", "prod-isles": "error"}
    assert rows["MAIL__HOST"]["dev"] == ""
    assert cj("render", "--every-stage", "--as", "csv", "-s", "mailer").out == cj.read("all.csv")
    cj.write({"all.json": cj.read("all.json").replace("PROD_ISLES_LEVEL", "PROD_ISLES_NEW")})
    result = cj("adopt", "file+stage-prefixed:all.json", "--yes", "--service", "mailer")
    assert (
        "all.json:1:2: ignored: OTHER does not begin with a stage's name (the stages are dev, prod, prod-isles)"
        in result.err
    )
    assert yaml.safe_load(cj.read("jar/plain/prod-isles.yaml")) == {"mailer": {"NEW": "error"}}
    cj("put", "LEVEL=(empty)", "--stage", "dev")
    assert "LEVEL,((empty)),error" in cj("render", "--every-stage", "--as", "csv", "-s", "mailer").out
    cj.write(
        {
            "all.csv": "\ufeff"
            + cj.read("all.csv")
            .replace(",", ";")
            .replace("prod-isles", "prod-isles;remarks")
            .replace("LEVEL;info", "LEVEL;(empty)")
            .replace("PORT;8080;8080", "PORT;8080.0;81")
        }
    )
    result = cj("adopt", "file:all.csv", "--service", "mailer", "--yes")
    assert "8080 → 81" in result.out
    assert "all.csv:1:1: ignored: the column 'remarks' is not a stage" in result.err
    assert yaml.safe_load(cj.read("jar/plain/dev.yaml"))["mailer"]["LEVEL"] == ""
    assert "PORT: the value of PORT is not a port" in result.err
    clash = made(
        jar,
        "  p: {type: file, as: stage-prefixed, services: [web], variables: [ISLES_X], path: all.json}\n",
        dev="all: {}\n",
    )
    clash.write({"jar/jar.yaml": clash.read("jar/jar.yaml").replace("  PORT:", "  ISLES_X: {default: x}\n  PORT:")})
    assert "PROD_ISLES_X would be read as a name of the stage prod-isles" in clash("render", "prod", code=3).err


def test_templates_replace_declared_names_alone(jar: Callable[..., Coinjar]) -> None:
    cj = made(jar, TEMPLATES + "    allow: {site.fill: '[a-z0-9]*'}\n")
    cj.write({
        "in/site.fill": "listen ${PORT};\n$host ${host} $PORT $$ ${LEVEL}${LEVEL}\n${NO_SUCH} ${level} ${PORT:-1}\n",
        "in/sub/token.fill": "a\nkey=${TOKEN}\nb\n", "in/readme": "x", "in/none.fill": "nothing\n", "out/prod/old": "x",
    })  # fmt: skip
    message = cj("render", "prod").err
    assert (
        cj.read("out/prod/site") == "listen 8080;\n$host ${host} $PORT $$ errorerror\n${NO_SUCH} ${level} ${PORT:-1}\n"
    )
    assert (cj.folder / "out/prod/sub/token").stat().st_mode & 0o777 == 0o600
    assert [line for line in message.splitlines() if not line.startswith(" ")] == [
        "in/none.fill: this template uses no declared name",
        "in/readme: its name does not end in .fill, so it is not a template, and was skipped",
        "in/site.fill:3:1: ${NO_SUCH} was left unchanged: NO_SUCH is not declared",
        "in/site.fill:3:12: ${level} was left unchanged: the declared name is LEVEL",
        "in/site.fill:3:21: ${PORT:-…} was left unchanged: templates support only ${NAME}",
        "out/prod/old: no template produces this file any more",
    ]
    cj("put", "TOKEN", "--stage", "prod", stdin="other")
    cj.write({"in/sub/token.fill": "a\nkey=${TOKEN}\nc\n"})
    assert cj("render", "prod", "--dry-run").out.splitlines()[3:] == [
        " a",
        "-•••• (a line that may contain a secret)",
        "-•••• (a line that may contain a secret)",
        "+•••• (a line that contains TOKEN)",
        "+c",
    ]
    cj.write({"in/site.fill": "${LEVEL} ${MAIL__HOST}\n"})
    cj("put", "LEVEL=a; evil", "--stage", "prod")
    message = cj("render", "prod", code=3).err
    assert (
        "in/site.fill:1:1: the value of LEVEL for web on prod does not match what this template allows ([a-z0-9]*)"
        in message
    )
    assert "in/site.fill:1:10: MAIL__HOST has no value for web on prod" in message
    assert "evil" not in message
    cj.write(
        {
            "jar/jar.yaml": cj.read("jar/jar.yaml").replace("allow: {site.fill: '[a-z0-9]*'}", "bare: true"),
            "in/site.fill": "$PORT $host ${PORT}x$PORTS\n",
        }
    )
    cj("render", "prod")
    assert cj.read("out/prod/site") == "8080 $host 8080x$PORTS\n"


@pytest.mark.parametrize(
    ("destination", "expected"),
    [
        ("{type: file, as: json, path: x.json}", "the destination d has 2 services (web, mailer), but a path for one"),
        ("{type: file, as: jsn, path: 'x/{stagee}', pth: 1}", "there is no dialect 'jsn'\n    did you mean 'json'?"),
        ("{type: file, as: json, path: 'x/{stagee}'}", "jar/jar.yaml:15:35: '{stagee}' in path of d is not defined"),
        ("{type: fiel, path: x}", "there is no destination type 'fiel'\n    did you mean 'file'?"),
        ("{type: templates, from: in}", "the destination d has no 'to'"),
        ("{type: file, as: json, base: x, services: [web], path: x}", "'base' requires as: settings"),
        ("{type: manifests, from: none, to: out}", "none: there are no manifests (*.yaml, *.yml) there"),
    ],
)  # fmt: skip
def test_faults_of_declarations(jar: Callable[..., Coinjar], destination: str, expected: str) -> None:
    cj = made(jar, f"  d: {destination}\n")
    assert expected in cj("render", "prod", code=3).err
    finding = next(
        finding for finding in json.loads(cj("check", "--json", code=1).out)["findings"] if finding["rule"] == "CJ017"
    )
    assert finding["message"].removeprefix("d: ") in cj("render", "prod", code=3).err


def test_wrong_usage_and_collisions(jar: Callable[..., Coinjar]) -> None:
    cj = made(
        jar,
        (
            "  a: {type: file, as: json, services: [web], path: x.json}\n"
            "  b: {type: file, as: json, services: [web], stages: [dev], path: b.json}\n"
        ),
    )
    assert "a on dev and a on prod would both write x.json" in cj("render", "--every-stage", "a", code=3).err
    for arguments, words in {
        ("prod", "b"): "the destination b is not for prod",
        ("prod", "c"): "there is no destination 'c'",
        (): "which stage?",
        ("prod", "--with", "A=1"): "--service, --with, --encrypt-to and --keep-set require --as",
        ("prod", "a", "--as", "json"): "--as writes to stdout",
        ("--every-stage", "--as", "json", "-s", "web"): "json supports one stage",
        ("prod", "--keep", "1"): "--keep requires --stale",
        ("prod", "--stale"): "none of these destinations keeps earlier objects",
    }.items():
        assert words in cj("render", *arguments, code=2).err
    assert "the jar has no destinations" in jar(JAR)("render", "dev", code=2).err


@settings(max_examples=16, suppress_health_check=list(HealthCheck))
@given(
    st.sampled_from([name for name in BUILT_IN if name not in ("example", "csv", "stage-prefixed", "containerfile")]),
    st.lists(st.text(st.sampled_from("aZ9 '\"\\$#\n\té=:-"), min_size=1, max_size=12), min_size=3, max_size=3),
)
def test_no_diff_shows_a_secret(dialect: str, texts: list[str]) -> None:
    """Whatever the secret, the file before it and the file after: what is shown of both is the same for any other
    secret of its shape.
    """
    shown = []
    for mark in ("made-up-one", "made-up-two"):
        old, new, other = (mark + text + mark for text in texts)
        with tempfile.TemporaryDirectory() as folder:
            cj = Coinjar(Path(folder))
            cj.write(
                {
                    "jar/jar.yaml": (
                        "coinjar: 1\napp: t\n"
                        f"{JAR}destinations: {{d: {{type: file, as: {dialect}, services: [web], path: out}}}}\n"
                    ),
                    "jar/plain/prod.yaml": json.dumps({"all": {"TOKEN": old, "LEVEL": "x"}}),
                }
            )
            if cj("render", "prod", code=None).code:
                return  # this dialect cannot carry it
            cj.write(
                {"jar/plain/prod.yaml": json.dumps({"all": {"TOKEN": new, "LEVEL": "y"}, "web": {"TOKEN": other}})}
            )
            done = cj("render", "prod", "--dry-run", code=None)
            shown.append((done.code, done.out, done.err))
            assert "made-up" not in done.out + done.err
    assert shown[0] == shown[1]


def test_what_stands_elsewhere_in_a_file_is_masked_too(jar: Callable[..., Coinjar]) -> None:
    cj = made(
        jar,
        (
            "  ci: {type: document, path: ci.yaml, services: [web], plain_only: true, places: {/env: {}}}\n"
            "  k8s: {type: manifests, from: k8s, to: 'out/{stage}', plain_only: true}\n"
            "  b: {type: oci-bundle, services: [web], stages: [prod], path: config.json, plain_only: true}\n"
            "  i: {type: containerfile, services: [web], stages: [prod], path: Containerfile, plain_only: "
            "true}\n"
        ),
    )
    cj.write({
        "ci.yaml": (
            "env: {LEVEL: old}\nother: {API_TOKEN: made-up-1}\nlist:\n- --password=made-up-2\n"
            "- name: DB_PASSWORD\n  value: made-up-3\n- same: made-up-3\n"
        ),
        "k8s/a.yaml": (
            "kind: Pod\nmetadata: {name: web}\nspec:\n  containers:\n  - name: web\n"
            "    args: [--token=made-up-4]\n    env:\n    - {name: LEVEL, value: old}\n---\nkind: Secret\n"
            "metadata: {name: s}\nstringData: {pin: made-up-5}\n"
        ),
        "config.json": '{"process": {\n"env": ["LEVEL=old",\n"TOKEN=made-up-6", "TOKEN=made-up-7"]}}\n',
        "Containerfile": (
            "FROM a\nENV TOKEN=made-up-8\n# coinjar: begin\n# coinjar: end\nFROM b\n# coinjar: begin\n"
            "# coinjar: end\n"
        ),
    })  # fmt: skip
    done = cj("render", "prod", "--dry-run")
    assert done.out.count("•••• 9 chars") >= 6
    assert "made-up" not in done.out + done.err
