"""Every dialect against its real readers: what goes in comes out byte for byte, or is refused by name."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from coinjar.core.errors import CoinJarError
from coinjar.dialects import BUILT_IN, carriers, get, reader
from coinjar.dialects.base import Dialect, Entry, FileHeader, ParseContext, render
from coinjar.dialects.detection import recognise
from tests.consumers import READERS

HEADING = FileHeader("app", "dev", "web")
SPECIAL = "aB1 \t\n\r\"'`\\$#={}()!%&|;<>~*?[]^@:,.-+/\u00a0\u00e9\u2028\ufeff🙂\x01\x1b\x7f"
TEXTS = st.lists(
    st.one_of(
        st.text(st.sampled_from(SPECIAL), max_size=12), st.text(st.characters(exclude_categories=["Cs"]), max_size=20)
    ),
    min_size=1,
    max_size=120,
)
SLOW = {"podman": 6, "node": 25, "systemd": 5, "java": 8, "podman_build": 4, "kubectl": 15, "ruamel": 10}


def carried(dialect: Dialect, texts: list[str]) -> list[Entry]:
    """Those of the texts that the dialect says it can carry, under names of their own; what clashes is left out."""
    entries: list[Entry] = []
    for number, text in enumerate(texts):
        entry = Entry(f"V{number}", text)
        if dialect.unsupported_reason(entry.name, text) is None and dialect.clash([*entries, entry]) is None:
            entries.append(entry)
    return entries


@pytest.mark.parametrize(
    ("dialect", "program"), [(name, program) for name, programs in READERS.items() for program in programs]
)
def test_real_readers_get_every_byte(dialect: str, program: str, tmp_path_factory: pytest.TempPathFactory) -> None:
    folder = tmp_path_factory.mktemp(program)

    @settings(max_examples=SLOW.get(program, 40), suppress_health_check=list(HealthCheck))
    @given(TEXTS)
    def holds(texts: list[str]) -> None:
        entries = carried(get(dialect), texts)
        if program in ("kubectl", "podman", "node") and not entries:
            return
        file = folder / "vars"
        file.write_bytes(render(get(dialect), entries, HEADING))
        environment = READERS[dialect][program](file)
        for entry in entries:
            assert entry.text is not None
            assert environment.get(entry.name) == entry.text.encode(), entry

    holds()


NAMES = ["y", "N", "on", "OFF", "null", "true", "1E3", "0755", "-", "a.b-c", ".5", "_", "NaN", "No"]


@pytest.mark.parametrize(
    ("dialect", "program"),
    [
        ("yaml", "pyyaml"),
        ("yaml", "ruamel"),
        ("kube-configmap", "kubectl"),
        ("kube-configmap", "pyyaml"),
        ("kube-secret", "kubectl"),
        ("toml", "tomllib"),
        ("properties", "java"),
        ("containerfile", "podman_build"),
        ("literal", "podman"),
    ],
)
def test_names_stay_names(dialect: str, program: str, tmp_path: Path) -> None:
    """Names, and values, that readers of YAML 1.1 take for booleans and numbers; and those that only few grammars
    carry.
    """
    entries = [
        entry for name in NAMES if get(dialect).unsupported_reason((entry := Entry(name, name)).name, name) is None
    ]
    assert len(entries) >= 6
    (tmp_path / "vars").write_bytes(render(get(dialect), entries, HEADING))
    environment = READERS[dialect][program](tmp_path / "vars")
    assert {name: text for name, text in environment.items() if name in NAMES} == {
        other_entry.name: other_entry.name.encode() for other_entry in entries
    }


@pytest.mark.unit
@settings(max_examples=60)
@given(TEXTS, st.sampled_from([name for name in BUILT_IN if get(name).reads]))
def test_what_is_written_reads_back(texts: list[str], dialect: str) -> None:
    entries = carried(get(dialect), texts)
    found = reader(dialect)
    found.parse_context = ParseContext(["dev"])
    reading = found.read(render(get(dialect), entries, HEADING), "vars")
    assert {item.name: item.text for item in reading.items} == {entry.name: entry.text for entry in entries}
    assert not [remark for remark in reading.remarks if remark.lost]


@pytest.mark.unit
def test_refusals_are_only_what_the_grammar_cannot_carry() -> None:
    table = {
        "posix": {"": True, "a\nb\r\"'`$\\": True, "\0": False},
        "exec-script": {"'": True, "\0": False},
        "fish": {"": True, "a\nb\r\"'`$\\": True, "\0": False, "\uf601": False, "\ufdd0": False},
        "powershell": {"": False, "a\nb\r\"'`$\\\u2019\u201e": True, "\0": False},
        "literal": {
            "": True,
            ' "kept" # too ': True,
            "\r in the middle": True,
            "a\nb": False,
            "end\r": False,
            "x" * 65_533: True,
            "x" * 65_534: False,
        },
        "dotenv": {
            "": True,
            "a\nb": True,
            "\\n": True,
            "\"'": True,
            'it\'s "quoted"': True,
            "a\"b'c`d": True,
            "\"'`": True,
            " \"'`": False,
            "a\"'`#": False,
            "\r": False,
        },
        "json": {"\0": True, "🙂": True, "\ud800": False},
        "nul": {"a\nb": True, "\0": False},
        "compose": {"": True, "a\n'\"\\$\r": True, "\0": False},
        "systemd": {'\t\n"$`\\': True, "\r": False, "\x7f": False, "\ufffe": False, "\U0003ffff": False},
        "systemd-dropin": {"%": True, "\r": False, "x" * (1 << 20): False},
        "yaml": {"\0": True, "\ud800": False},
        "toml": {"\0": True, "\x7f": True},
        "properties": {" \f": True, "\ud800": False},
        "csv": {'a\r\n",;': True, "(empty)": True},
        "kube-configmap": {"": True, "\0": False},
        "containerfile": {'a "b" $c \\': True, "a\nb": False, "\r": False},
    }
    for dialect, texts in table.items():
        for text, can in texts.items():
            assert (get(dialect).unsupported_reason("A", text) is None) is can, (dialect, text[:20])
    assert "reserve this name" in (get("posix").unsupported_reason("UID", "1") or "")
    maps = {"nul", "json", "yaml", "toml", "pairs", "stage-prefixed", "settings", "properties", "csv"}
    kube = {"kube-configmap", "kube-secret"}
    for name, able in {
        "a.b-c": {"powershell", "literal", "compose", "dotenv", "containerfile", *maps, *kube},
        "ümlaut": {"powershell", "containerfile", *maps},
        "1ST": {"powershell", "dotenv", "containerfile", *maps},
    }.items():
        assert {dialect.name for dialect in carriers() if dialect.unsupported_reason(name, "x") is None} == able, name


@pytest.mark.unit
def test_a_refusal_names_the_variable_the_reason_and_who_can() -> None:
    with pytest.raises(CoinJarError) as caught:
        render(get("literal"), [Entry("PEM", "a\nb"), Entry("OK", "x"), Entry("NAÏVE", "x")], HEADING, carriers)
    first, second = caught.value.each()
    assert str(first) == "literal cannot carry PEM: it has a line break, but the grammar has no quotes"
    assert first.hint == "these can carry it: posix, fish, powershell, compose, systemd, systemd-dropin and 13 more"
    assert "literal cannot carry NAÏVE" in str(second)
    unclosed = [Entry("A", "\"'`"), Entry("B", "'\"`")]
    assert get("dotenv").clash(unclosed[:1]) is None
    with pytest.raises(CoinJarError, match="A and B begin with a quote"):
        render(get("dotenv"), unclosed, HEADING)


def test_exec_script_becomes_its_program(tmp_path: Path) -> None:
    script = tmp_path / "start"
    script.write_bytes(render(get("exec-script"), [Entry("A", "it's\n$x"), Entry("GONE", None)], HEADING))
    for shell in (["dash"], ["bash"], ["busybox", "sh"]):
        done = subprocess.run(
            [*shell, str(script), "/usr/bin/env", "-0"], env={"GONE": "1", "KEPT": "2"}, capture_output=True, check=True
        )
        environment = dict(pair.split(b"=", 1) for pair in done.stdout.split(b"\0") if pair)
        assert environment[b"A"] == b"it's\n$x"
        assert environment[b"KEPT"] == b"2"
        assert b"GONE" not in environment
        assert subprocess.run([*shell, str(script)], capture_output=True, check=False).returncode == 2


def test_fish_keeps_lists_of_folders_byte_for_byte(tmp_path: Path) -> None:
    """It splits names that end in PATH at colons, and joins them again."""
    entries = [Entry("MY_PATH", "/a:/b c::/d"), Entry("ONE_PATH", ""), Entry("X", "a:b"), Entry("HOME", None)]
    (tmp_path / "vars").write_bytes(render(get("fish"), entries, HEADING))
    environment = READERS["fish"]["fish"](tmp_path / "vars")
    assert {name: environment.get(name) for name in ("MY_PATH", "ONE_PATH", "X", "HOME")} == {
        "MY_PATH": b"/a:/b c::/d", "ONE_PATH": b"", "X": b"a:b", "HOME": None,
    }  # fmt: skip


@pytest.mark.unit
def test_what_people_write_for_fish() -> None:
    text = (
        '# mine\nset -gx A \'it\\\'s\'\nset -x -g B "a \\"b\\" \\$c"; set --export --global C plain\nset D kept\n'
        "set -gx E $HOME/x\nset -gx F a b\nset -e G\nset -q H; or set -gx H x\nif true\nend\n"
    )
    reading = get("fish").read(text.encode(), "a.fish")
    assert [(item.name, item.text) for item in reading.items] == [
        ("A", "it's"), ("B", 'a "b" $c'), ("C", "plain"), ("D", "kept"), ("G", None),
    ]  # fmt: skip
    lost = [remark.location.line for remark in reading.remarks if remark.lost]
    assert lost == [5, 6, 8, 9, 10]
    assert "D is set, but not exported" in [remark.message for remark in reading.remarks]


@pytest.mark.unit
def test_what_people_write_for_powershell() -> None:
    text = (
        '$env:A = \'it\'\'s\'\r\n$Env:B="a `"b`" `$c"; ${env:C.D} = 5 # five\n$env:E = "$HOME/x"\n'
        "Remove-Item Env:F -ErrorAction Ignore\nWrite-Host hello\n$env:G = \u2018curly\u2019\u2019\u2019\n"
    )
    reading = get("powershell").read(text.encode(), "a.ps1")
    assert [(item.name, item.text) for item in reading.items] == [
        ("A", "it's"), ("B", 'a "b" $c'), ("C.D", "5"), ("F", None), ("G", "curly\u2019"),
    ]  # fmt: skip
    assert [remark.location.line for remark in reading.remarks if remark.lost] == [3, 5]


@pytest.mark.unit
@pytest.mark.parametrize(
    ("text", "dialect"),
    [
        ("# mine\n$env:A = 'b'\n", "powershell"),
        ("${env:A.B} = 'b'\n", "powershell"),
        ("export A=$env:b\n", "posix"),
        ("set -gx A 'b'\n", "fish"),
        ("set --export A b\n", "fish"),
        ("#!/bin/sh\nset -x\nexport A=b\n", "posix"),
        ("set -eux\nA=b\n", "dotenv"),
    ],
)
def test_fish_is_recognised_and_no_shell_is_taken_for_it(text: str, dialect: str) -> None:
    assert recognise(text.encode()).dialect == dialect
