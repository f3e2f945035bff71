"""Marked regions of other files: written, read back, and read by the languages themselves."""

from __future__ import annotations

import contextlib
import json
import shutil
import socket
import subprocess
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple

import pytest
from hypothesis import given
from hypothesis import strategies as st

from coinjar.core.text_literals import LANGUAGES, NotWritable, quoted, unquoted
from tests.conftest import Coinjar
from tests.consumers import need

_SIGNS = "\"'\\`$#{}@%\n\r\t\0\x1b\u2028\u201cé𝄞u0x7 "
TEXTS = st.text(st.one_of(st.sampled_from(_SIGNS), st.characters(codec="utf-8")))
AWKWARD = {
    "PLAIN": "north pier", "QUOTES": "a\"b'c`d", "SIGNS": "p#s@s:w%d!$HOME #{x} #$y {$z} ${w}",
    "SLASHES": "a\\nb\\u0041\\",
    "LINES": "one\ntwo\r\nthree\tfour",
    "OTHERS": "é𝄞\u2028\u201cquoted\u201d\x1b0\x7f7", "EMPTY": "", "SPACES": "  x  ",
}  # fmt: skip


@pytest.mark.unit
@given(st.sampled_from([*LANGUAGES]), TEXTS)
def test_a_literal_leads_back_to_its_text_and_is_one_line(language: str, text: str) -> None:
    try:
        literal = quoted(language, text)
    except NotWritable:
        assert set(text) & set("\n\r\0$")
        return
    assert unquoted(language, literal) == text
    assert not set("\n\r") & set(literal)


@pytest.mark.unit
@given(st.sampled_from([*LANGUAGES]), TEXTS)
def test_what_is_no_literal_has_no_text(language: str, literal: str) -> None:
    """Or it has one that is written so again: nothing is read as another text than the language's."""
    text = unquoted(language, literal)
    if text is not None:
        assert unquoted(language, quoted(language, text)) == text


def yaml_text(text: str) -> str:
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\x7f").replace("\u2028", "\\u2028")


class Consumer(NamedTuple):
    """A program around a region, the line of a variable, and how it is run: it prints its variables as JSON."""

    file: str
    line: str
    between: str
    text: str
    run: Sequence[str]
    language: str


_JAVA = """\
import java.util.*;
class A {
  static String e(String s) {
    StringBuilder b = new StringBuilder("\\"");
    for (char c : s.toCharArray()) b.append(String.format("\\\\u%04x", (int) c));
    return b + "\\"";
  }
  public static void main(String[] a) {
    String[] v = {
      // MARKS
    };
    List<String> l = new ArrayList<>();
    for (int i = 0; i < v.length; i += 2) l.add(e(v[i]) + ":" + e(v[i + 1]));
    System.out.println("{" + String.join(",", l) + "}");
  }
}
"""
_GO = """\
package main
import ("encoding/json"; "os")
func main() {
\tv := map[string]string{
\t\t// MARKS
\t}
\tjson.NewEncoder(os.Stdout).Encode(v)
}
"""
_SHELL = "# MARKS\nexec python3 -c 'import json, os; print(json.dumps(dict(os.environ)))'\n"
_PYTHON = "import json\nV = {\n    # MARKS\n}\nprint(json.dumps(V))\n"
_SCRIPT = "const V = {\n  // MARKS\n};\nconsole.log(JSON.stringify(V));\n"
_RUBY = "require 'json'\nV = {\n  # MARKS\n}\nputs JSON.generate(V)\n"
_PHP = "<?php\n$v = [\n  // MARKS\n];\necho json_encode($v);\n"
CONSUMERS = [
    Consumer("a.py", '"{name}": {value},', "", _PYTHON, ["python3"], "python"),
    Consumer("a.js", "{name}: {value},", "", _SCRIPT, ["node"], "javascript"),
    Consumer("A.java", '"{name}", {value}', ",", _JAVA, ["java"], "java"),
    Consumer("a.rb", '"{name}" => {value},', "", _RUBY, ["ruby"], "ruby"),
    Consumer("a.go", '"{name}": {value},', "", _GO, ["go", "run"], "go"),
    Consumer("a.php", "'{name}' => {value},", "", _PHP, ["php"], "php"),
    Consumer("a.sh", "export {name}={value}", "", _SHELL, ["bash"], "shell"),
]


_PAIRS = [(consumer, "\n") for consumer in CONSUMERS]
_PAIRS += [(consumer, "\r\n") for consumer in CONSUMERS if consumer.language != "shell"]  # a shell reads no such file


@pytest.mark.parametrize(("consumer", "ending"), _PAIRS, ids=[f"{one.language}-{len(end)}" for one, end in _PAIRS])
def test_the_language_itself_reads_what_was_written(
    consumer: Consumer, ending: str, jar: Callable[..., Coinjar], tmp_path: Path
) -> None:
    program = need(consumer.run[0])
    values = {name: text for name, text in AWKWARD.items() if not (consumer.language == "shell" and "\n" in text)}
    variables = "".join(f"  {name}: {{default: {yaml_text(text)}}}\n" for name, text in values.items())
    there = f"type: region, path: {consumer.file}, quoted: {consumer.language}, line: {yaml_text(consumer.line)}"
    cj = jar(
        f"services: {{web: {{}}}}\nstages: {{dev: {{}}}}\nvariables:\n{variables}"
        f"destinations:\n  there: {{{there}, between: {yaml_text(consumer.between)}}}\n"
    )
    around = _marked(consumer.text).replace("\n", ending)
    (cj.folder / consumer.file).write_bytes(around.encode())
    for _ in range(2):
        cj("render", "dev", "there")
    data = (cj.folder / consumer.file).read_bytes().decode()
    before, _, rest = around.partition("coinjar: begin there" + ending)
    assert data.startswith(before)
    assert data.endswith(rest)
    assert "1 already up to date" in cj("render", "dev", "there").out
    cj("render", "dev", "there", "--verify")
    environment = {"PATH": cj.env["PATH"], "HOME": str(tmp_path), "LC_ALL": "C.UTF-8", "GO111MODULE": "off"}
    done = subprocess.run(
        [program, *consumer.run[1:], consumer.file], cwd=cj.folder, env=environment, capture_output=True, check=False
    )
    assert done.returncode == 0, done.stderr.decode()
    found = json.loads(done.stdout)
    assert {name: found.get(name) for name in values} == values
    assert f"{len(values)} the same\n" in cj("compare", "dev", "dest:there@dev").out


def _marked(text: str) -> str:
    lines = text.split("\n")
    at = next(number for number, line in enumerate(lines) if "MARKS" in line)
    marks = [lines[at].replace("MARKS", "coinjar: begin there"), lines[at].replace("MARKS", "coinjar: end there")]
    return "\n".join([*lines[:at], *marks, *lines[at + 1 :]])


NGINX = """\
daemon off; master_process off; pid {folder}/pid; error_log {folder}/log;
events {{ }}
http {{
  access_log off;
  server {{
    listen unix:{folder}/socket;
    # coinjar: begin there
    # coinjar: end there
    return 200 "$PLAIN|$QUOTES|$SLASHES";
  }}
}}
"""


def test_a_web_server_reads_it(jar: Callable[..., Coinjar], tmp_path: Path) -> None:
    """And a dollar sign, which it would replace, is refused."""
    names = ("PLAIN", "QUOTES", "SLASHES")
    variables = "".join(f"  {name}: {{default: {yaml_text(AWKWARD[name])}}}\n" for name in names)
    there = "  there: {type: region, path: nginx.conf, quoted: nginx, line: 'set ${name} {value};'}\n"
    cj = jar(f"services: {{web: {{}}}}\nstages: {{dev: {{}}}}\nvariables:\n{variables}destinations:\n{there}")
    cj.write({"nginx.conf": NGINX.format(folder=tmp_path)})
    cj("render", "dev", "there")
    with subprocess.Popen([need("nginx"), "-p", str(tmp_path), "-c", str(cj.folder / "nginx.conf")]) as server:
        try:
            found = b""
            for _ in range(600):
                with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX) as connection:
                    connection.connect(str(tmp_path / "socket"))
                    connection.sendall(b"GET / HTTP/1.0\r\n\r\n")
                    while piece := connection.recv(65536):
                        found += piece
                    break
                time.sleep(0.1)
        finally:
            server.terminate()
    assert found.partition(b"\r\n\r\n")[2].decode() == "|".join(AWKWARD[name] for name in names)
    cj.write({"jar/plain/dev.yaml": "all: {PLAIN: costs $5}\n"})
    assert "PLAIN cannot be written: nginx cannot write '$'" in cj("render", "dev", "there", code=3).err


SEVERAL = """\
services: {web: {}, web-api: {}}
stages: {dev: {}, prod: {}}
variables:
  ZONE: {default: north}
  TOKEN: {secret: true, services: [web]}
  IMAGE: {default: base, phase: build}
  BOTH: {default: b, phase: both}
destinations:
  maps:
    type: region
    path: stack.tf
    quoted: json
    line: "{name} = {value}"
    begin: "# {stage} {service} variables"
    end: "# end of {stage} {service}"
    secrets: "kept/{name}"
"""


def test_two_of_each_in_one_file(jar: Callable[..., Coinjar]) -> None:
    """Services and stages with regions of their own, each written alone, the others unchanged; names with the same
    beginning are not confused; secrets are replaced; the build's variables only where the place takes them.
    """
    pairs = [(stage, service) for stage in ("dev", "prod") for service in ("web", "web-api")]
    lines = "m {{\n  # {0} {1} variables\n  old = 1\n  # end of {0} {1}\n}}\n"
    text = "".join(lines.format(*pair) for pair in pairs)
    cj = jar(SEVERAL, dev="web: {TOKEN: made-up}\n", prod="all: {ZONE: south}\nweb: {TOKEN: made-up}\n")
    cj.write({"stack.tf": text})
    cj("render", "prod")
    regions = cj.read("stack.tf").split("m {\n")[1:]
    assert [region.count("old = 1") for region in regions] == [1, 1, 0, 0]
    assert regions[2] == (
        '  # prod web variables\n  ZONE = "south"\n  TOKEN = "kept/TOKEN"\n  BOTH = "b"\n  # end of prod web\n}\n'
    )
    assert "TOKEN" not in regions[3]
    cj("render", "dev")
    assert cj.read("stack.tf").split("m {\n")[3] == regions[2]
    assert "made-up" not in cj.read("stack.tf")
    declared = cj.read("jar/jar.yaml")
    cj.write({"jar/jar.yaml": declared + "    phases: [build]\n"})
    cj("render", "dev")
    assert 'variables\n  IMAGE = "base"\n  BOTH = "b"\n  # end of dev web\n' in cj.read("stack.tf")
    cj.write({"jar/jar.yaml": declared + "    phases: [biuld]\n"})
    assert "there is no phase 'biuld'" in cj("render", "dev", code=3).err
    cj.write({"jar/jar.yaml": declared, "stack.tf": text.replace("# end of dev web-api", "# end")})
    done = cj("render", "dev", code=3)
    assert "stack.tf:1:1: no line has the mark '# end of dev web-api'" in done.err
    cj.write({"stack.tf": text + text})
    assert "several lines have the mark '# dev web variables'" in cj("render", "dev", code=3).err


def test_a_secret_in_a_region_is_as_guarded_as_in_a_file(jar: Callable[..., Coinjar]) -> None:
    """Its line is masked in the difference; what somebody else wrote between the marks is reported when it is read."""
    cj = jar(SEVERAL.replace('    secrets: "kept/{name}"\n', ""), dev="web: {TOKEN: made-up}\n")
    marks = "# dev web variables\n# end of dev web\n# dev web-api variables\n# end of dev web-api\n"
    cj.write({"stack.tf": marks})
    shown = cj("render", "dev", "--dry-run")
    assert "made-up" not in shown.out + shown.err
    cj("render", "dev")
    assert 'TOKEN = "made-up"' in cj.read("stack.tf")
    assert (cj.folder / "stack.tf").stat().st_mode & 0o777 == 0o600
    cj.write({"stack.tf": cj.read("stack.tf").replace("north", "south", 1).replace("BOTH =", "BOTH", 1)})
    done = cj("compare", "dev", "dest:maps@dev", code=1)
    assert "made-up" not in done.out + done.err
    assert "ZONE" in done.out
    assert "stack.tf:4:1: this line was not written by the destination" in done.err


SHARED_FILE = """\
services: {web: {}}
stages: {dev: {}, prod: {}}
variables: {A: {default: x}, T: {secret: true, required: false}}
destinations:
  one: {type: region, path: f.py, quoted: python, line: "{name} = {value}"}
  two: {type: region, path: f.py, quoted: python, line: "{name} = {value}", without: [T]}
"""


def test_a_file_of_two_destinations_has_the_secrets_of_both(jar: Callable[..., Coinjar]) -> None:
    """Whichever is rendered last: a tracked file is refused, another becomes private, and no difference shows them."""
    for order in (("one", "two"), ("two", "one")):
        cj = jar(SHARED_FILE, dev="all: {T: made-up-9}\n")
        cj.write({"f.py": "".join(f"# coinjar: begin {name}\n# coinjar: end {name}\n" for name in order)})
        (cj.folder / "f.py").chmod(0o644)
        assert "made-up-9" not in cj("render", "dev", *order, "--dry-run").out
        subprocess.run(["git", "init", "-q"], cwd=cj.folder, check=True)
        subprocess.run(["git", "add", "f.py"], cwd=cj.folder, check=True)
        done = cj("render", "dev", *order, code=3)
        assert "a secret to a file that version control tracks" in done.err
        assert "made-up-9" not in cj.read("f.py")
        subprocess.run(["git", "rm", "-q", "--cached", "f.py"], cwd=cj.folder, check=True)
        cj("render", "dev", *order)
        assert (cj.folder / "f.py").stat().st_mode & 0o777 == 0o600
        assert cj.read("f.py").count('A = "x"') == 2
        shutil.rmtree(cj.folder / ".git")
