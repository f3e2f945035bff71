"""The smallest jar, the second time, and the typo: what a user meets on the first day."""

from __future__ import annotations

import json
from collections.abc import Callable

import pytest

from tests.conftest import Coinjar

pytestmark = pytest.mark.unit


@pytest.fixture
def small(cj: Coinjar) -> Coinjar:
    """A jar of one service, one stage and one variable without a declaration of anything."""
    cj("new", "--app", "x", "--service", "a", "--stage", "dev")
    cj("put", "OLD=hello", "--declare", "--stage", "dev")
    return cj


@pytest.mark.parametrize("way", [(), ("--keep-old",)])
def test_a_rename_is_finished_and_the_declaration_stays(small: Coinjar, way: tuple[str, ...]) -> None:
    small("rename", "OLD", "NEW", "--yes", *way)
    assert small("value", "dev", "NEW").out == "hello"
    small("rename", "--finish", "OLD")
    assert small.read("jar/jar.yaml").endswith("variables:\n  NEW: {}\n")
    assert small("value", "dev", "NEW").out == "hello"
    before = small.read("jar/jar.yaml")
    assert "no variable had the name OLD" in small("rename", "--finish", "OLD", code=2).err
    assert small.read("jar/jar.yaml") == before


def test_the_last_variable_goes_and_another_comes(small: Coinjar) -> None:
    assert "Add --yes" in small("drop", "OLD", "--everywhere", code=1).err
    assert small("value", "dev", "OLD").out == "hello"
    small("drop", "OLD", "--everywhere", "--yes")
    assert small("check").out == "nothing found\n"
    small("put", "NEXT=1", "--declare", "--stage", "dev")
    assert small("value", "dev", "NEXT").out == "1"


@pytest.mark.parametrize("where", ["jar/plain/dev.yaml", "jar/plain/shared.yaml", "jar/.local/dev.yaml"])
def test_a_value_without_a_declaration_is_dropped_everywhere(small: Coinjar, where: str) -> None:
    """The state that makes every other command end with 3, and that this one repairs."""
    small("put", "OLD=mine", "--stage", "dev", "--mine")
    small.write({where: "all:\n  OLD: kept\n  GHOST: 1\na: {GHOST: 2}\n"})
    assert "GHOST is not declared" in small("within", "dev", "--", "true", code=3).err
    assert "GHOST: removed, with 2 values" in small("drop", "GHOST", "--everywhere", "--yes").err
    assert small.read(where).startswith("all:\n  OLD: kept\n")
    small("within", "dev", "--", "true")
    assert "there is no variable 'GHOST'" in small("drop", "GHOST", "--everywhere", "--yes", code=2).err
    small("drop", "OLD", "--everywhere", "--yes")  # a person's own value of it goes, too
    assert "OLD" not in small.read(where)


def test_what_still_names_a_variable_keeps_it(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {a: {}}\nstages: {dev: {}}\nvariables: {A: {}, K: {}}\nproofs:\n"
        "  p: {file: x, expect: '${A}'}\n  q: {file: x, expect: {digest: A, key: K}}\n"
    )
    message = cj("drop", "A", "--everywhere", "--yes", code=3).err
    assert "the proof p still refers to A" in message
    assert "the proof q still refers to A" in message
    assert "A: {}" in cj.read("jar/jar.yaml")


def test_nothing_typed_is_no_value(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {a: {}}\nstages: {dev: {}, prod: {}}\nvariables:\n"
        "  S: {secret: true, required: true}\n"
        "  E: {required: true, may_be_empty: true}\n  P: {}\n"
    )
    for name in ("S", "E", "P"):
        assert f"nothing was read from stdin for {name}" in cj("put", name, "--stage", "dev", code=2).err
    assert "S is required, and an empty text is not a value" in cj("put", "S", "--stage", "dev", "--empty", code=3).err
    cj("put", "E", "P", "--stage", "dev", "--empty", code=2)  # stdin gives one value
    cj("put", "E", "--stage", "dev", "--empty")
    cj("put", "P=", "--stage", "dev")
    assert "S is required and has no value on dev" in cj("check", code=1).out
    cj.write({"jar/plain/prod.yaml": 'all: {S: "", E: "", P: ""}\n'})
    message = cj("check", code=1).out
    assert "S is required and is empty on prod" in message
    assert "E is required" not in message.replace("E is required and has no value", "")
    assert "S is required and is empty on prod" in cj("render", "prod", "--as", "json", code=3).err
    assert "‼" in next(line for line in cj("grid").out.splitlines() if line.startswith("S "))


def test_empty_words_in_lists_count(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {a: {}}\nstages: {dev: {}}\nvariables:\n  C: {kind: choice, choices: ['', a]}\n  O: {}\n")
    cj("put", "C=", "--stage", "dev")
    assert cj("value", "dev", "C").out == ""
    cj.write({"jar/plain/dev.yaml": "all: {O: {command: [printf, '%s-%s', '', x]}}\n"})
    assert cj("value", "dev", "O").out == "-x"


@pytest.mark.parametrize(
    ("arguments", "expected"),
    [
        (["put", "OLD=1", "--stage", "dev", "--jar", "jar", "--jar", "jar"], "--jar is given twice"),
        (["put", "OLD=1", "OLD=2", "--stage", "dev"], "OLD is given twice"),
        (["generate", "OLD", "--form", "hex", "--form", "text"], "--form is given twice"),
        (["adopt", "-", "--stage", "dev", "--stage", "prod"], "--stage is given twice"),
        (["value", "dev", "OLD", "-s", "a", "-s", "b"], "--service is given twice"),
        (["within", "dev", "--with", "OLD=1", "--with", "OLD=2", "--", "true"], "--with gives OLD twice"),
        (["check", "--format", "json", "--format", "text"], "--format is given twice"),
        (["--jar", "jar", "--jar", "jar", "grid"], "--jar is given twice"),
        (["--jar", "jar", "grid", "--jar", "elsewhere"], "--jar is given twice"),
        (["deliver", "dev", "--wait", "1", "--wait", "2"], "--wait is given twice"),
    ],
)
def test_an_option_of_one_value_is_given_once(small: Coinjar, arguments: list[str], expected: str) -> None:
    before = small.read("jar/plain/dev.yaml")
    assert expected in small(*arguments, code=2).err
    assert small.read("jar/plain/dev.yaml") == before


def test_services_repeat_where_several_make_sense(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}, worker: {}, other: {}}\nstages: {dev: {}, prod: {}}\n"
        "variables: {X: {default: '0'}, S: {secret: true}}\n"
    )
    cj("put", "X=1", "--stage", "dev", "-s", "web", "-s", "worker", "-s", "web")
    assert [cj("value", "dev", "X", "-s", name).out for name in ("web", "worker", "other")] == ["1", "1", "0"]
    cj("generate", "S", "--stage", "dev", "-s", "web", "-s", "worker")
    first, second = (cj("value", "dev", "S", "-s", name).out for name in ("web", "worker"))
    assert first != second
    assert next(
        line for line in cj("grid", "-s", "web", "-s", "worker").out.splitlines() if line.startswith("X ")
    ).split()[:4] == ["X", "≠", "●", "1"]
    assert "2 only in dev" in cj("compare", "dev", "prod", "-s", "web", "-s", "worker", "--name", "S", code=1).out
    cj.write({"new.env": "N=1\n"})
    cj("adopt", "new.env", "--stage", "dev", "-s", "web", "-s", "worker", "--yes")
    assert [cj("value", "dev", "N", "-s", name).out for name in ("web", "worker")] == ["1", "1"]
    cj("drop", "X", "--stage", "dev", "-s", "web", "-s", "worker")
    assert cj("value", "dev", "X", "-s", "worker").out == "0"
    assert "there is no service 'wbe'" in cj("put", "X=1", "--stage", "dev", "-s", "web", "-s", "wbe", code=2).err


@pytest.mark.parametrize(
    ("arguments", "expected"),
    [
        (["adopt", "in.env", "--stage", "dev", "--secret", "FOOO"], "--secret FOOO: file:in.env has no such name"),
        (["adopt", "in.env", "--stage", "dev", "--plain", "FOOO"], "--plain FOOO: file:in.env has no such name"),
        (
            ["adopt", "in.env", "--stage", "dev", "--plain", "FOO", "--secret", "FOO"],
            "FOO cannot be both --secret and --plain",
        ),
        (
            ["adopt", "in.env", "--stage", "dev", "--secret", "OLD"],
            "--secret OLD: jar.yaml already declares it, not as a secret",
        ),
        (["confirm", "dev", "--allow-guarded", "prud"], "--allow-guarded: there is no stage 'prud'"),
        (["deliver", "dev", "--allow-guarded", "prud"], "--allow-guarded: there is no stage 'prud'"),
        (["put", "OLD=1", "--stage", "dev", "--label", "Not A Label"], "name is 1 to 63"),
    ],
)
def test_an_option_names_something_that_is_there(small: Coinjar, arguments: list[str], expected: str) -> None:
    small.write({"in.env": "FOO=1\nOLD=2\n"})
    text = small.read("jar/jar.yaml") + (
        "proofs:\n  p: {file: x, expect: y}\ndestinations:\n"
        "  d: {type: etcd, address: 'http://127.0.0.1:9', prefix: /x/}\n"
    )
    small.write({"jar/jar.yaml": text})
    assert expected in small(*arguments, code=2).err


def test_the_first_reader_has_the_label_that_was_given(small: Coinjar) -> None:
    small.write({"jar/jar.yaml": small.read("jar/jar.yaml").replace("OLD: {}", "OLD: {}\n  S: {secret: true}")})
    small("put", "S", "--stage", "dev", "--label", "anna", stdin="made-up\n")
    assert "anna" in small("readers", "list").out
    assert small("value", "dev", "S").out == "made-up"
    assert (
        "the jar already has readers" in small("put", "S", "--stage", "dev", "--label", "berta", stdin="x", code=2).err
    )
    small("put", "S", "--stage", "dev", "--label", "anna", stdin="y")  # the same again is no fault


def test_pointers_are_renamed_as_what_they_stand_for(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {a: {}}\nstages: {dev: {}}\nvariables: {'A/B': {default: x}, 'C~D': {default: x}, E: {}}\nproofs:\n"
        "  p: {file: f, at: '/s/A~1B', expect: x}\n"
        "  q: {file: f, at: '/s/C~0D', expect: x}\n"
        "  r: {file: f, at: '/s/A/B', expect: x}\n"
    )
    cj("rename", "A/B", "F~G", "--yes")
    cj("rename", "C~D", "H/I", "--yes")
    assert [line.split("'")[1] for line in cj.read("jar/jar.yaml").splitlines() if "at:" in line] == [
        "/s/F~0G",
        "/s/H~1I",
        "/s/A/B",
    ]


def test_a_file_that_cannot_be_read_is_no_file_without_mentions(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {a: {code: [src]}}\nstages: {dev: {}}\nvariables: {OLD: {default: x}}\n")
    cj.write(
        {
            "src/a.py": "import os\nos.environ['OLD']\n",
            "src/broken.yaml": "services:\n  a: {image: x, environment: [OLD\n",
            "notes.md": "OLD\n",
        }
    )
    result = cj("mentions", "src/broken.yaml", code=3)
    assert result.err.startswith("src/broken.yaml:3:1: its mentions are not known: this is not YAML")
    assert "src/broken.yaml:3:1" in cj("mentions", code=3).err
    assert "notes.md: its mentions are not known: its format is not known" in cj("mentions", "notes.md", code=3).err
    assert "warning CJ043" in cj("check").out
    before = cj.read("src/a.py")
    assert "src/broken.yaml:3:1" in cj("rename", "OLD", "NEW", "--yes", code=3).err
    assert cj.read("src/a.py") == before
    cj.write({"src/broken.yaml": "services:\n  a: {image: x, environment: [NOT_IT\n"})
    cj("rename", "OLD", "NEW", "--yes")  # it cannot hold the name
    assert "NEW" in cj.read("src/a.py")


NAMED_BEFORE = {
    "together": "together: {pair: [A, NEW]}\n",
    "accepted": "accepted: [{rule: CJ014, variable: NEW, reason: later}]\n",
    "only_with": "",
    "default": "",
    "values": "",
    "proof": "proofs: {p: {http: 'https://example.test/', at: /a, expect: {digest: NEW, key: A}}}\n",
}


@pytest.mark.parametrize("what", NAMED_BEFORE)
def test_put_declare_mends_a_jar_that_names_the_variable_already(what: str, cj: Coinjar) -> None:
    cj("new", "--app", "x", "--service", "a", "--stage", "dev")
    variables = {"only_with": "A: {only_with: [NEW]}", "default": "A: {default: {text: '${NEW}'}}"}.get(
        what, "A: {default: x}"
    )
    cj.write(
        {
            "jar/jar.yaml": (
                f"coinjar: 1\napp: x\nservices: {{a: {{}}}}\nstages: {{dev: {{}}}}\nvariables:\n  {variables}\n"
                f"{NAMED_BEFORE[what]}"
            )
        }
    )
    if what == "values":
        cj.write({"jar/plain/dev.yaml": "all:\n  NEW: was here\n"})
    before = cj.read("jar/jar.yaml")
    assert "NEW" in cj("check", code=3).err
    cj("put", "NEW=1", "--declare", "--stage", "nowhere", code=2)
    assert cj.read("jar/jar.yaml") == before
    assert "declared and set on dev" in cj("put", "NEW=1", "--declare", "--stage", "dev").err
    cj("put", "NEW=1", "--declare", "--stage", "dev")
    assert json.loads(cj("render", "dev", "--service", "a", "--as", "json").out)["NEW"] == "1"


def test_put_declares_a_secret_of_any_name(cj: Coinjar) -> None:
    """Whatever its name looks like; and never one that is declared as plain."""
    cj("new", "--app", "x", "--service", "a", "--stage", "dev")
    assert "add --declare" in cj("put", "NEW", "--secret", "--stage", "dev", code=2, stdin="made-up").err
    for _ in range(2):
        cj("put", "NEW", "--declare", "--secret", "--stage", "dev", stdin="made-up-canary")
    assert "secret: true" in cj.read("jar/jar.yaml")
    assert "made-up-canary" not in "".join(path.read_text() for path in (cj.folder / "jar").rglob("*.yaml"))
    assert "OTHER is a secret" in cj("put", "OTHER=x", "--declare", "--secret", "--stage", "dev", code=2).err
    cj("put", "PLAIN=x", "--declare", "--stage", "dev")
    refused = cj("put", "PLAIN", "--declare", "--secret", "--stage", "dev", code=2, stdin="made-up")
    assert "PLAIN is declared, and not as a secret" in refused.err
    assert cj("value", "dev", "PLAIN").out == "x"


def test_a_grid_without_stages_says_so(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {web: {}}\nstages: {}\nvariables: {A: {default: b}}\n")
    assert "there are no stages to show" in cj("grid", code=2).err
