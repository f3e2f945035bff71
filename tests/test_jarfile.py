"""The jar on disk: every fault with its place, and edits that change nothing else."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st
from referencing import Registry, Resource

from coinjar import CoinJarError
from coinjar.destinations.schema import jar_schema
from coinjar.documents.edit import Edit, apply
from coinjar.documents.tree import build_tree, data_of
from coinjar.jarfile.load import load_declarations
from coinjar.jarfile.schemas import SCHEMAS, schema_text
from tests.conftest import DEMO, Coinjar

pytestmark = pytest.mark.unit

JAR = (
    "services: {web: {}}\nstages: {dev: {}}\nvariables:\n  A: {}\n  P: {kind: port}\n  L: {kind: list}\n"
    "  J: {kind: json}\n"
)
NULL_OFFERS = 'write "" for an empty text, "null" for the word, or {unset: true} to unset it here and inherit nothing'

FAULTS = {
    # plain/dev.yaml: everything that is told, in full
    "all:\n  A: ~\n  P:\n  L: null\n": [
        "jar/plain/dev.yaml:2:6: A has a bare null, which is ambiguous",
        "jar/plain/dev.yaml:3:5: P has a bare null, which is ambiguous",
        "jar/plain/dev.yaml:4:6: L has a bare null, which is ambiguous",
    ],
    "all:\n  A: 1\n  A: 2\n  B: 3\nwbe:\n  A: 1\nA: 1\n": [
        "jar/plain/dev.yaml:3:3: A is given twice here",
        "jar/plain/dev.yaml:4:3: B is not declared",
        "jar/plain/dev.yaml:5:1: there is no service 'wbe'",
        "jar/plain/dev.yaml:7:1: A is a variable, and must be below 'all' or a service",
    ],
    "all: {A: 1}\n---\nall: {A: 2}\n": ["jar/plain/dev.yaml:2:1: a second document starts here"],
    "all: {A: !!int 1}\n": ["jar/plain/dev.yaml:1:10: the tag '!!int' is not supported here"],
    "all: {A: !own 1}\n": ["jar/plain/dev.yaml:1:10: the tag '!own' is not supported here"],
    "all:\n  A: 'open\n": ["jar/plain/dev.yaml:3:1: this is not YAML: found unexpected end of stream"],
    "all:\n  A: \x01\n": ["jar/plain/dev.yaml: this is not YAML: there is a control character here"],
    "all:\n  J: " + "[" * 60 + "]" * 60 + "\n": [
        "jar/plain/dev.yaml:2:54: the file is nested more than 50 levels deep"
    ],
    "all:\n  J: " + "[" * 100_000: ["jar/plain/dev.yaml:2:54: the file is nested more than 50 levels deep"],
    "- " * 5000: ["jar/plain/dev.yaml:1:101: the file is nested more than 50 levels deep"],
    "all:\n  J: &x [*x]\n": ["jar/plain/dev.yaml:2:6: an alias refers to what contains it"],
    "all:\n  J:\n  - &a [1,1,1,1,1,1,1,1,1,1]\n"
    + "".join(
        f"  - &{name} [{','.join(['*' + before] * 10)}]\n" for before, name in zip("abcdef", "bcdefg", strict=True)
    ): ["aliases multiply this to more than 200,000 values"],
    "all:\n  <<: {A: 1}\n": ["jar/plain/dev.yaml:2:3: merge keys are not supported here"],
    "all:\n  A: [1]\n  P: {x: 1}\n": [
        "jar/plain/dev.yaml:2:6: A is a list, but its kind is text",
        "jar/plain/dev.yaml:3:6: the value of P is a mapping, but its kind is port",
    ],
    "all:\n  A: {text: '${NOPE}', file: x}\n  L: {command: []}\n  P: {unset: false}\n": [
        "jar/plain/dev.yaml:2:6: the value of A must have one form, but has text and file",
        "jar/plain/dev.yaml:3:16: 'command' of the value of L is empty",
        "jar/plain/dev.yaml:4:14: 'unset' of the value of P can only be true",
    ],
    "all:\n  A: {text: '${NOPE}'}\n": ["jar/plain/dev.yaml:2:6: the value of A names NOPE, which is not declared"],
    "all:\n  A: {text: '${A@of:wbe}'}\n": [
        "jar/plain/dev.yaml:2:6: the value of A names the service 'wbe', which is not declared"
    ],
    "all:\n  A: {file: x, may_be_empty: true}\n": [
        "jar/plain/dev.yaml:2:30: 'may_be_empty' is allowed only with 'command'"
    ],
    "all: 7\n": ["jar/plain/dev.yaml:1:6: 'all' must contain variables (NAME: value)"],
    "[all]\n": ["jar/plain/dev.yaml:1:1: this file must be a mapping (name: value)"],
    "all:\n  L: [a, 'b,c']\n  J: [{a: 1, a: 2}]\n": [
        "jar/plain/dev.yaml:2:6: L contains the separator ',' in element 2",
        "jar/plain/dev.yaml:3:14: J: 'a' is given twice",
    ],
}


@pytest.mark.parametrize("text", FAULTS)
def test_faults_of_a_plain_file_come_all_at_once(jar: Callable[..., Coinjar], text: str) -> None:
    done = jar(JAR, dev=text)("grid", code=3)
    assert done.out == ""
    messages = [line for line in done.err.splitlines() if not line.startswith("    ")]
    count = [f"coinjar: {len(FAULTS[text])} errors"] if len(FAULTS[text]) > 1 else []
    if len(messages) == 1 and not FAULTS[text][0].startswith("jar/"):
        assert messages[0].endswith(FAULTS[text][0])
    else:
        assert messages == FAULTS[text] + count
    hints = [line for line in done.err.splitlines() if line.startswith("    ")]
    assert len(hints) == len(FAULTS[text])
    if "bare null" in messages[0]:
        assert set(hints) == {f"    {NULL_OFFERS}"}


def test_undecodable_bytes_have_their_place(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR)
    (cj.folder / "jar/plain").mkdir()
    (cj.folder / "jar/plain/dev.yaml").write_bytes(b"all:\n  A: \xfe\n")
    assert cj("grid", code=3).err.startswith("jar/plain/dev.yaml:2:6: byte 0xfe is not UTF-8 text\n")


JAR_FAULTS = {
    "servces: {}\n": ["3:1: unknown key 'servces' in jar.yaml"],
    "stages: {a: {follows: b}, b: {follows: c}, c: {follows: a}}\n": [
        "3:23: stages follow each other in a cycle: a → b → c → a"
    ],
    "stages: {a: {follows: B}, all: {}}\n": ["3:27: 'all' is a reserved name", "3:23: there is no stage 'B' to follow"],
    (
        "services: {web: {}}\nvariables:\n  A: {kind: prot, services: [wbe]}\n  B: {kind: port, pattern: x}\n"
        "  C: {secret: yes}\n  D: {kind: choice}\n"
    ): [
        "5:13: there is no kind 'prot'",
        "5:30: there is no service or set 'wbe'",
        "6:28: 'pattern' does not apply to the kind port",
        "7:15: secret must be true or false",
        "8:13: the kind choice needs its choices",
    ],
    "variables:\n  A: {generate: {form: hexx, length: 0, size: 3}}\n": [
        "4:41: unknown key 'size' in 'generate'",
        "4:24: there is no form 'hexx'",
        "4:38: a length is a number of at least 1",
    ],
    "variables:\n  A: {default: {text: '${B}'}, only_with: [C=1]}\n": [
        "4:3: only_with of A names C, which is not declared",
        "4:16: the value of A names B, which is not declared",
    ],
    "together: {x: [A]}\naccepted: [{rule: X, reason: ''}, {rule: CJ001}]\n": [
        "3:16: 'x' names A, which is not declared",
        "4:19: an accepted finding names its rule",
        "4:30: an accepted finding has a reason",
        "4:35: an accepted finding has a reason",
    ],
    "variables: {A: {also_as: [B]}, B: {}}\n": ["3:13: A is also_as B, which is a variable itself"],
}


@pytest.mark.parametrize("text", JAR_FAULTS)
def test_faults_of_jar_yaml_come_all_at_once(jar: Callable[..., Coinjar], text: str) -> None:
    messages = [line for line in jar(text)("grid", code=3).err.splitlines() if line.startswith("jar/")]
    assert messages == [f"jar/jar.yaml:{fault}" for fault in JAR_FAULTS[text]]


TEXTS = [
    *"1.10 0755 yes on 1e3 2026-01-01 0x1F 1_000 .inf =".split(),
    "'null'",
    '""',
    "'~'",
    "é 🙂",
    '"a\\tb\\nc"',
    "a: b".replace(": ", ":"),
    "$x ${y}",
]


def test_text_stays_text(jar: Callable[..., Coinjar]) -> None:
    names = [f"V{number}" for number in range(len(TEXTS))]
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {" + ", ".join(f"{name}: {{}}" for name in names) + "}\n",
        dev="all:\n" + "".join(f"  {name}: {text}\n" for name, text in zip(names, TEXTS, strict=True)),
    )
    data = json.loads(cj("render", "dev", "--as", "json").out)
    meant = [text if text[0] not in "'\"" else yaml.safe_load(text) for text in TEXTS]
    assert list(data.values()) == meant


def test_lists_and_json_are_written_as_yaml(jar: Callable[..., Coinjar]) -> None:
    plain = "all:\n  L: [a, 1.10, yes, 0755]\n  J: {n: 1.10, t: [true, null, yes, 'null'], s: \"x\", text: no form}\n"
    data = json.loads(jar(JAR, dev=plain)("render", "dev", "--as", "json").out)
    assert data == {"L": "a,1.10,yes,0755", "J": '{"n":1.10,"t":[true,null,"yes","null"],"s":"x","text":"no form"}'}


NAMES = st.sampled_from(["A", "B", "C", "LONG_NAME", "x.y"])
VALUES = st.one_of(
    st.text(st.sampled_from("ab: #'\"\n\t,{}[]&*!|>%@`\\-~é🙂\r"), max_size=12),
    st.sampled_from(["", "null", "~", "yes", "1.10", "# c", "a\nb\n", "-----BEGIN\nx\ny"]),
)
LAYOUTS = [
    "# top\nall:\n  A: 1  # one\n  # about B\n  B: 'two'   # kept\n\nweb:\n  C: \"three\"\n# end\n",
    (
        "all: {A: 1, B: 'two'}   # flow\nweb:\n    C: >-\n        folded\n        text\n    D: |\n"
        "        literal\n\n# after\n"
    ),
    "all:\r\n  A: &x 1\r\n  B: *x\r\nweb: {C: {text: '${A}'}}\r\n",
    "# only a comment",
    "all:\n  A: {unset: true}\n  B:\n    text: x${A}\n  C: [1,\n      2]\nweb:\n",
    "---\nall:\n  A: x # no line break at the end",
]


@settings(max_examples=400)
@given(
    st.sampled_from(LAYOUTS),
    st.lists(
        st.tuples(st.sampled_from(["all", "web", "mail"]), NAMES, st.one_of(st.none(), VALUES)),
        min_size=1,
        max_size=5,
        unique_by=lambda edit: edit[:2],
    ),
)
def test_edits_change_only_what_they_must(layout: str, edits: list[tuple[str, str, str | None]]) -> None:
    before = data_of(build_tree(layout)) or {}
    assert isinstance(before, dict)
    try:
        after = apply(layout.encode(), "f", [Edit((scope, name), value) for scope, name, value in edits]).decode()
    except CoinJarError:
        assert "&x" in layout  # only an anchor that others use may be in the way
        return
    read = data_of(build_tree(after))
    environment = read if isinstance(read, dict) else {}  # nothing but a comment or a '---' may be left
    for scope, name, value in edits:
        result = environment.get(scope)
        assert (result.get(name) if isinstance(result, dict) else None) == value
    touched = {name for _, name, _ in edits} | {scope for scope, _, _ in edits}
    for line in layout.splitlines():
        found_name = re.match(r"\s*(?:- )?([\w.]+):", line)
        own = found_name[1] if found_name else ""
        comment = re.search(r"(?:^|\s)(#.*)", line)
        if comment and (own not in touched or all(value is not None for _, _, value in edits)):
            assert comment[1] in after
        if own and own not in touched and "{" not in line and not line.startswith(" "):
            assert line in after.splitlines()
    if "\r\n" in layout:
        assert "\n" not in after.replace("\r\n", "")


@pytest.mark.parametrize(("before", "edit", "after"), [
    ("all:\n  A: 1  # why\n  B: 2\n", Edit(("all", "A"), "9"), "all:\n  A: 9  # why\n  B: 2\n"),
    ("all:\n  A: '1'\n  B: \"2\"\n", Edit(("all", "B"), "x y"), "all:\n  A: '1'\n  B: \"x y\"\n"),
    ("all:\n    A: 1\n# end\n", Edit(("all", "B"), "2"), "all:\n    A: 1\n    B: 2\n# end\n"),
    ("all: {A: 1}\n", Edit(("all", "B"), "a, b"), "all: {A: 1, B: 'a, b'}\n"),
    ("all:\n  A: &x 1\n", Edit(("all", "A"), "2"), "all:\n  A: &x 2\n"),
    ("all:\n  A: &x 1\n  B: *x\n", Edit(("all", "B"), "2"), "all:\n  A: &x 1\n  B: 2\n"),
    ("all:\n  A: 1\nweb:\n  B: 1\n", Edit(("web", "B"), None), "all:\n  A: 1\n"),
    ("all:\n  A: 1\n", Edit(("web", "P"), "-----BEGIN\nx\n-----END\n"),
        "all:\n  A: 1\nweb:\n  P: |\n    -----BEGIN\n    x\n    -----END\n"),
    ("variables:\n", Edit(("variables", "A"), {"kind": "port", "secret": "true"}),
        "variables:\n  A:\n    kind: port\n    secret: true\n"),
    ("", Edit(("all", "A"), {"unset": "true"}), "all:\n  A: {unset: true}\n"),
    ("all:\n  A: |\n    x\n    y\n  B: 1\n", Edit(("all", "A"), "z"), "all:\n  A: z\n  B: 1\n"),
])  # fmt: skip
def test_edits_keep_the_layout(before: str, edit: Edit, after: str) -> None:
    assert apply(before.encode(), "f", [edit]).decode() == after


def test_symlinks_modes_and_killed_writers(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR)
    cj.write({"elsewhere/real.yaml": "all:\n  A: 1\n"})
    real = cj.folder / "elsewhere/real.yaml"
    real.chmod(0o640)
    link = cj.folder / "jar/plain/dev.yaml"
    link.parent.mkdir()
    link.symlink_to("../../elsewhere/real.yaml")
    (real.parent / ".real.yaml.coinjar-unfinished").write_text("half")  # what a killed writer leaves
    cj("put", "A=2", "--stage", "dev")
    assert link.is_symlink()
    assert real.read_text() == "all:\n  A: 2\n"
    assert real.stat().st_mode & 0o777 == 0o640
    assert sorted(path.name for path in real.parent.iterdir()) == ["real.yaml"]


def test_schemas_and_loader_agree() -> None:
    schemas = {name: json.loads(jar_schema() if name == "jar" else schema_text(name)) for name in SCHEMAS}
    for schema in schemas.values():
        jsonschema.Draft202012Validator.check_schema(schema)
    registry: Any = Registry().with_resources(
        [(schema["$id"], Resource.from_contents(schema)) for schema in schemas.values()]
    )

    def agrees(name: str, text: str) -> bool:
        return jsonschema.Draft202012Validator(schemas[name], registry=registry).is_valid(yaml.safe_load(text))

    assert agrees("jar", (DEMO / "jar/jar.yaml").read_text())
    for path in (DEMO / "jar/plain").glob("*.yaml"):
        assert agrees("plain", path.read_text())
    for text in JAR_FAULTS:
        if (
            "unknown key" in JAR_FAULTS[text][0]
            or "no kind" in JAR_FAULTS[text][0]
            or "reserved" in JAR_FAULTS[text][0]
        ):
            assert not agrees("jar", f"coinjar: 1\napp: x\n{text}")
    for text in (
        (
            "readers: {anna: {recipient: age1x, opens: [prod], offline: true}}\n"
            f"vouched: {{prod: {'0a' * 8} {'0a' * 32}}}\n"
        ),
        "",
        "readers: {}",
    ):
        assert agrees("readers", text)
    for text in (
        "readers: {anna: {opens: [prod]}}",
        "readers: {anna: {recipient: x}}",
        "reader: {}",
        "vouched: {a: b}",
        "readers: {An na: {recipient: age1x}}",
    ):
        assert not agrees("readers", text), text
    assert agrees("sheet", "move: 1\nfrom: a\nto: b\ncarried: [{variable: A, where: [x/y]}]\n")
    assert not agrees("sheet", "move: 1\nfrom: a\nto: b\ncarred: []\n")
    assert not agrees("plain", "all: {A: null}")
    for destination, right in {
        "{type: file, as: json, path: x, services: [web], secrets: 'v/{name}'}": True, "{type: file, path: x}": False,
        "{type: file, as: json, path: x, suffix: y}": False,
        "{type: document, path: x, places: {/env: {stage: dev, decided_by: [/x]}}}": True,
        "{type: document, path: x, places: {env: {}}}": False,
        "{type: manifests, from: a, to: b, keep: 2, workloads: {a/b: web}}": True, "{type: oci-bundle}": False,
        "{path: x}": False, "{type: another, own: key}": True,
        "{type: templates, from: a, to: b, suffix: .t, allow: {a: '[a-z]'}}": True,
        "{type: containerfile, path: x, plain_only: true}": True,
    }.items():  # fmt: skip
        assert agrees("jar", f"coinjar: 1\napp: x\ndestinations: {{d: {destination}}}\n") is right, destination


def test_no_file_of_the_jar_lies_outside_a_stage(jar: Callable[..., Coinjar]) -> None:
    done = jar(JAR, dve="all: {A: 1}\n")("check", code=3)
    assert done.err == (
        "jar/plain/dve.yaml: this file is for the stage 'dve', which is not declared\n"
        "    did you mean 'dev'? If it was renamed: `coinjar stages rename dve NEW`. Otherwise remove the file\n"
    )
    assert load_declarations(Path(os.path.relpath(DEMO / "jar"))).app == "sandling"


@settings(max_examples=150)
@given(
    st.sampled_from([layout for layout in LAYOUTS if layout.endswith("\n")]), st.sampled_from(["all", "mail"]), VALUES
)
def test_what_is_put_and_dropped_again_leaves_no_trace(layout: str, scope: str, value: str) -> None:
    there = apply(layout.encode(), "f", [Edit((scope, "BRAND_NEW"), value)])
    gone = apply(there, "f", [Edit((scope, "BRAND_NEW"), None)])
    assert gone.decode() == layout
    assert apply(there, "f", [Edit((scope, "BRAND_NEW"), value)]) == there


def test_many_edits_at_once_are_one_pass(jar: Callable[..., Coinjar]) -> None:
    """Adopting a large file: declarations and values in one go, each where it belongs."""
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables:   # what exists\n  OLD: {}\n",
        dev="# values\nall:\n  OLD: x\n",
    )
    cj.write({"big.env": "".join(f"# About {number}\nNAME_{number}={number}\n" for number in range(800))})
    cj("adopt", "file:big.env", "--stage", "dev", "--yes")
    data = json.loads(cj("render", "dev", "--as", "json").out)
    assert data == {"OLD": "x"} | {f"NAME_{number}": str(number) for number in range(800)}
    assert cj.read("jar/jar.yaml").startswith(
        "coinjar: 1\napp: trial\nservices: {web: {}}\nstages: {dev: {}}\nvariables:   # what exists\n"
        "  OLD: {}\n  NAME_0:\n    about: About 0\n"
    )
    assert cj.read("jar/plain/dev.yaml").startswith("# values\nall:\n  OLD: x\n  NAME_0: ")
