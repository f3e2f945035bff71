"""What files mean to their readers, in corners that a review of real ones found."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable

import pytest
import yaml

from tests.conftest import Coinjar, on_a_terminal
from tests.consumers import node, nodes

JAR = "services: {web: {}}\nstages: {dev: {}}\nvariables: {%s}\ndestinations: {out: {%s}}\n"


def seen(cj: Coinjar, source: str) -> dict[str, str]:
    """What `compare` shows that a source holds."""
    rows = json.loads(cj("compare", source, source, "--json", "--every-name").out)["rows"]
    return {row["name"]: row["left"]["value"] for row in rows}


@pytest.mark.parametrize("names", [("A__B", "__A__B"), ("A____B", "A__B"), ("__A__B", "A____B")])
def test_two_names_with_one_place_in_settings_are_refused(names: tuple[str, str], jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR % (", ".join(f"{name}: {{default: x}}" for name in names), "type: file, as: settings, path: s.json"))
    message = cj("render", "dev", code=3).err
    assert f"{names[0]} and {names[1]} would both be at A · B" in message
    assert not (cj.folder / "s.json").exists()


@pytest.mark.parametrize(
    ("file", "old"),
    [
        ("d.yaml", "# head\nA: old # c\n"),
        ("d.yaml", "{}\n"),
        ("d.yaml", ""),
        ("d.json", '{"A": "old"}'),
        ("d.json", "{}"),
    ],
)
def test_a_whole_document_is_a_place(file: str, old: str, jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        JAR % ("A: {default: 1}, B: {default: 2}", f'type: document, path: {file}, places: {{"": {{services: [web]}}}}')
    )
    cj.write({file: old})
    if not old:
        assert "d.yaml: the whole document does not exist: the document is empty" in cj("render", "dev", code=3).err
        return
    for _ in range(2):
        cj("render", "dev")
        read = json.loads if file.endswith("json") else yaml.safe_load
        assert read(cj.read(file)) == {"A": "1", "B": "2"}
    assert ("# head" in cj.read(file)) == ("# head" in old)


def test_a_containerfile_of_several_stages_means_what_the_builder_makes_of_it(cj: Coinjar) -> None:
    cj.write(
        {
            "Containerfile": 'ARG N=5\nARG V=1\nFROM x:$N AS base\nENV A=a-$N "Q"="5" \'R\'=6\nARG V\nENV B=v$V\n'
            "FROM y AS other\nENV C=c\nFROM --platform=x/y Base\nENV D=$A!\n"
        }
    )
    assert seen(cj, "file+containerfile:Containerfile") == {
        "N": "5",
        "V": "1",
        "A": "a-",
        "Q": "5",
        "R": "6",
        "B": "v1",
        "D": "a-!",
    }


@pytest.mark.parametrize(
    ("dialect", "name"),
    [("literal", "."), ("literal", ".."), ("literal", "..a"), ("containerfile", "--"), ("containerfile", "--from")],
)
def test_a_name_that_breaks_a_whole_file_is_refused_by_name(
    dialect: str, name: str, jar: Callable[..., Coinjar]
) -> None:
    cj = jar(JAR % (f'"{name}": {{default: x}}, GOOD: {{}}', f"type: file, as: {dialect}, path: out.txt"))
    assert f"{dialect} cannot carry {name}: " in cj("render", "dev", code=3).err
    assert not (cj.folder / "out.txt").exists()


def test_properties_in_latin_1_are_read(cj: Coinjar) -> None:
    cj.write({})
    (cj.folder / "a.properties").write_bytes("NAME=Käse\nOTHER=\\u00e4\n".encode("latin-1"))
    done = cj("compare", "file+properties:a.properties", "file+properties:a.properties", "--json")
    assert {row["name"]: row["left"]["value"] for row in json.loads(done.out)["rows"]} == {"NAME": "Käse", "OTHER": "ä"}
    assert "it is not UTF-8, and was read as Latin-1" in done.err


def test_tabs_are_read_as_the_newest_node_reads_them_and_said(cj: Coinjar) -> None:
    text = '\tA=1\nB=\t2\nC=3\t\nexport D=4\nF=\t"6"\t# x\nexport\tG=7\n'
    cj.write({"n.env": text})
    done = cj("compare", "file+dotenv:n.env", "file+dotenv:n.env", "--json")
    ours = {row["name"]: row["left"]["value"] for row in json.loads(done.out)["rows"]}
    assert ours == {"A": "1", "B": "2", "C": "3", "D": "4", "F": "6"}
    assert "ignored: there is a tab after export" in done.err
    for name in "ABCF":
        assert f"the tab around the name or the value of {name} was ignored" in done.err
    theirs = node(cj.folder / "n.env", nodes()[:1])
    assert {name: theirs[name].decode() for name in ours} == ours


def test_what_no_environment_can_carry_is_an_error_where_it_is_read(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR % ("A: {}, B: {}", "type: file, as: json, path: out.json"), dev='all: {A: "x\\0y", B: 1}\n')
    assert (
        "jar/plain/dev.yaml:1:10: error CJ003: the value of A contains a NUL character, which no environment can carry"
        in cj("check", code=1).out
    )
    assert "NUL character" in cj("render", "dev", code=3).err
    assert "NUL character" in cj("render", "dev", "--service", "web", "--as", "json", code=3).err
    cj.write({"n.json": '{"C": "a\\u0000b", "D": "1"}'})
    done = cj("adopt", "file+json:n.json", "--stage", "dev", "--yes")
    assert "NUL character" in done.out + done.err
    assert "C" not in cj.read("jar/jar.yaml").split("variables", 1)[1]


def test_only_the_comment_right_above_describes_a_variable(cj: Coinjar) -> None:
    cj("new", "--app", "x", "--service", "a", "--stage", "dev")
    cj.write({"s.env": "# ---- Database ----\n\n# The host.\nDB_HOST=h\nPLAIN=1\n\n# Section\n\nOTHER=2\n"})
    cj("adopt", "s.env", "--stage", "dev", "--yes")
    variables = yaml.safe_load(cj.read("jar/jar.yaml"))["variables"]
    assert {name: item.get("about") for name, item in variables.items()} == {
        "DB_HOST": "The host.",
        "PLAIN": None,
        "OTHER": None,
    }


@pytest.mark.parametrize("named", [None, "carla"])
def test_whoever_edits_first_may_say_who_they_are(named: str | None, cj: Coinjar) -> None:
    cj("new", "--app", "x", "--service", "a", "--stage", "dev")
    cj.write(
        {
            "jar/jar.yaml": (
                "coinjar: 1\napp: x\nservices: {a: {}}\nstages: {dev: {}}\nvariables: {A_TOKEN: {secret: true}}\n"
            )
        }
    )
    cj.write({"edit.sh": '#!/bin/sh\nprintf "all:\\n  A_TOKEN: made-up\\n" >> "$1"\n'})
    (cj.folder / "edit.sh").chmod(0o755)
    cj("edit", "dev", *(["--label", named] if named else []), env={"EDITOR": str(cj.folder / "edit.sh")})
    assert cj("value", "dev", "A_TOKEN", "--service", "a").out == "made-up"
    assert (named or "root") in cj("readers", "list").out


def test_a_variable_that_differs_by_service_is_explained_for_each(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {a: {}, b: {}, c: {}}\nstages: {dev: {}}\nvariables: {P: {}}\n", dev="all: {P: 1}\nb: {P: 2}\n")
    message = cj("why", "dev", "P").out
    assert "P = 1\non dev, for a, c\n" in message
    assert "P = 2\non dev, for b\n" in message
    both = json.loads(cj("why", "dev", "P", "--json").out)
    assert [(service["service"], service["value"]) for service in both["services"]] == [("a", "1"), ("b", "2")]
    assert "P = 2" in cj("why", "dev", "P", "--service", "b").out


def test_a_path_below_home_is_shown_short(cj: Coinjar) -> None:
    home = cj.folder / "home"
    inner = cj.folder / "work/deeper"
    home.mkdir()
    inner.mkdir(parents=True)
    other = Coinjar(inner)
    other.env |= {"HOME": str(home)}
    message = other("identity", "new", env={"COINJAR_IDENTITY": ""}).err
    assert "Created ~/.config/coinjar/identity (mode 0600)" in message
    assert (
        "Created own.identity (mode 0600)"
        in other("identity", "new", "--out", "own.identity", env={"COINJAR_IDENTITY": ""}).err
    )


def test_a_kind_fits_all_containers(cj: Coinjar) -> None:
    cj("new", "--app", "x", "--service", "web", "--service", "api", "--stage", "dev")
    web, api = "PORT: '8080', LIMIT: 30s, DEBUG: 'true', A: '1'", "PORT: http, LIMIT: soon, DEBUG: '1', A: '1.5'"
    cj.write(
        {
            "compose.yaml": (
                f"services:\n  web: {{image: x, environment: {{{web}}}}}\n  api: {{image: x, environment: {{{api}}}}}\n"
            )
        }
    )
    cj("adopt", "compose.yaml", "--stage", "dev", "--yes")
    assert cj("check").out == "nothing found\n"
    assert json.loads(cj("render", "dev", "--service", "api", "--as", "json").out) == {
        "PORT": "http",
        "LIMIT": "soon",
        "DEBUG": "1",
        "A": "1.5",
    }


@pytest.mark.parametrize(
    ("name", "text"),
    [("DB_URL", "postgres://u:made-up@h/d"), ("API_TOKEN", "made-up-x"), ("PLACE", "https://u:made-up@h/")],
)
def test_a_service_level_value_is_a_secret_where_name_or_text_say_so(name: str, text: str, cj: Coinjar) -> None:
    cj("new", "--app", "x", "--service", "web", "--stage", "dev")
    assert (
        "is a secret, and is not read from the command line"
        in cj("put", f"{name}={text}", "--declare", "--stage", "dev", "-s", "web", code=2).err
    )
    for _ in range(2):
        cj("put", name, "--declare", "--stage", "dev", "-s", "web", stdin=text)
    assert text not in cj.read("jar/jar.yaml") + cj.read("jar/plain/dev.yaml")
    assert cj("value", "dev", name, "--service", "web").out == text


def test_yes_asks_nobody_for_a_label(cj: Coinjar) -> None:
    cj("new", "--app", "x", "--service", "a", "--stage", "dev")
    cj.write({"s.env": "A_TOKEN=made-up-canary\n"})
    shown = on_a_terminal(cj, "adopt", "s.env", "--stage", "dev", "--yes")
    assert "Which label do you want" not in shown
    assert "made-up-canary" not in shown
    assert cj("value", "dev", "A_TOKEN", "--service", "a").out == "made-up-canary"


def test_names_that_differ_only_in_case_are_named(jar: Callable[..., Coinjar]) -> None:
    """Between a stage and a file, a process, what is adopted and what is confirmed: to a program they are two."""
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {TEST: {default: a}, Other: {default: b}}\n"
        "proofs: {p: {service: web, process: {pid_file: pid}, variable: TEST, expect: a}}\n"
    )
    cj.write({"a.env": "test=a\nOther=b\n"})
    done = cj("compare", "dev", "file:a.env", code=1)
    assert "TEST and test differ only in case: to a program they are two names" in done.err
    assert "Other" not in done.err
    assert json.loads(cj("compare", "dev", "file:a.env", "--json", code=1).out)["near_misses"] == [["TEST", "test"]]
    assert "test is a new name, but TEST is declared" in cj("adopt", "file:a.env", "--stage", "dev", code=1).err
    with subprocess.Popen(["sleep", "600"], env={"test": "a", "Other": "b"}) as process:
        try:
            cj.write({"pid": f"{process.pid}\n"})
            assert "TEST and test differ" in cj("compare", "dev", f"process:{process.pid}", code=1).err
            assert "(test is there: names are case-sensitive)" in cj("confirm", "dev", code=1).out
        finally:
            process.kill()


def test_what_no_layer_sets_is_listed_on_request(jar: Callable[..., Coinjar]) -> None:
    """By grid as rows; by within and render as a line on stderr, with nothing else changed."""
    cj = jar(
        "services: {web: {}, mailer: {}}\nstages: {dev: {}, prod: {}}\n"
        "variables: {SET: {default: a}, LEFT: {default: b}, MAIL: {default: c, services: [mailer]}, NONE: {}}\n"
        "destinations: {d: {type: file, as: literal, path: 'out/{stage}/{service}', services: [web]}}\n",
        dev="all: {SET: x}\n",
        prod="all: {SET: x, LEFT: y, MAIL: z}\n",
    )
    rows = json.loads(cj("grid", "--by-default", "--json").out)["rows"]
    assert [row["name"] for row in rows] == ["LEFT", "MAIL"]
    assert json.loads(cj("grid", "prod", "--by-default", "--json").out)["rows"] == []
    for _ in range(2):
        done = cj("within", "dev", "-s", "web", "--by-default", "--", "/usr/bin/env", process=True)
        assert "coinjar: by default (dev, web): LEFT\n" in done.err
        assert "LEFT=b" in done.out.splitlines()
        done = cj("render", "dev", "--as", "literal", "-s", "mailer", "--by-default")
        assert "coinjar: by default (dev, mailer): LEFT, MAIL\n" in done.err
        assert "by default" not in done.out
        assert cj("render", "prod", "--by-default").err == "coinjar: by default (prod, web): none\n"
    assert "by default" not in cj("render", "dev").err
