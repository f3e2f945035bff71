"""What an edit of a document changes, and what stays byte for byte."""

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
from tests.conftest import Coinjar

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
        ("true", "a boolean, true"), ("42", "a number, 42"), ("1.10", "a number, 1.1"), ("null", "null, "),
        ("0755", "a number, 493"),
        ("yes", "a boolean to readers of YAML 1.1, true"), ("N", "a boolean to readers of YAML 1.1, false"),
        ("1e3", "a number to readers of YAML 1.2, 1000"),
        ("0o17", "a number to readers of YAML 1.2, 15"), ("2026-01-01", "a date, 2026-01-01"), ("1:30", "a number, 90"),
        ("text", None), ("'1'", None), ("2026-99-99", None),
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
    "destinations: {doc: {type: document, path: d.yaml, places: {/a: {services: [web], stage: dev}, /b: "
    "{services: [web], stage: dev%s}}}}\n"
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
    cj = jar(SHARED_JAR % ", variables: [NONE_*]", dev="all: {A: 2, B: 3}\n")
    for text in ("a: &e\n- A=1\nb: *e\n", "a: &e\n- {name: A, value: '1'}\nb: *e\n"):
        cj.write({"d.yaml": text})
        assert "changing A, B here would also change something else" in cj("render", "dev", code=3).err
        assert cj.read("d.yaml") == text
