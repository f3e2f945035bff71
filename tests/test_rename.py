"""Names changed everywhere: in the jar, in what is sealed, in documents and code; and back, byte for byte."""

from __future__ import annotations

import shutil
import signal
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from coinjar.core.errors import ExternalError, InputError
from coinjar.jarfile import journal
from coinjar.system.files import replace_file
from tests.conftest import DEMO, Coinjar
from tests.jars import somebody
from tests.systems import standin

JAR = """\
services: {web: {code: [app.py]}, mailer: {}}
stages: {dev: {}, prod: {}}
variables:
  HOST: {kind: host, default: db.example}   # where it is
  "USER": {default: boats}
  TOKEN: {secret: true}
  URL: {default: {text: "x://${USER}:${TOKEN@url}@${HOST:-none}/$${HOST}"}}
  MAIL: {only_with: [HOST=db.example], default: x}
together: {db: [HOST, USER]}
accepted: [{rule: CJ014, variable: MAIL, reason: HOST says so}]
destinations:
  page: {type: document, path: page.yaml, variables: ["HO*"],
         places: {/a/env: {services: [web], stage: prod, variables: [HOST]}}}
proofs: {p: {service: web, http: "http://${HOST}/", at: /settings/HOST, expect: "${HOST}"}}
"""
CODE = {
    "app.py": "import os\n# HOST is where\nhost = os.environ['HOST']\n",
    "page.yaml": "a:\n  env: {HOST: old}\n",
    "k8s.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: HOST}\ndata: {HOST: x}\n",
}


def tree(folder: Path) -> dict[str, bytes]:
    """Every file, without what is local."""
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file() and not {".local", ".config"} & {*path.parts}
    }


def test_every_place(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR, prod="all:\n  HOST: one.example  # prod's\nweb: {URL: {text: 'y://${HOST}'}}\n")
    cj.write(CODE)
    before = tree(cj.folder)
    shown = cj("rename", "HOST", "DB_HOST", "k8s.yaml", "--dry-run", code=1)
    assert tree(cj.folder) == before
    cj("rename", "HOST", "DB_HOST", "k8s.yaml", code=1)  # nobody there to say yes
    assert tree(cj.folder) == before
    done = cj("rename", "HOST", "DB_HOST", "k8s.yaml", "--yes")
    assert done.out == shown.out
    text = cj.read("jar/jar.yaml")
    for line in (
        "  DB_HOST: {kind: host, default: db.example, formerly: [HOST]}   # where it is",
        '  URL: {default: {text: "x://${USER}:${TOKEN@url}@${DB_HOST:-none}/$${HOST}"}}',
        "  MAIL: {only_with: [DB_HOST=db.example], default: x}",
        "together: {db: [DB_HOST, USER]}",
        "accepted: [{rule: CJ014, variable: MAIL, reason: HOST says so}]",
        '  page: {type: document, path: page.yaml, variables: ["HO*", DB_HOST],',
        "         places: {/a/env: {services: [web], stage: prod, variables: [DB_HOST]}}}",
        'proofs: {p: {service: web, http: "http://${DB_HOST}/", at: /settings/DB_HOST, expect: "${DB_HOST}"}}',
    ):
        assert line in text
    assert (
        cj.read("jar/plain/prod.yaml")
        == "all:\n  DB_HOST: one.example  # prod's\nweb: {URL: {text: 'y://${DB_HOST}'}}\n"
    )
    assert cj.read("app.py") == "import os\n# HOST is where\nhost = os.environ['DB_HOST']\n"
    assert cj.read("page.yaml") == "a:\n  env: {DB_HOST: old}\n"
    assert cj.read("k8s.yaml") == CODE["k8s.yaml"].replace("data: {HOST", "data: {DB_HOST")
    assert "app.py:2:3: HOST also appears here, but not as an environment variable; left unchanged" in done.err
    assert "k8s.yaml:3:18" in done.err


def test_there_and_back(cj: Coinjar) -> None:
    """Every variable of the demo to another name and back leaves every byte as it was."""
    shutil.copytree(DEMO, cj.folder, dirs_exist_ok=True)
    names = [
        line.split(":")[0].strip()
        for line in cj.read("jar/jar.yaml").partition("variables:\n")[2].partition("\ntogether:")[0].splitlines()
        if line[:3].strip() and line[:2] == "  "
    ]
    names = [name for name in names if name not in ("2ND_PIER",) and "_" in name]
    cj.write(
        {
            "there": "".join(f"{name} OTHER_{name}\n" for name in names),
            "back": "".join(f"OTHER_{name}, {name}\n" for name in names),
        }
    )
    before = tree(cj.folder)
    cj("rename", "--table", "there", ".", "--yes")
    assert "OTHER_TICKET_DB_HOST" in cj.read("services/ticketing.py")
    cj("rename", "--table", "back", ".", "--yes")
    cj("rename", *[word for name in names for word in ("--finish", f"OTHER_{name}")])
    after = tree(cj.folder)
    lists = {"jar/jar.yaml"}  # shapes got the names that they would have lost, and keep them
    assert {name for name in before if before[name] != after[name]} <= lists
    assert [
        line
        for line in after["jar/jar.yaml"].splitlines()
        if line not in before["jar/jar.yaml"].splitlines() and b"*" not in line
    ] == []


def test_sealed_values(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR, prod="all: {}\n")
    cj.write({"app.py": "", "page.yaml": "a: {env: {}}\n"})
    cj("put", "TOKEN", "--stage", "prod", stdin="made-up-one")
    cj("put", "--text", "TOKEN=z-${HOST}", "--stage", "dev", code=None)
    other, _ = somebody(cj, "berta")
    done = cj("rename", "TOKEN", "KEY", "--yes", env=other)  # she opens nothing of it
    assert "keeps its old name in the encrypted values: prod has no value of KEY until somebody who" in done.err
    assert "made-up" not in done.out + done.err
    assert "approves the rename: `coinjar rename TOKEN KEY`" in cj("value", "prod", "KEY", "-s", "web", code=4).err
    assert "still encrypted under that name on dev" in cj("rename", "--finish", "TOKEN", code=3).err
    assert " TOKEN " in cj.read("jar/coins/prod.coins")
    assert "2 sealed values encrypted again" in cj("rename", "TOKEN", "KEY", "--yes").out
    assert " TOKEN " not in cj.read("jar/coins/prod.coins")
    cj("rename", "--finish", "TOKEN")
    assert cj("value", "prod", "KEY", "--service", "web").out == "made-up-one"
    assert cj("value", "prod", "URL", "--service", "web").out == "x://boats:made-up-one@db.example/${HOST}"
    assert "formerly" not in cj.read("jar/jar.yaml")


def test_refusals_and_several_at_once(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR)
    for arguments, words in (
        (("HOST",), "which name, and to which?"),
        (("HOSTT", "X"), "there is no variable 'HOSTT'"),
        (("HOST", "USER"), "USER is already declared"),
        (("HOST", "2ND"), "shells cannot set 2ND"),
        (("HOST", "A=B"), "a variable's name contains no spaces"),
        (("HOST", "HOST"), "HOST already has that name"),
        (("--finish", "NOBODY"), "no variable had the name NOBODY"),
    ):
        before = tree(cj.folder)
        assert words in cj("rename", *arguments, "--yes", code=2).err
        assert tree(cj.folder) == before
    cj.write({"bad": "HOST A B\n"})
    assert "bad:1:1: a line has an old and a new name" in cj("rename", "--table", "bad", "--yes", code=3).err


def test_old_names_for_a_while_and_what_a_delivery_shows(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with standin("saltmarsh", cj.folder / "standins", "line") as salt:
        jar(
            "services: {web: {}}\nstages: {dev: {}}\nvariables: {LEVEL: {default: info}, MODE: {default: x}}\n"
            f"destinations: {{salt: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}',"
            f" app: line, token: {{from_env: THERE}}}}}}\n"
        )
        cj.env["THERE"] = salt.token
        cj("deliver", "dev")
        cj("rename", "LEVEL", "LOG_LEVEL", "--keep-old", "--yes")
        assert cj("render", "dev", "--as", "literal").out == "LOG_LEVEL=info\nLEVEL=info\nMODE=x\n"
        assert "+  LOG_LEVEL" in cj("deliver", "dev").out
        cj("rename", "--finish", "LEVEL")
        assert cj("render", "dev", "--as", "literal").out == "LOG_LEVEL=info\nMODE=x\n"
        cj("rename", "MODE", "SPEED", "--yes")
        shown = cj("deliver", "dev").out
        assert "»  MODE → SPEED" in shown
        assert "renamed" in shown
        assert set(salt.standin.state["apps"]["line"]["settings"]) == {"LOG_LEVEL", "SPEED"}


KILLED = """\
import os, signal, sys
from coinjar.cli.main import main
from coinjar.jarfile import journal
from coinjar.system import files
left = int(sys.argv[1])
real = files.replace_file
def counted(*given, **named):
    global left
    real(*given, **named)
    left -= 1
    if left == 0:
        os.kill(os.getpid(), signal.SIGKILL)
journal.replace_file = counted
sys.exit(main(sys.argv[2:]))
"""


def test_killed_at_every_write(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR, prod="all: {HOST: one.example}\n")
    cj.write(CODE)
    cj("put", "TOKEN", "--stage", "prod", stdin="made-up-one")
    before = tree(cj.folder)
    unfinished = cj.folder / "jar/.local/unfinished-change/list.json"

    def killed(number: int) -> int:
        """How a rename ends that dies at its n-th write, on the files as they were."""
        for name, data in before.items():
            (cj.folder / name).write_bytes(data)
        argv = [sys.executable, "-c", KILLED, str(number), "rename", "HOST", "DB_HOST", "--yes"]
        return subprocess.run(argv, cwd=cj.folder, env=cj.env, capture_output=True, check=False).returncode

    half = []
    number = 1
    while (code := killed(number)) == -signal.SIGKILL:
        if unfinished.exists():  # whatever comes next completes it first, and reads no half of it
            result = cj("value", "prod", "DB_HOST", "--service", "web", consented=False)
            half += [number] if "An interrupted change was completed" in result.err else []
        cj("rename", "HOST", "DB_HOST", "--yes", code=None)  # finishes it, or does it anew
        assert "DB_HOST" in cj.read("app.py")
        assert cj("value", "prod", "DB_HOST", "--service", "web").out.strip() == "one.example"
        assert not unfinished.parent.exists()
        number += 1
    assert code == 0
    assert number > 8
    assert half  # between the first of the jar's files and the last
    # what a rename has half written and somebody changed since is not overwritten
    killed(half[0])
    (cj.folder / "app.py").write_text("changed\n")
    assert "the jar may be partly changed: app.py: it was changed since" in cj("grid", code=None, consented=False).err
    assert (
        "changed since a change of several files was interrupted" in cj("rename", "USER", "NAME", "--yes", code=3).err
    )
    (cj.folder / "app.py").write_bytes(before["app.py"])
    assert "An interrupted change was completed; written now: " in cj("rename", consented=False).err
    assert "DB_HOST" in cj.read("app.py")


@pytest.mark.parametrize("language", ["py", "js"])
def test_short_forms_in_code(jar: Callable[..., Coinjar], language: str) -> None:
    texts = {
        "py": ("import os\nos.environ.update(HOST='x')\n", "import os\nos.environ.update(DB_HOST='x')\n"),
        "js": (
            "const { HOST, USER: u } = process.env;\nuse(HOST);\n",
            "const { DB_HOST: HOST, USER: u } = process.env;\nuse(HOST);\n",
        ),
    }
    cj = jar(JAR)
    cj.write({"app.py": "", "page.yaml": "a: {env: {}}\n", f"x.{language}": texts[language][0]})
    cj("rename", "HOST", "DB_HOST", ".", "--yes")
    assert cj.read(f"x.{language}") == texts[language][1]
    cj("rename", "DB_HOST", "HOST", ".", "--yes")
    assert cj.read(f"x.{language}") == texts[language][0]


def test_descriptions_own_values_and_what_platforms_set(jar: Callable[..., Coinjar]) -> None:
    """A platform that sets the name by itself is told; the jar's own description of it and a person's own values
    follow.
    """
    description = (
        "platform: 1\nsettings: {address: a, app: b}\none_for: service\nsupplied: [PORT]  # its own\n"
        "reserved: ['X_*', PORT]\n"
        "account: {send: GET /a, is: '{/name}'}\nlist: {send: GET /s, map: /s}\n"
        "write: {changes: {send: PATCH /s, body: {s: '{changes}'}}, remove_by: empty}\n"
    )
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables:\n"
        "  PORT: {kind: port, default: 80, supplied: {by: [there], sample: 1}}\n  L: {default: x}\n"
        "destinations: {there: {type: platform, platform: own, address: 'http://127.0.0.1:1', app: x}}\n"
    )
    cj.write({"jar/platforms/own.yaml": description, "jar/.local/dev.yaml": "all: {PORT: 99, L: y}  # mine\n"})
    done = cj("rename", "PORT", "LISTEN_PORT", "--yes")
    assert "there sets PORT itself, and does not use the name LISTEN_PORT" in done.err
    assert cj.read("jar/.local/dev.yaml") == "all: {LISTEN_PORT: 99, L: y}  # mine\n"
    assert cj.read("jar/platforms/own.yaml") == description.replace("[PORT]", "[LISTEN_PORT]").replace(
        "'X_*', PORT", "'X_*', LISTEN_PORT"
    )
    assert cj("within", "dev", "--", "printenv", "LISTEN_PORT").out == "99\n"


def test_all_or_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A file that changed meanwhile stops the change before it begins; one that cannot be written puts back those that
    were.
    """
    jar, files = (
        tmp_path / "jar",
        {tmp_path / name: (name.encode(), b"new " + name.encode()) for name in ("a", "b", "c")},
    )
    (jar / ".local").mkdir(parents=True)
    for path, (old, _) in files.items():
        path.write_bytes(old)
    (tmp_path / "c").write_bytes(b"changed")
    with pytest.raises(InputError, match="changed meanwhile"):
        journal.replace_all(jar, files)
    (tmp_path / "c").write_bytes(b"c")

    def failing(path: Path, data: bytes, **named: bool) -> None:
        if path == tmp_path / "c":
            raise ExternalError("cannot write it: no space left", hint="make room", code="write")
        replace_file(path, data, **named)

    monkeypatch.setattr(journal, "replace_file", failing)
    with pytest.raises(ExternalError, match="no space left"):
        journal.replace_all(jar, files)
    assert [path.read_bytes() for path in files] == [b"a", b"b", b"c"]
    assert not journal.is_unfinished(jar)
    monkeypatch.undo()
    journal.replace_all(jar, files)
    assert [path.read_bytes() for path in files] == [b"new a", b"new b", b"new c"]
    assert journal.finish(jar) == []


def test_a_swap_is_a_swap(jar: Callable[..., Coinjar]) -> None:
    """Two variables exchange their names, in code and texts as well."""
    cj = jar(
        JAR.replace("HOST: {kind: host, ", "HOST: {").replace(
            "  TOKEN: {secret: true}", "  TOKEN: {secret: true}\n  KEY: {secret: true}"
        )
    )
    cj.write(
        {
            "app.py": "import os\na, b = os.environ['HOST'], os.environ['USER']\n",
            "page.yaml": "a: {env: {}}\n",
            "swap": "HOST USER\nUSER HOST\nTOKEN KEY\nKEY TOKEN\n",
            "chain": "KEY PIN\nTOKEN KEY\n",
        }
    )
    for name in ("TOKEN", "KEY"):
        cj("put", name, "--stage", "dev", stdin=f"made-up-{name}")
    before = {name: cj("value", "dev", name, "--service", "web").out for name in ("HOST", "USER", "URL")}
    cj("rename", "--table", "swap", "--yes")
    after = {name: cj("value", "dev", name, "--service", "web").out for name in ("HOST", "USER", "URL")}
    assert [cj("value", "dev", name, "--service", "web").out for name in ("TOKEN", "KEY")] == [
        "made-up-KEY",
        "made-up-TOKEN",
    ]
    cj("rename", "--table", "chain", "--yes")
    assert [cj("value", "dev", name, "--service", "web").out for name in ("KEY", "PIN")] == [
        "made-up-KEY",
        "made-up-TOKEN",
    ]
    assert after == {"HOST": before["USER"], "USER": before["HOST"], "URL": before["URL"]}
    assert cj.read("app.py") == "import os\na, b = os.environ['USER'], os.environ['HOST']\n"


def test_what_is_only_probable_is_listed_and_left(jar: Callable[..., Coinjar]) -> None:
    """With the line and the helper that says so, before anything is written; a yes renames it too, and the setting."""
    code = {
        "app.py": "import os\nfrom tools import config, env\na = os.environ['HOST']\nb = config('HOST')\n",
        "settings.py": "class AppSettings(BaseSettings):\n    host: str = 'x'\n",
        "main.tf": 'environment = {\n  HOST = "x"\n}\n',
    }
    cj = jar("services: {web: {code: [.]}}\nstages: {dev: {}}\nvariables:\n  HOST: {default: a}\n")
    cj.write(code)
    for _ in range(2):
        done = cj("rename", "HOST", "DB_HOST", "--dry-run", code=1)
        assert "app.py:4:13: HOST is only probably this variable (by config): --probable renames it too" in done.err
        assert "settings.py:2:5: host probably is HOST (by BaseSettings); left unchanged" in done.err
        assert "main.tf:2:3: HOST is only probably this variable (by environment)" in done.err
    cj("rename", "HOST", "DB_HOST", "--yes")
    assert cj.read("app.py") == code["app.py"].replace("['HOST']", "['DB_HOST']")
    assert cj.read("main.tf") == code["main.tf"]
    cj("rename", "DB_HOST", "HOST", "--yes")
    assert cj.read("app.py") == code["app.py"]
    done = cj("rename", "HOST", "DB_HOST", "--yes", "--probable")
    assert cj.read("app.py") == code["app.py"].replace("'HOST'", "'DB_HOST'")
    assert cj.read("main.tf") == code["main.tf"].replace("HOST", "DB_HOST")
    assert cj.read("settings.py") == code["settings.py"]
    assert "settings.py:2:5" in done.err


def test_a_setting_makes_a_helper_certain(jar: Callable[..., Coinjar]) -> None:
    """Then its names must be declared, and a rename changes them."""
    declared = "services: {web: {code: [.]}}\nstages: {dev: {}}\nvariables:\n  HOST: {default: a}\n"
    for helpers, is_sure in (("", False), ("code: {helpers: [env.int]}\n", True)):
        cj = jar(declared + helpers)
        cj.write({"app.py": "from tools import env\na = env('HOST')\nb = env.int('BOATS', 3)\n"})
        shown = cj("mentions").out
        assert ("BOATS     read, probably: env.int" in shown) is not is_sure
        assert ("BOATS is used, but not declared" in cj("check", code=None).out) is is_sure
        assert "HOST is declared, but never used" not in cj("check", code=None).out
        if is_sure:
            assert "BOATS: {kind: integer, default: 3}" in cj("mentions", "--suggest").out
