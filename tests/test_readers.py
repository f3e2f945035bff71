"""Every dialect's reader against the real ones, and what it reports that a person may not expect."""

from __future__ import annotations

import re
import subprocess
import tempfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from coinjar.core.errors import CoinJarError
from coinjar.dialects import reader
from coinjar.dialects.base import ReadItem
from coinjar.dialects.detection import recognise
from tests.consumers import READERS, node, nodes

NAME = st.sampled_from(["A", "B", "LONG_NAME"])
WORD = st.text(st.sampled_from("xyz09./:_-é"), max_size=5)
SHELL_PIECES = st.one_of(
    WORD,
    st.text(st.sampled_from('ab \t\n"#$\\`;&'), max_size=5).map(lambda text: f"'{text}'"),
    st.text(st.sampled_from("ab \t\n'#;&é"), max_size=5).map(lambda text: f'"{text}"'),
    st.sampled_from(['"\\$"', '"\\""', '"\\`"', '"\\x"', "\\ ", "\\'", "\\#", '"a\\\nb"']),
)
SHELL_LINES = st.one_of(
    st.builds(
        "{}{}={}{}".format,
        st.sampled_from(["", "export ", "  ", "export  "]),
        NAME,
        st.lists(SHELL_PIECES, max_size=3).map("".join),
        st.sampled_from(["", " # c", ";"]),
    ),
    st.sampled_from(["# comment", "", "   ", "unset A", "export A", "export A='1' B=2", "LONG_NAME=$A"]),
)
DOTENV_PIECES = st.one_of(
    st.text(st.sampled_from("ab ./:$=\\né"), max_size=8),
    st.builds("{0}{1}{0}".format, st.just('"'), st.text(st.sampled_from("ab '#\n`$\\n"), max_size=8)),
    st.builds("{0}{1}{0}".format, st.just("'"), st.text(st.sampled_from('ab "#\n`\\n'), max_size=8)),
)
DOTENV_LINES = st.one_of(
    st.builds(
        "{}{}={}{}".format,
        st.sampled_from(["", "export ", "  "]),
        NAME,
        DOTENV_PIECES,
        st.sampled_from(["", " # c", "  ", "\r"]),
    ),
    st.sampled_from(["# comment", "", "  # indented", "A = 1", "B=\t2"]),
).filter(
    # Node.js 24 reads the first as a name of two words, and takes the line after the second for its value: we do not,
    # and say so.
    lambda line: not re.fullmatch(r"export \w+=\s*(#.*)?|.*=[ \t]+\r?", line)
)


@settings(max_examples=60)
@given(st.lists(SHELL_LINES, min_size=1, max_size=8))
def test_posix_files_are_read_as_a_shell_reads_them(lines: list[str]) -> None:
    """Files as people write them: what dash makes of one, our reader makes of it too, unless it says that it left a
    line out.
    """
    text = "\n".join(lines) + "\n"
    reading = reader("posix").read(text.encode(), "f")
    if any(remark.lost for remark in reading.remarks):
        return
    done = subprocess.run(
        ["dash", "-ec", f"set -a\n{text}\nexec /bin/cat /proc/self/environ"], env={}, capture_output=True, check=True
    )
    environment = {
        name: value
        for name, _, value in (pair.partition("=") for pair in done.stdout.decode().split("\0"))
        if name in ("A", "B", "LONG_NAME")
    }
    assert _last(reading.items) == environment


def _last(items: list[ReadItem]) -> dict[str, str]:
    """What is set once a file has been read to its end."""
    result: dict[str, str] = {}
    for item in items:
        result.pop(item.name, None)
        if item.text is not None:
            result[item.name] = item.text
    return result


@settings(max_examples=40)
@given(st.lists(DOTENV_LINES, min_size=1, max_size=8))
def test_quoted_files_are_read_as_node_reads_them(lines: list[str]) -> None:
    """The newer Node.js, where the two differ."""
    text = "\n".join(lines) + "\n"
    with tempfile.NamedTemporaryFile("w", newline="") as file:
        file.write(text)
        file.flush()
        environment = node(Path(file.name), nodes()[:1])
    reading = reader("dotenv").read(text.encode(), "f")
    assert {name: value.encode() for name, value in _last(reading.items).items()} == environment


SYSTEMD_RAW = st.lists(
    st.one_of(
        st.text(st.sampled_from("ab \t#;$`="), max_size=6),
        st.text(st.sampled_from("ab \t'#;$\n"), max_size=6).map(lambda text: f'"{text}"'),
        st.text(st.sampled_from('ab \t"#;$\n'), max_size=6).map(lambda text: f"'{text}'"),
        st.sampled_from(["\\\n", "\\x", "\\\\", '"\\"\\\\\\$\\`\\x"', '"a\\\nb"', "\\ "]),
    ),
    max_size=3,
).map("".join)
PROPERTIES_RAW = st.lists(
    st.one_of(
        st.text(st.sampled_from("ab =:#!\t\f"), max_size=6),
        st.sampled_from(["\\u00e9", "\\n", "\\t", "\\\\", "\\\n  ", "\\z", "\\:", "\\ud83d\\ude42"]),
    ),
    max_size=4,
).map("".join)
CONTAINERFILE_RAW = st.lists(
    st.one_of(
        st.text(st.sampled_from("ab./:=#-"), min_size=1, max_size=5),
        st.text(st.sampled_from("ab '#;=\t"), max_size=6).map(lambda text: f'"{text}"'),
        st.text(st.sampled_from('ab "#;=$\\'), max_size=6).map(lambda text: f"'{text}'"),
        st.sampled_from(["\\ ", '\\"', '"\\"\\$\\\\"', "\\\n"]),
    ),
    min_size=1,
    max_size=3,
).map("".join)


@pytest.mark.parametrize(
    ("dialect", "program", "raw", "form", "runs"),
    [
        ("systemd", "systemd", SYSTEMD_RAW, "{} ={}", 5),
        ("properties", "java", PROPERTIES_RAW, " {} {}", 8),
        ("containerfile", "podman_build", CONTAINERFILE_RAW, "ENV {}={}", 4),
    ],
)
def test_files_are_read_as_their_readers_do(
    dialect: str,
    program: str,
    raw: st.SearchStrategy[str],
    form: str,
    runs: int,
    tmp_path_factory: pytest.TempPathFactory,
) -> None:
    """Files as people write them: what the real reader makes of one, ours makes of it too, unless it says that it left
    something out.
    """
    folder = tmp_path_factory.mktemp(program)

    @settings(max_examples=runs, suppress_health_check=list(HealthCheck))
    @given(st.lists(raw, min_size=20, max_size=60))
    def holds(values: list[str]) -> None:
        text = "".join(f"{form.format(f'V{number}', value)}\n" for number, value in enumerate(values))
        (folder / "vars").write_text(text)
        reading = reader(dialect).read(text.encode(), "vars")
        environment = READERS[dialect][program](folder / "vars")
        lost = {remark.location.line for remark in reading.remarks if remark.lost}
        ours = {item.name: item.text.encode() for item in reading.items if item.text is not None}
        assert lost or {name: value for name, value in environment.items() if name.startswith("V")} == ours
        assert ours.items() <= environment.items()

    holds()


SPECIFIED = """\
VAR=VAL|VAL
VAR="VAL"|VAL
VAR='VAL'|VAL
VAR=VAL # comment|VAL
VAR=VAL# not a comment|VAL# not a comment
VAR="VAL # not a comment"|VAL # not a comment
VAR="VAL" # comment|VAL
VAR='$OTHER'|$OTHER
VAR='${OTHER}'|${OTHER}
VAR='Let\\'s go!'|Let's go!
VAR="{\\"hello\\": \\"json\\"}"|{"hello": "json"}
VAR="some\\tvalue"|some\tvalue
VAR='some\\tvalue'|some\\tvalue
VAR=some\\tvalue|some\\tvalue
VAR=|
VAR=$$x|$x
VAR="${NO:-a ${NO-b}}"|a b
VAR=${NO:+x}y|y
"""
"""The examples of the Compose Specification, but its interpolation: a line, and the value."""


@pytest.mark.parametrize("example", SPECIFIED.splitlines())
def test_compose_files_are_read_as_specified(example: str) -> None:
    line, value = example.split("|")
    reading = reader("compose").read(f"{line}\n".encode(), "f")
    assert [item.text for item in reading.items] == [value]


READINGS = {
    # dialect and text: the items, and the remarks as line:column message
    ("dotenv", 'A = "x" y\nB=a#b\nC="say \\"hi\\""\nexport D=1\nno line\nE="$HOME"\nF=\'a\nb\'\nH= \nG="open\n'): (
        {"A": "x", "B": "a", "C": "say \\", "D": "1", "E": "$HOME", "F": "a\nb", "H": "", "G": '"open'},
        [
            "1:1 the spaces around '=' of A were ignored",
            "1:1 A: text after its closing quote was ignored",
            "2:1 B: the text after '#' was read as a comment, although there is no space before it",
            "3:1 C: '\\\"' is not unescaped: the value ends at that quote",
            "3:1 C: text after its closing quote was ignored",
            "5:1 ignored: the line has no '='",
            "6:1 E: `$` is kept literally: this dialect does not expand references",
            "7:1 F: it spans several lines, up to its closing quote",
            "9:1 H: only spaces follow its '='; it was read as empty, but some readers take the next line as its value",
            '10:1 G: its " is never closed, so it is part of the value',
        ],
    ),
    (
        "posix",
        'export A=\'x\' B="$A y" # c\nC=a\\ b; unset D\nE=$(date)\nF = 1\nK=My App\n2G=x\nH=$NOPE\nI+=1\nJ="a\\\nb"\n',
    ): (
        {"A": "x", "B": "x y", "C": "a b", "D": None, "J": "ab"},
        [
            "1:17 $A was replaced by the value set above, as a shell does",
            "3:1 ignored: this line needs a shell to expand a '$' or a '`'",
            "4:1 ignored: this line is not an assignment",
            "5:1 ignored: this line would run a program: quote a value that contains a space",
            "6:1 ignored: this line sets '2G', which shells cannot",
            "7:1 ignored: this line needs the value of NOPE, which this file does not set above",
            "8:1 ignored: this line appends to a value, which not every shell does",
        ],
    ),
    ("literal", '# c\nA="x"\n B=1 # 2\r\nC = 3\nNAME\n-----END made-up KEY-----\n'): (
        {"A": '"x"', "B": "1 # 2", "C ": " 3"},
        [
            "2:1 the quotes around the value of A are part of it: this grammar has no quotes",
            "3:2 the carriage return at the end of the line was ignored, as readers do",
            "3:2 the '#' in the value of B is part of it: this grammar has no comments after values",
            "4:1 the space before '=' is part of the name 'C '",
            "4:1 the space after '=' is part of the value of C ",
            "5:1 ignored: 'NAME' has no '=', so the container would inherit it from its caller",
            "6:1 ignored: this text has no '=', so the container would inherit it from its caller",
        ],
    ),
    ("json", '\ufeff{"A": "x", "B": 1.10, "C": null,\n "D": [1], "A": true}'): (
        {"A": "true", "B": "1.10"},
        [
            "1:1 a byte-order mark before the first name was ignored",
            "1:12 B is not a text; it was read as written",
            '1:23 ignored: C is null, which may mean "", the word null, or no value',
            "2:2 ignored: D is not a text but a list",
            "2:12 A is not a text; it was read as written",
        ],
    ),
    ("compose", "A=$B\nB=x\nC=${B}y\nUNSET\nexport D=1\nE =' a'b\nF=\"open\nG=${\n"): (
        {"B": "x", "C": "xy", "UNSET": None, "D": "1", "E": " a"},
        [
            "1:1 ignored: A needs the value of B, which this file does not set above",
            "3:1 in C $B was replaced by the value set above",
            "4:1 UNSET has no '=', so it is unset",
            "5:1 'export' before D was ignored: the specification does not have it",
            "6:1 the space before '=' of E was ignored",
            "6:1 what follows the closing quote of E was ignored",
            '7:1 ignored: the " of F is never closed',
            "8:1 ignored: the value of G has no name after '${'",
        ],
    ),
    ("systemd", '# c\\\ngoes on\nA=x # y\nB-C=1\nD="$H\nE=1\n'): (
        {"A": "x # y", "D": "$H\nE=1\n"},
        [
            "1:1 the comment continues on the next line, because of its final backslash",
            "3:1 the '#' in the value of A is part of it: systemd has no comments after values",
            "4:1 ignored: systemd does not accept the name 'B-C'",
            '5:1 D: its " is never closed',
            "5:1 D: `$` is kept literally: this dialect does not expand references",
        ],
    ),
    (
        "systemd-dropin",
        (
            "[Unit]\nEnvironment=X=1\n[Service]\n"
            "Environment=A=1 \"B=two\\x20%%\" 'C=\\n'\nEnvironment=D=%h E\nUnsetEnvironment=F\nExecStart=x\n"
        ),
    ): (
        {"A": "1", "B": "two %", "C": "\n", "F": None},
        [
            "2:1 'Environment' was ignored: only Environment= of [Service] is read",
            "5:1 ignored: D has a '%' specifier, which systemd expands",
            "5:1 ignored: systemd does not accept the assignment 'E'",
            "7:1 'ExecStart' was ignored: only Environment= of [Service] is read",
        ],
    ),
    ("yaml", "A: 1.10\nB: 'x'\nC:\nD: [1]\nE: plain\n"): (
        {"A": "1.10", "B": "x", "E": "plain"},
        [
            "1:1 A is a number to readers with types, and becomes '1.1' there: quote it",
            '3:1 ignored: C is null, which may mean "", the word null, or no value',
            "4:1 ignored: D is not a text but a list",
        ],
    ),
    ("toml", 'A = "x"\nB = 1_000\n[t]\nC = "y"\n'): (
        {"A": "x", "B": "1000"},
        ["2:1 B is not a text; it was read as 1000", "0:0 ignored: t is not a text but a table"],
    ),
    ("pairs", '[{"name": "A", "value": "x"}, {"name": "B"}, {"name": "C", "value": "y", "slot": 1}]'): (
        {"A": "x", "C": "y"},
        ["1:31 ignored: an element without a name or without a value", "1:74 'slot' of C was ignored"],
    ),
    ("properties", "A: 1\nB=x \n# c\nC=\\uZ\nD=é # f\n"): (
        {"A": "1", "B": "x ", "D": "é # f"},
        [
            "2:1 the spaces at the end of B are part of its value",
            "4:1 ignored: a '\\u' without four digits, at which Java stops",
            "5:1 D is not ASCII: Java's stream reader reads it as Latin-1, its character readers do not",
            "5:1 the '#' in the value of D is part of it: there are no comments after values",
        ],
    ),
    ("csv", 'name;value\nA;"x;y"\n;z\n\nB;1;more\n'): (
        {"A": "x;y", "B": "1"},
        [
            "1:1 read with ';' between cells, as in the first row",
            "3:1 ignored: the row has no name or no value",
            "5:1 text after the value of B was ignored",
        ],
    ),
    ("nul", "A=1\0B=a\nb\0bad\0"): ({"A": "1", "B": "a\nb"}, ["2:3 ignored: entry 3 is not NAME=VALUE"]),
}


@pytest.mark.parametrize(("dialect", "text"), READINGS)
def test_readers_report_what_a_person_may_not_expect(dialect: str, text: str) -> None:
    reading = reader(dialect).read(text.encode(), "f")
    items, remarks = READINGS[dialect, text]
    assert {item.name: item.text for item in reading.items} == items
    assert [
        f"{remark.location.line}:{remark.location.column} {remark.message}" for remark in reading.remarks
    ] == remarks


def test_faults_of_whole_files_have_their_place() -> None:
    for dialect, data, message in [
        ("json", b'{"A": "x",}', "f:1:10: this is not JSON: there is a comma before the end"),
        ("json", b"[1]", "f:1:1: this is not a JSON object"),
        ("json", b'{"A": ' + b"[" * 100_000, "f:1:57: this is not JSON: it is nested more than 50 levels deep"),
        ("dotenv", b"A=1\nB=\xff\n", "f:2:3: byte 0xff is not UTF-8 text"),
        ("yaml", b"A: [1\n", "f:2:1: this is not YAML: did not find expected ',' or ']'"),
        ("toml", b"A = 1\nB = x\n", "f:2:5: this is not TOML: invalid value"),
        ("pairs", b"{}", "f:1:1: this is not a JSON list"),
        ("csv", b'name,value\n"A,1\n', "f:2:1: this is not CSV: unexpected end of data"),
        ("csv", b"A,B\n", "f:1:1: this table has no header row"),
        ("kube-configmap", b"kind: Pod\n", "f:1:1: it contains no ConfigMap or Secret"),
    ]:
        with pytest.raises(CoinJarError) as caught:
            reader(dialect).read(data, "f")
        assert str(caught.value) == message


def test_dialects_are_recognised() -> None:
    table = {
        b"A=1\0B=2\0": "nul",
        b' {"A": "1"}': "json",
        b'{"a": {"b": "1"}, "c": "2"}': "settings",
        b'{"apiVersion": "v1", "data": {"b": "1"}}': "json",
        b'{"a": {"b": ': "json",
        b"# c\nexport A=1\n": "posix",
        b"A='1'\n": "dotenv",
        b"A=1\n": "dotenv",
    }
    table |= {
        b"A: x\n": "yaml",
        b'[{"name": "A"}]': "pairs",
        b"[Service]\n": "systemd-dropin",
        b"FROM x\nENV A=1\n": "containerfile",
        b"name,value\n": "csv",
    }
    table |= {b"apiVersion: v1\nkind: Secret\n": "kube-configmap"}
    assert {data: recognise(data).dialect for data in table} == table
    by_name = {"a.toml": "toml", "a.properties": "properties", "a.yml": "yaml", "a.env": "dotenv"}
    assert {name: recognise(b"a = 1\n", name).dialect for name in by_name} == by_name
