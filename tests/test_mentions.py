"""Where code mentions variables: labelled snippets in every language, which files are looked at, what is known from the
last look, findings.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from coinjar.mentions.languages import language_of, look
from coinjar.scanning.file_walk import FileWalk
from coinjar.scanning.scan import ScanRequest, scan
from tests.conftest import Coinjar
from tests.labelled import NAMES, scores, snippets

SNIPPETS = list(snippets())


def test_labels_are_found() -> None:
    result = scores()
    assert set(result) == set(NAMES)
    assert len(SNIPPETS) >= 300
    for language, score in result.items():
        assert sum(snippet.language == language for snippet in SNIPPETS) > 15, language
        assert score.precision >= 0.98, (language, score)
        assert score.recall >= 0.95, (language, score)


@given(st.sampled_from(SNIPPETS), st.integers(0, 400), st.integers(0, 40))
def test_broken_text_breaks_nothing_and_places_are_exact(snippet: object, at: int, length: int) -> None:
    """Whatever is cut out of a text, its reader comes to an end, and what it finds stands where it says."""
    from tests.labelled import Snippet

    assert isinstance(snippet, Snippet)
    data = (snippet.text[:at] + snippet.text[at + length :]).encode()
    language = language_of(snippet.file)
    assert language
    mentions = look(language, data, frozenset({"setting"}))
    assert all(_folded(data[mention.start : mention.end]) in mention.name.casefold() for mention in mentions.mentions)
    assert all(0 <= computed.start <= computed.end <= len(data) for computed in mentions.unknown)


def _folded(text: bytes) -> str:
    """A name as frameworks spell it: lower case, sections with colons."""
    return text.decode().casefold().replace(":", "__")


TREE = {
    ".gitignore": "build/\n*.gen.py\n!kept.gen.py\n",
    "a.py": "import os\nos.environ['A']\n", "x.gen.py": "import os\nos.environ['NO']\n",
    "kept.gen.py": "import os\nos.environ['KEPT']\n",
    "build/b.py": "import os\nos.environ['NO']\n", "node_modules/m/i.js": "process.env.NO\n",
    "app.min.js": "process.env.NO\n",
    "sub/.gitignore": "secret.py\n", "sub/secret.py": "import os\nos.environ['NO']\n",
    "sub/ok.py": "import os\nos.environ['OK']\n",
    "run": "#!/usr/bin/env bash\necho $RUN_BY\n", "notes": "#!/bin/sh\necho $NOT_EXECUTABLE\n",
    "readme.md": "os.environ['NO']\n",
    "binary.py": "import os\n\0os.environ['NO']\n", "conf.fill": "listen ${FILLED};\n",
}  # fmt: skip


def names_in(result: object) -> set[str]:
    from coinjar.scanning.scan import ScanResult

    assert isinstance(result, ScanResult)
    return {located.mention.name for file in result.files for located in file.mentions if located.mention}


def test_what_is_looked_at_and_what_is_known(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name, text in TREE.items():
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_bytes(text.encode())
    (tmp_path / "run").chmod(0o755)
    (tmp_path / "large.py").write_text("import os\nos.environ['NO']\n" + "#" * (1 << 20))
    (tmp_path / "link.py").symlink_to(tmp_path / "a.py")
    old = (tmp_path / "a.py").stat().st_mtime - 60
    for path in tmp_path.rglob("*"):
        os.utime(path, (old, old), follow_symlinks=False)
    cache, here, scan_request = tmp_path.parent / "cache.json", [str(tmp_path)], ScanRequest(templates=(".fill",))

    def again(asked: ScanRequest = scan_request) -> object:
        return scan(FileWalk(asked.templates), here, asked, cache=cache)

    first = again()
    assert not cache.exists()  # not worth it for so few
    monkeypatch.setattr("coinjar.scanning.scan._FEW", 1)
    first = again()
    assert names_in(first) == {"A", "KEPT", "OK", "RUN_BY", "FILLED"}
    left_out = {"vendored": 1, "over 1 MiB": 1, "minified": 1}
    assert (first.cached, dict(first.left_out)) == (0, left_out)  # type: ignore[attr-defined]
    second = again()
    assert names_in(second) == names_in(first)
    assert second.cached == second.scanned  # type: ignore[attr-defined]
    (tmp_path / "a.py").write_text("import os\nos.environ['B']\n")
    assert "B" in names_in(again())
    assert "A" not in names_in(again())
    assert again(ScanRequest(frozenset({"setting"}), (".fill",))).cached == 0  # type: ignore[attr-defined]
    cache.write_text("{broken")
    assert "B" in names_in(again())
    assert names_in(scan(FileWalk(), [str(tmp_path / "build/b.py")], ScanRequest())) == {"NO"}  # named, so looked at
    deep = tmp_path / "deep"
    deep.mkdir()
    (deep / "a.js").write_text("x = " + "(\n" * 5000 + "process.env.A" + ")" * 5000)
    (deep / "b.py").write_bytes(b"import os\nos.environ['\\udcff'], os.environ['A\\x00B'], os.environ['OK']\n")
    (deep / "c.ps1").write_bytes("$env:BOAT = 1".encode("utf-16"))
    odd = scan(FileWalk(), [str(deep)], ScanRequest())
    assert names_in(odd) == {"OK"}
    assert [(Path(file.path).name, file.message) for file in odd.unreadable] == [
        ("a.js", "it is nested too deeply to be read"),
        ("c.ps1", "it is UTF-16: save it as UTF-8"),
    ]
    many = tmp_path / "many"
    many.mkdir()
    for number in range(400):
        (many / f"f{number}.py").write_text(f"import os\nos.environ['N{number}']\n")
    assert len(names_in(scan(FileWalk(), [str(many)], ScanRequest()))) == 400  # several processes


JAR = """\
services: {web: {code: [web]}, mailer: {code: [mailer]}}
code: {paths: [both], helpers: [setting]}
stages: {dev: {}, prod: {}}
variables:
  PORT: {kind: port, default: 8080}
  LEVEL: {default: info}
  DEBUG: {kind: boolean, default: no}
  MAIL_HOST: {services: [mailer], default: mail.example, kind: host}
  TOKEN: {secret: true, default: change-me}
  UNUSED: {default: x}
  USED_BY_TEXT: {default: x}
  TEXT: {default: {text: "${USED_BY_TEXT}"}}
"""
CODE = {
    "both/a.py": (
        "import os\nport = int(os.environ.get('PORT', '9090'))\n"
        "level = os.environ.get('LEVEL', 'info')\nprint('listening on 8080')\n"
    ),
    "both/s.py": "setting('TEXT')\nsetting('NEW_ONE', 'x')\n",
    "web/a.js": (
        "if (process.env.DEBUG) go();\n"
        "const h = process.env.MAIL_HOST, t = process.env.TOKEN || 'made-up-default';\n"
        "const n = process.env.NEW_LIMIT || '30s', l = process.env.level;\n"
    ),
    "mailer/m.sh": "#!/bin/sh\necho \"$MAIL_HOST\" ${{ vars.LEVEL }} $HOME\n",
}  # fmt: skip


def test_findings_and_suggestions(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR)
    cj.write(CODE)
    data = json.loads(cj("mentions", "--json").out)
    messages = {
        (finding["rule"], finding["file"], finding["line"], finding["column"], finding["message"].split(",")[0])
        for finding in data["findings"]
    }
    assert messages == {
        ("CJ035", "both/s.py", 2, 10, "NEW_ONE is used"),
        ("CJ035", "web/a.js", 3, 23, "NEW_LIMIT is used"),
        ("CJ036", "jar/jar.yaml", 12, 3, "UNUSED is declared"),
        ("CJ037", "web/a.js", 2, 23, "web uses MAIL_HOST"),
        ("CJ038", "web/a.js", 3, 59, "level is used"),
        ("CJ039", "both/a.py", 2, 28, "a.py falls back to 9090 for PORT"),
        ("CJ040", "web/a.js", 1, 17, "DEBUG is a boolean"),
        ("CJ041", "mailer/m.sh", 2, 28, "this reference to LEVEL is not expanded here"),
        ("CJ042", "both/a.py", 4, 21, "8080 is a value of PORT"),
    }
    assert (
        "made-up-default" not in cj("mentions").out + cj("mentions", "--json").out
    )  # what code falls back to for a secret
    checked = json.loads(cj("check", "--format", "json", code=None).out)["findings"]
    assert {finding["rule"] for finding in checked} >= {f"CJ0{number}" for number in range(35, 43)}
    cj("mentions", "--strict", code=1)
    shown = cj("mentions", "--suggest")
    assert "  NEW_LIMIT: {kind: duration, services: [web], default: 30s}\n" in shown.out
    assert "  # both/s.py:2:10\n  NEW_ONE: {default: x}\n" in shown.out
    cj("mentions", "--suggest", "--yes")
    assert not [
        finding for finding in json.loads(cj("mentions", "--json").out)["findings"] if finding["rule"] == "CJ035"
    ]
    assert cj("value", "dev", "NEW_LIMIT", "--service", "web").out.strip() == "30s"


def test_without_a_jar_and_what_is_refused(cj: Coinjar, jar: Callable[..., Coinjar]) -> None:
    cj.write({"src/a.rb": "x = ENV.fetch('PIER', 'north')\ny = ENV[name]\n"})
    shown = cj("mentions", "src")
    assert shown.out.startswith("1 name used in 1 place, 1 of 1 file\n")
    assert "1 name is known only at run time:\n  src/a.rb:2:9: name\n" in shown.out
    assert "nowhere: there is no such file" in cj("mentions", "nowhere", code=3).err
    assert "no jar here" in cj("mentions", "src", "--suggest", code=3).err
    jar(JAR)
    assert "which is listed under code" in cj("check", code=3).err


def test_what_is_shown(cj: Coinjar, jar: Callable[..., Coinjar]) -> None:
    """One name a row or one place a row; names that a helper takes; what was ignored; the same in JSON."""
    cj.write(
        {
            "src/a.py": "import os\nfrom lib import setting\nsetting('FAR', 'x')\n"
            + "".join(f"os.environ.get('PIER', '{n}')\n" for n in range(5)),
            "src/b.sh": '#!/bin/sh\nexport TZ=UTC\n[ -n "$LOUD" ] && echo ${PIER:-north}\n',
            "src/vendor/c.py": "import os\nos.environ['NOT_OURS']\n",
        }
    )
    plain = cj("mentions", "src", env={"COLUMNS": "120"})
    rows = [line.split("  ") for line in plain.out.splitlines()[2:]]
    assert [[cell.strip() for cell in row if cell.strip()] for row in rows] == [
        ["LOUD", "asked", "src/b.sh:3:8"],
        ["PIER", "read", "0, 1, 2, 3, 4, north", "src/a.py:4:17, src/a.py:5:17, src/a.py:6:17, and 3 more"],
        ["TZ", "set", "src/b.sh:2:8"],
    ]
    assert "skipped: 1 vendored" in plain.err
    every = cj("mentions", "src", "--every-place", "--name", "pier*").out.splitlines()
    assert every[0] == "1 name used in 6 places, 2 of 2 files"
    assert len(every) == 2 + 6
    helped = json.loads(cj("mentions", "src", "--helper", "setting", "--json").out)
    assert {mention["name"] for mention in helped["mentions"]} == {"FAR", "LOUD", "PIER", "TZ"}
    far = next(mention for mention in helped["mentions"] if mention["name"] == "FAR")
    assert far == {
        "name": "FAR",
        "probable": None,
        "kind": None,
        "file": "src/a.py",
        "line": 3,
        "column": 10,
        "how": "read",
        "way": "variable",
        "default": "x",
        "services": [],
    }
    jar(
        "services: {web: {code: [src]}}\nstages: {dev: {}}\n"
        "variables: {A: {}, B: {}, C: {}, D: {}, PIER: {default: north}}\n"
    )
    shown = cj("mentions").out
    assert "4 variables are declared, but never used" in shown
    assert "A, B, C, D: remove them, or accept them with a reason" in shown
    assert shown.count("CJ039") == 5  # each other default, once a file


def test_a_sample_is_no_default(jar: Callable[..., Coinjar]) -> None:
    """What a supplied value looks like is told nobody: the code may fall back to anything."""
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\n"
        "variables: {PORT: {kind: port, supplied: {by: [host], sample: 9090}}}\ncode: {paths: [app]}\n"
    )
    with (cj.folder / "jar/jar.yaml").open("a") as file:
        file.write(
            "destinations: {host: {type: platform, platform: saltmarsh, address: 'http://127.0.0.1:1', app: "
            "x, token: {from_env: T}}}\n"
        )
    cj.write({"app/a.js": "const port = process.env.PORT || 3000;\n"})
    result = cj("check", code=0)
    assert "CJ039" not in result.out
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("supplied: {by: [host], sample: 9090}", "default: 9090")})
    assert "CJ039" in cj("check", code=None).out
