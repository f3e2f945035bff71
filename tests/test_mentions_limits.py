"""No file makes a search hang: what takes longer than its size explains is listed as not looked at."""

from __future__ import annotations

import errno
import itertools
import os
import signal
import subprocess
import time

import psutil
import pytest
from hypothesis import given
from hypothesis import strategies as st

from coinjar.core.errors import ExternalError
from coinjar.mentions import scopes
from coinjar.mentions.languages import by_end, look
from coinjar.scanning import scan, workers
from tests.conftest import PROGRAM, Coinjar

NAMES = st.sampled_from("abcde")
ASSIGNMENTS = st.lists(st.tuples(NAMES, NAMES), min_size=1, max_size=60)


@pytest.mark.unit
@pytest.mark.parametrize(("ending", "start", "line"), [
    (".js", "f(process.env.FOO)\n", "{} = {};\n"),
    (".py", "import os\nf(os.environ['FOO'])\n", "{} = {}\n"),
    (".php", "<?php f(getenv('FOO'));\n", "${} = ${};\n"),
    (".rb", "f(ENV['FOO'])\n", "{} = {}\n"),
])  # fmt: skip
@given(pairs=ASSIGNMENTS)
def test_following_names_is_linear(ending: str, start: str, line: str, pairs: list[tuple[str, str]]) -> None:
    """Whatever leads to whatever: a few steps for each assignment, for each distance."""
    data = (start + "".join(line.format(*pair) for pair in pairs)).encode()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(scopes, "_MOST_STEPS", 20 * len(pairs) + 20)
        assert [mention.name for mention in look(by_end()[ending], data, always=True).mentions] == ["FOO"]


@pytest.mark.parametrize(
    ("name", "token"),
    [
        ("a.sh", "if(a){"),
        ("b.sh", "|"),
        ("c.sh", "x "),
        ("d.sh", "<<E\n"),
        ("e.js", "${a:-"),
        ("Containerfile", "${{ "),
        ("g.yaml", "steps:\n- run: |\n    "),
        ("h.tmpl", "${a:-"),
        ("I.java", "a=>"),
        ("J.cs", "<a "),
        ("k.sh", "f() {\n${!x} "),
        ("l.go", 'EnvVar: "A"\n'),
        ("M.java", "enum A { B(C), D; A(int x) { this.x = x; } }\n"),
    ],
)
def test_a_text_that_nobody_writes_ends(name: str, token: str, cj: Coinjar, monkeypatch: pytest.MonkeyPatch) -> None:
    """It is read, or listed as not looked at; the file beside it is found in any case."""
    cj.write(
        {
            f"tree/{name}": f"# $A env getenv EnvironmentVariable steps:\n{token * (60_000 // len(token))}",
            "tree/z.py": "import os\nos.environ['FOUND']\n",
        }
    )
    cj("mentions", "tree/z.py")  # what its reader imports counts no more
    monkeypatch.setattr(scan, "_LONGEST", 0.2)
    monkeypatch.setattr(workers, "_LONGEST", 0)
    done = cj("mentions", "tree", code=None)
    assert "FOUND" in done.out
    assert done.code in (0, 1, 3)
    assert "Traceback" not in done.err


def test_packed_code_is_known_by_its_content(cj: Coinjar) -> None:
    """Whatever it is called: it is left out and counted, unless somebody names it; data in long lines is not code."""
    packed = "function a(b,c){return b(c)};" * 2000
    cj.write(
        {
            "tree/bundle.js": f"process.env.PACKED;{packed}\n",
            "tree/data.js": f"process.env.READ;\nconst data = '{'0123456789abcdef' * 4000}';\n",
            "tree/lines.js": f"process.env.LINES;\n{packed.replace(';', chr(10))}\n",
        }
    )
    for _ in range(2):
        done = cj("mentions", "tree")
        assert "skipped: 1 minified" in done.err
        assert "READ" in done.out
        assert "LINES" in done.out
        assert "PACKED" not in done.out
    assert "PACKED" in cj("mentions", "tree/bundle.js").out


def test_workers_end_with_their_parent(cj: Coinjar) -> None:
    """Also when it is killed and can tell them nothing."""
    cj.write({f"tree/{number}.sh": "echo $A\n" + "if(a){" * 4000 for number in range(200)})
    with subprocess.Popen(
        [PROGRAM, "mentions", "tree", "--no-cache"], cwd=cj.folder, env=cj.env, stdout=subprocess.DEVNULL
    ) as started:
        process = psutil.Process(started.pid)
        while len(started_by := process.children(recursive=True)) < 1 and started.poll() is None:
            time.sleep(0.05)
        assert started_by
        started.send_signal(signal.SIGKILL)
        started.wait()
        _, left = psutil.wait_procs(started_by, timeout=60)
        assert not left


@pytest.mark.unit
@pytest.mark.parametrize("allowed", [0, 1, 2])
def test_few_processes_are_enough(allowed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """Where a container limits processes, those that can be had do it all; where there is none, the error says so."""
    forks, fork = itertools.count(), os.fork

    def limited() -> int:
        if next(forks) >= allowed:
            raise BlockingIOError(errno.EAGAIN, os.strerror(errno.EAGAIN))
        return fork()

    def found() -> dict[str, list[int]]:
        parts = [[f"{part}-{number}" for number in range(3)] for part in range(20)]
        return {
            path: lines
            for results in workers.in_workers(parts, lambda path: [len(path)], lambda _: [], 3)
            for path, lines in results
        }

    monkeypatch.setattr(os, "fork", limited)
    before = psutil.Process().num_fds()
    if allowed:
        assert found() == {f"{part}-{number}": [len(f"{part}-{number}")] for part in range(20) for number in range(3)}
    else:
        with pytest.raises(ExternalError, match="resource temporarily unavailable"):
            found()
    assert psutil.Process().num_fds() == before
