"""Documents: what is edited, what stays byte for byte, what a step sees."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from coinjar.core.errors import CoinJarError
from coinjar.documents.edit import apply
from coinjar.documents.environments import edits, held
from coinjar.documents.implicit_types import implicit_type
from coinjar.documents.jsontree import build_json_tree
from coinjar.documents.pointer import follow
from coinjar.documents.tree import build_tree
from tests.conftest import Coinjar, on_a_terminal

pytestmark = pytest.mark.unit

NAMES = ["A", "LONG_NAME", "y", "on", "N0", "with-dash", "null"]
TEXTS = st.one_of(
    st.text(st.sampled_from("aZ0 .:#'\"\\{}[],&*!|>%@`-?~$=\n\té"), max_size=12),
    st.sampled_from(["yes", "1.10", "null", "0755", "~", "a\nb\n", "2026-01-01", "", " "]),
)
ENTRIES = st.dictionaries(st.sampled_from(NAMES), TEXTS, max_size=5)


def quoted(text: str) -> str:
    return json.dumps(text)


def environment(form: str, entries: dict[str, str], indent: str) -> str:
    """An environment as a person may have written it; the text behind `env:`."""
    if not entries:
        return " {}\n" if form.endswith("map") else " []\n"
    if form == "flow map":
        return " {" + ", ".join(f"{quoted(name)}: {quoted(text)}" for name, text in entries.items()) + "}  # flow\n"
    if form == "flow lines":
        return " [" + ", ".join(quoted(f"{name}={text}") for name, text in entries.items()) + "]\n"
    line = {
        "map": "{name}: {text}   # of {name}",
        "lines": "- {line}",
        "pairs": "- name: {name}\n{indent}  value: {text}",
    }[form]
    lines = [
        line.format(name=quoted(name), text=quoted(text), line=quoted(f"{name}={text}"), indent=indent)
        for name, text in entries.items()
    ]
    return "   # here\n" + "".join(f"{indent}{line}\n{indent}# between\n" for line in lines)


@settings(max_examples=400)
@given(
    st.sampled_from(["map", "lines", "pairs", "flow map", "flow lines"]),
    ENTRIES,
    ENTRIES,
    st.sampled_from(["  ", "      "]),
    st.sampled_from(["\n", "\r\n"]),
)
def test_only_the_environment_changes(
    form: str, before: dict[str, str], after: dict[str, str], indent: str, newline: str
) -> None:
    top = "# top\nsteps: &s  # anchored\n  - {run: 'x', n: 1.10}\njob:\n  env:"
    end = '  other: "kept"   # yes\nalias: *s\nenv: {A: untouched}\n'
    text = (top + environment(form, before, "  " + indent) + end).replace("\n", newline)
    match = follow(build_tree(text), "/job/env")
    kept = form.removeprefix("flow ")
    changes = edits(match.node, match.path, kept, after, [name for name in before if name not in after])
    done = apply(text.encode(), "f", changes, careful=True).decode() if changes else text
    assert done.startswith(top.replace("\n", newline)) or not after
    assert done.endswith(end.replace("\n", newline))
    loaded = yaml.safe_load(done)["job"].get("env") or {}
    if kept == "map":
        assert loaded == after
    elif kept == "lines":
        assert dict(entry.split("=", 1) for entry in loaded) == after
    else:
        assert {entry["name"]: entry["value"] for entry in loaded} == after
    assert newline == "\n" or "\n" not in done.replace("\r\n", "")


@settings(max_examples=150)
@given(st.sampled_from(["map", "lines", "pairs"]), ENTRIES, ENTRIES, st.sampled_from([None, 2, 4]))
def test_the_same_in_json(form: str, before: dict[str, str], after: dict[str, str], indent: int | None) -> None:
    def data(entries: dict[str, str]) -> Any:
        return (
            entries
            if form == "map"
            else [
                f"{name}={text}" if form == "lines" else {"name": name, "value": text} for name, text in entries.items()
            ]
        )

    text = json.dumps(
        {"a": [1.10, None, True], "process": {"env": data(before), "cwd": "/"}, "z": "\u00e9"}, indent=indent
    )
    match = follow(build_json_tree(text, "f"), "/process/env")
    changes = edits(match.node, match.path, form, after, [name for name in before if name not in after])
    done = json.loads(apply(text.encode(), "f", changes, as_json=True)) if changes else json.loads(text)
    env = done["process"].pop("env", data({}))
    assert done == {"a": [1.10, None, True], "process": {"cwd": "/"}, "z": "\u00e9"}
    read = (
        env
        if form == "map"
        else dict(item.split("=", 1) if form == "lines" else (item["name"], item["value"]) for item in env)
    )
    assert read == after


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("true", "a boolean, true"), ("42", "a number, 42"), ("1.10", "a number, 1.1"), ("null", "null, "), ("0755", "a number, 493"),
        ("yes", "a boolean to readers of YAML 1.1, true"), ("N", "a boolean to readers of YAML 1.1, false"), ("1e3", "a number to readers of YAML 1.2, 1000"),
        ("0o17", "a number to readers of YAML 1.2, 15"), ("2026-01-01", "a date, 2026-01-01"), ("1:30", "a number, 90"), ("text", None), ("'1'", None), ("2026-99-99", None),
    ],
)  # fmt: skip
def test_what_bare_scalars_become(text: str, words: str | None) -> None:
    tree = build_tree(text)
    assert tree
    result = implicit_type(tree)
    assert (", ".join(result) if result else None) == words


def test_pointers() -> None:
    root = build_tree("jobs:\n- name: a/b\n  env: {X: '1'}\n- name: c\nm~n: {k: v}\n")
    for pointer, path in {
        "": (),
        "/jobs/0/env": ("jobs", 0, "env"),
        "/jobs/[name=a~1b]/env": ("jobs", 0, "env"),
        "/m~0n/k": ("m~n", "k"),
        "/jobs/[name=c]/env": ("jobs", 1, "env"),
    }.items():
        assert follow(root, pointer).path == path
    for pointer, message in {
        "jobs": "'jobs' is not a JSON Pointer",
        "/a~2": "'/a~2' has an invalid escape with '~'",
        "/job/x": "/job/x does not exist: the document has no 'job'",
        "/jobs/[name=d]/env": "/jobs/[name=d]/env does not exist: no element of /jobs has name: d",
        "/jobs/7/env": "/jobs/7/env does not exist: /jobs has no '7'",
    }.items():
        with pytest.raises(CoinJarError) as caught:
            follow(root, pointer)
        assert str(caught.value) == message
        assert caught.value.hint
    assert [entry.name for entry in held(follow(root, "/jobs/0/env").node)] == ["X"]


JAR = """\
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {}}
variables:
  LEVEL: {default: info}
  PORT: {kind: port, default: 8080}
  SALT: {default: 'a$b'}
  TOKEN: {secret: true}
  GONE: {default: {unset: true}}
"""
PIPELINE = """\
# by hand
env: {GONE: x, MINE: 'kept'}
jobs:
- name: one     # first
  env:
    LEVEL: "old"
  steps: [{run: a, env: [PORT=1]}]
- name: two
  steps:
  - run: b
"""


def pipeline(jar: Callable[..., Coinjar], places: str, *, more: str = "", **plain: str) -> Coinjar:
    cj = jar(
        JAR
        + f"destinations:\n  ci:\n    type: document\n    path: ci.yaml\n    services: [web]\n{more}    places:\n{places}",
        **plain,
    )
    cj.write({"ci.yaml": PIPELINE})
    return cj


THREE = "      /env: {services: []}\n      '/jobs/[name=one]/env': {stage: prod, without: [TOKEN, SALT]}\n      '/jobs/[name=two]/env': {stage: prod, variables: [LEVEL, PORT]}\n"


def test_levels_are_brought_in_step_and_moved_up(jar: Callable[..., Coinjar]) -> None:
    cj = pipeline(jar, THREE, prod="all: {TOKEN: x}\n")
    cj("render", "prod")
    inside = '  env:\n    LEVEL: info\n    PORT: "8080"\n'
    expected = PIPELINE.replace('LEVEL: "old"\n', 'LEVEL: "info"\n    PORT: "8080"\n') + inside
    assert cj.read("ci.yaml") == expected
    cj("render", "prod", "--verify")
    cj("render", "prod", "--move-up")
    moved = yaml.safe_load(cj.read("ci.yaml"))
    assert moved["env"] == {"GONE": "x", "MINE": "kept", "LEVEL": "info", "PORT": "8080"}
    assert "env" not in moved["jobs"][0]
    assert "env" not in moved["jobs"][1]
    cj("render", "prod", "--verify")  # what was moved up stays there
    cj("put", "LEVEL=debug", "--stage", "prod")
    cj("render", "prod")
    assert yaml.safe_load(cj.read("ci.yaml"))["env"]["LEVEL"] == "debug"


def test_a_level_between_is_not_overlooked(jar: Callable[..., Coinjar]) -> None:
    """What the widest level says must be said again below one that says something else."""
    places = "      /env: {variables: [LEVEL]}\n      '/jobs/[name=one]/env': {without: [LEVEL, SALT]}\n      '/jobs/[name=one]/steps/0/env': {variables: [LEVEL]}\n"
    cj = pipeline(jar, places, more="    plain_only: true\n")
    cj("render", "prod")
    done = yaml.safe_load(cj.read("ci.yaml"))
    assert (done["env"]["LEVEL"], done["jobs"][0]["env"]["LEVEL"], done["jobs"][0]["steps"][0]["env"]) == (
        "info",
        "old",
        ["PORT=1", "LEVEL=info"],
    )
    cj("render", "prod", "--move-up")  # nothing is taken to a level that does not take it
    assert yaml.safe_load(cj.read("ci.yaml")) == done


def test_why_tells_what_a_step_sees(jar: Callable[..., Coinjar]) -> None:
    places = "      /env: {}\n      '/jobs/[name=one]/env': {stage: prod, decided_by: [/env]}\n"
    cj = pipeline(jar, places, more="    plain_only: true\n")
    cj.write({"ci.yaml": PIPELINE.replace("GONE: x", "LEVEL: above")})
    message = " ".join(cj("why", "LEVEL", "--in", "ci", "--at", "/jobs/[name=one]").out.split())
    assert message.startswith(
        "LEVEL = above at /jobs/[name=one]/env level, narrowest first value where overridden /jobs/[name=one]/env old ci.yaml:6:5 ✓ wins /env above ci.yaml:2:7"
    )
    assert "the jar has 'info' for web on prod: `coinjar render prod ci` updates it" in message
    data = json.loads(cj("why", "LEVEL", "--in", "ci", "--at", "/jobs/[name=one]/env", "--json").out)
    assert [(level["at"], level["says"], level["wins"]) for level in data["levels"]] == [
        ("/jobs/[name=one]/env", "old", False),
        ("/env", "above", True),
    ]
    message = cj("check", code=None).out
    assert "ci.yaml:6:5: warning CJ019: LEVEL at /jobs/[name=one]/env has no effect: /env above decides it" in message
    assert cj("why", "MINE", "--in", "ci.yaml", "--at", "/jobs/[name=two]/steps/0").out.startswith("MINE = kept")
    assert "No level of the document sets it" in cj("why", "PORT", "--in", "ci.yaml", "--at", "/jobs/[name=two]").out
    for arguments, words in {
        ("LEVEL", "--in", "ci"): "--in and --at require each other", ("LEVEL",): "why requires a stage and a variable", ("X", "--in", "none", "--at", "/a"): "there is no document 'none'",
    }.items():  # fmt: skip
        assert words in cj("why", *arguments, code=2).err


def test_documents_tell_what_will_surprise(jar: Callable[..., Coinjar]) -> None:
    places = "      /env: {services: [web, mailer]}\n      '/jobs/[name=one]/env': {stage: prod}\n      '/jobs/[name=one]/steps/0/env': {stage: prod}\n      '/jobs/[name=two]/env': {}\n"
    cj = pipeline(jar, places, more="    plain_only: true\n", prod="web: {LEVEL: error}\n")
    cj.write({"ci.yaml": PIPELINE.replace("MINE: 'kept'", "MINE: 1.10, ALSO: no")})
    result = cj("render", "prod", "--dry-run")
    for line in (
        "ci.yaml:2:16: MINE at /env is a number, and is read as the text '1.1'",
        "ci.yaml:2:28: ALSO at /env is a boolean to readers of YAML 1.1, and is read as the text 'false'",
        "jar/jar.yaml:21:7: /jobs/[name=two]/env has no stage, and gets the values of shared",
    ):
        assert line in result.err
    assert "+  steps: [{run: a, env: [PORT=8080]}]" in result.out  # what the job says need not be said again


def test_secrets_in_documents_are_references(jar: Callable[..., Coinjar]) -> None:
    places = "      '/jobs/[name=two]/env': {stage: prod}\n"
    cj = pipeline(
        jar, places, more='    secrets: "(vault {name})"\n    dollars: doubled\n', prod="all: {TOKEN: made-up}\n"
    )
    assert '+    TOKEN: "(vault TOKEN)"' in cj("render", "prod", "--dry-run").out
    cj("render", "prod")
    env = yaml.safe_load(cj.read("ci.yaml"))["jobs"][1]["env"]
    assert env == {"LEVEL": "info", "PORT": "8080", "SALT": "a$$b", "TOKEN": "(vault TOKEN)"}
    assert cj("compare", "dest:ci@prod", "prod", "--name", "SALT").out.startswith("dest:ci@prod and prod: 1 the same")
    (cj.folder / "ci.yaml").chmod(0o644)
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace('    secrets: "(vault {name})"\n', "")})
    shown = cj("render", "prod", "--dry-run").out
    assert "•••• 7 chars" in shown
    assert "made-up" not in shown
    cj("render", "prod")
    assert (cj.folder / "ci.yaml").stat().st_mode & 0o777 == 0o600


@pytest.mark.parametrize(
    ("places", "expected"),
    [
        ("      /jbos/x: {}\n", "ci.yaml: /jbos/x does not exist: the document has no 'jbos'"),
        ("      env: {}\n", "jar/jar.yaml:18:7: 'env' is not a JSON Pointer"),
        (
            "      /env: {stage: produ, services: [wbe], form: list, decided_by: [/x], what: 1}\n",
            "unknown key 'what' in the place /env",
        ),
        ("      /jobs/0/name: {}\n", "/jobs/0/name: this is not an environment: it must be a map or a list"),
    ],
)
def test_faults_of_places_have_their_position(jar: Callable[..., Coinjar], places: str, expected: str) -> None:
    cj = pipeline(jar, places, more="    plain_only: true\n")
    assert expected in cj("render", "prod", code=3).err
    assert "CJ017" in cj("check", code=1).out
    assert cj.read("ci.yaml") == PIPELINE


def test_documents_of_their_own_for_each_stage_in_every_form(jar: Callable[..., Coinjar]) -> None:
    places = "      /a/env: {form: lines}\n      /b: {form: pairs, variables: [LEVEL]}\n      /c: {variables: [LEVEL, 'PO*']}\n"
    cj = pipeline(jar, places, more="    plain_only: true\n", prod="all: {LEVEL: error}\n")
    cj.write(
        {
            "jar/jar.yaml": cj.read("jar/jar.yaml").replace("path: ci.yaml", "path: 'ci.{stage}.json'"),
            "ci.dev.json": '{"a": {"x": [1.10]}}\n',
            "ci.prod.json": '{\n\t"a": {"env": ["LEVEL=old", "BARE"]},\n\t"c": {"MINE": 1}\n}\n',
        }
    )
    cj("render", "--every-stage")
    assert json.loads(cj.read("ci.dev.json")) == {
        "a": {"x": [1.1], "env": ["LEVEL=info", "PORT=8080", "SALT=a$b"]}, "b": [{"name": "LEVEL", "value": "info"}], "c": {"LEVEL": "info", "PORT": "8080"},
    }  # fmt: skip
    assert "1.10" in cj.read("ci.dev.json")
    prod = json.loads(cj.read("ci.prod.json"))
    assert prod["a"] == {"env": ["LEVEL=error", "BARE", "PORT=8080", "SALT=a$b"]}
    assert prod["c"] == {"MINE": 1, "LEVEL": "error", "PORT": "8080"}
    assert cj("render", "--every-stage", "--verify").out == "all 2 files up to date\n"
    assert cj("why", "prod", "LEVEL", "--in", "ci", "--at", "/a").out.startswith("LEVEL = error")
    assert "is different on each stage" in cj("why", "LEVEL", "--in", "ci", "--at", "/a", code=2).err
    assert cj("compare", "dest:ci@prod", "prod", "--name", "LEVEL").out.startswith("dest:ci@prod and prod: 1 the same")


def test_an_environment_that_others_share_is_not_touched(jar: Callable[..., Coinjar]) -> None:
    cj = pipeline(jar, "      /jobs/1/env: {stage: prod}\n", more="    plain_only: true\n")
    shared = "jobs:\n- env: &e {LEVEL: old, MINE: x}\n- env: *e\n"
    for text in (shared, "jobs:\n- {}\n- env:\n    ? LEVEL\n    : old\n"):
        cj.write({"ci.yaml": text})
        assert (
            "ci.yaml: changing LEVEL, PORT, SALT here would also change something else"
            in cj("render", "prod", code=3).err
        )
        assert cj.read("ci.yaml") == text


def test_render_completes_and_colours_its_diff(demo: Coinjar) -> None:
    env = {"_COINJAR_COMPLETE": "complete_bash", "COMP_CWORD": "3", "COMP_WORDS": "coinjar render prod pi"}
    assert "pipeline" in demo(code=None, env=env).out
    shown = on_a_terminal(demo, "render", "prod", "pipeline", "--dry-run")
    assert "\x1b[32m+        variables: {LOG_LEVEL: error, MAIL_HOST: mail.sandling.example}\x1b[0m" in shown
    assert "\x1b[31m-        variables: {LOG_LEVEL: info}\x1b[0m" in shown


MERGED = "base: &base\n  A: 1\n  B: '2' # from the base\nmore: &more {C: '3'}\nenv:\n  <<: [*base, *more]\n  D: '4'\n"


@pytest.mark.parametrize(
    ("values", "environment", "expected"),
    [
        ("{A: 1, B: 2, C: 3, D: 4}", {"A": "1", "B": "2", "C": "3", "D": "4"}, ""),
        ("{A: 1, B: 5, C: 3, D: 4}", {"A": "1", "B": "5", "C": "3", "D": "4"}, ""),
        (
            "{A: 1, B: 2, D: 6}",
            {"A": "1", "B": "2", "C": "3", "D": "6"},
            "C at /env comes from an anchor ('<<'), and is left unchanged",
        ),
        ("{A: 1}", {"A": "1", "B": "2", "C": "3"}, "B at /env comes from an anchor"),
    ],
)
def test_what_an_anchor_brings_counts_as_there(
    values: str, environment: dict[str, str], expected: str, jar: Callable[..., Coinjar]
) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {}, B: {}, C: {}, D: {}}\n"
        "destinations: {doc: {type: document, path: d.yaml, places: {/env: {services: [web], stage: dev}}}}\n",
        dev=f"all: {values}\n",
    )
    cj.write({"d.yaml": MERGED})
    for _ in range(2):
        done = cj("render", "dev")
        assert expected in done.err
        assert {name: str(text) for name, text in yaml.safe_load(cj.read("d.yaml"))["env"].items()} == environment
        assert cj.read("d.yaml").startswith(MERGED.partition("env:")[0])
    assert "0 files written" in cj("render", "dev").out


@pytest.mark.parametrize(
    ("before", "values", "after"),
    [  # a comment behind what stays, in flow style
        ("env: {A: '1', # keep A\n  B: '2'}\n", "{A: 1}", "env: {A: '1' # keep A\n  }\n"),
        ("env: [\n  A=1, # keep A\n  B=2 # goes\n]\n", "{A: 1}", "env: [\n  A=1 # keep A\n]\n"),
        (
            "env: {\n  A: '1', # goes\n  B: '2', # keep B\n  C: '3' # goes, too\n}\n",
            "{B: 2}",
            "env: {\n  B: '2' # keep B\n}\n",
        ),
        ("env: {\n  A: '1' # keep A\n  , B: '2'\n}\n", "{A: 1}", "env: {\n  A: '1' # keep A\n}\n"),
        # a list at its key's column, with a comment above
        ("env:\n# above\n- A=1\n- B=2\nz: 1\n", "{}", "env: []\n# above\nz: 1\n"),
        ("env: # beside\n# above\n- {name: A, value: '1'}\nz: 1\n", "{}", "env: [] # beside\n# above\nz: 1\n"),
    ],
)
def test_comments_of_others_stay(before: str, values: str, after: str, jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {}, B: {}, C: {}}\n"
        "destinations: {doc: {type: document, path: d.yaml, places: {/env: {services: [web], stage: dev}}}}\n",
        dev=f"all: {values}\n" if values != "{}" else "",
    )
    cj.write({"d.yaml": before})
    for _ in range(2):
        cj("render", "dev")
        assert cj.read("d.yaml") == after


SHARED_JAR = (
    "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {}, B: {}}\n"
    "destinations: {doc: {type: document, path: d.yaml, places: {/a: {services: [web], stage: dev}, /b: {services: [web], stage: dev%s}}}}\n"
)


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ("a: &e\n  A: '1'\nb: *e\n", "a: &e\n  A: '2'\n  B: '3'\nb: *e\n"),
        ("a: &e {A: '1'}\nb: *e\n", "a: &e {A: '2', B: '3'}\nb: *e\n"),
        ("a: &e\n- A=1\nb: *e\n", "a: &e\n- A=2\n- B=3\nb: *e\n"),
        ("a: &e\n- {name: A, value: '1'}\nb: *e\n", "a: &e\n- {name: A, value: '2'}\n- {name: B, value: '3'}\nb: *e\n"),
    ],
)
def test_an_anchor_whose_places_want_the_same_is_edited_once(
    before: str, after: str, jar: Callable[..., Coinjar]
) -> None:
    cj = jar(SHARED_JAR % "", dev="all: {A: 2, B: 3}\n")
    cj.write({"d.yaml": before})
    for _ in range(2):
        cj("render", "dev")
        assert yaml.safe_load(cj.read("d.yaml")) == yaml.safe_load(after)
        assert "b: *e" in cj.read("d.yaml")


def test_a_refusal_names_the_variable(jar: Callable[..., Coinjar]) -> None:
    cj = jar(SHARED_JAR % ", variables: [NONE]", dev="all: {A: 2, B: 3}\n")
    for text in ("a: &e\n- A=1\nb: *e\n", "a: &e\n- {name: A, value: '1'}\nb: *e\n"):
        cj.write({"d.yaml": text})
        assert "changing A, B here would also change something else" in cj("render", "dev", code=3).err
        assert cj.read("d.yaml") == text
