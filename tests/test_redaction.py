"""What people are shown of files: no secret, wherever it stands, and everything else."""

from __future__ import annotations

import subprocess
from base64 import b64encode
from collections.abc import Callable
from urllib.parse import quote

import pytest

from tests.conftest import Coinjar

JAR = (
    "services: {web: {}}\nstages: {dev: {}}\n"
    "variables: {URL: {default: y}, TOKEN: {secret: true}, PIN: {secret: true}}\n"
)
SECRET = "made-up/canary+4711"


def git(cj: Coinjar, *arguments: str) -> None:
    who = ["-c", "user.name=made up", "-c", "user.email=made-up@sandling.example"]
    subprocess.run(["git", *who, *arguments], cwd=cj.folder, check=True, capture_output=True)


def test_a_rename_masks_the_neighbour_and_shows_the_code(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR.replace("web: {}", "web: {code: [src]}"))
    cj("put", "TOKEN", "--stage", "dev", stdin=SECRET)
    cj.write(
        {
            "jar/.local/dev.yaml": "web: {URL: y, TOKEN: own-canary, PIN: 7x}\n",
            "src/a.py": (
                "import os\nprint(os.environ['URL'], os.environ['TOKEN'])  # TOKEN, as before\n"
                f"x = (os.environ['URL'], '{quote(SECRET, safe='')}')\n"
            ),
            "src/run.sh": f'curl "$URL" -H "auth: {b64encode(SECRET.encode()).decode()}"\n',
            "src/compose.yaml": (
                "services:\n  web:\n    image: a\n    environment: {URL: y, DB_PASSWORD: other-canary-1}\n"
            ),
        }
    )
    shown = cj("rename", "URL", "ADDRESS", "--dry-run", code=1)
    for text in (
        SECRET,
        "own-canary",
        quote(SECRET, safe=""),
        b64encode(SECRET.encode()).decode(),
        "other-canary-1",
        "7x",
    ):
        assert text not in shown.out + shown.err, text
    assert "+print(os.environ['ADDRESS'], os.environ['TOKEN'])  # TOKEN, as before" in shown.out
    assert "+    environment: {ADDRESS: y, DB_PASSWORD: [DB_PASSWORD ••••]}" in shown.out
    other = cj("rename", "TOKEN", "KEY_OF_SALT", "--dry-run", code=1).out
    assert "+print(os.environ['URL'], os.environ['KEY_OF_SALT'])  # TOKEN, as before" in other
    assert "canary" not in other


def test_an_example_is_shown_whole(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR + "destinations:\n  example: {type: file, as: example, path: env.example}\n")
    cj("put", "TOKEN", "--stage", "dev", stdin=SECRET)
    shown = cj("render", "dev", "--dry-run").out
    assert "+TOKEN=change-me" in shown
    assert "+# (no description) [secret]" in shown
    assert "••••" not in shown


def test_comments_behind_a_secret_are_shown_and_its_own_lines_are_not(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR + "destinations:\n  settings: {type: file, as: settings, path: s.yaml}\n")
    cj("put", "TOKEN", "--stage", "dev", stdin="first-canary\n# second-canary\n\nthird-canary")
    cj.write({"s.yaml": "TOKEN: old-canary\n# about the rest\n\nOTHER: 1\n"})
    shown = cj("render", "dev", "--dry-run").out
    assert "canary" not in shown
    assert "# about the rest" in shown


def test_a_dialect_that_can_only_be_written_shows_nothing(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR + "destinations:\n  out: {type: file, as: shout, path: 'out.{stage}'}\n")
    cj.write(
        {
            "more/more.py": "from coinjar.dialects.base import Dialect\nclass Shout(Dialect):\n    name = 'shout'\n"
            "    about = 'x'\n    reads = False\n"
            "    def unsupported_reason(self, name, text): return None\n"
            "    def write(self, entries, heading): return ''.join(f'{e.name} becomes {e.text[::-1]}\\n' "
            "for e in entries).encode()\n",
            "more/more-1.dist-info/METADATA": "Metadata-Version: 2.1\nName: more\nVersion: 1\n",
            "more/more-1.dist-info/entry_points.txt": "[coinjar.dialects]\nshout = more:Shout\n",
            "out.dev": "left by hand: other-canary\n",
        }
    )
    cj("put", "TOKEN", "--stage", "dev", stdin=SECRET)
    env = {"PYTHONPATH": str(cj.folder / "more")}
    shown = cj("render", "dev", "--dry-run", env=env).out
    assert SECRET[::-1] not in shown
    assert "canary" not in shown
    assert "+•••• (a dialect that can only be written" in shown
    cj("render", "dev", env=env)
    assert SECRET[::-1] in cj.read("out.dev")


def test_check_finds_the_jars_secrets_in_what_git_tracks(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR)
    cj.write({"ci.yaml": "jobs: []\n"})
    git(cj, "init", "-q")
    git(cj, "add", "-A")
    cj("put", "TOKEN", "--stage", "dev", stdin=SECRET)
    cj("put", "PIN", "--stage", "dev", stdin="1234567")
    assert "CJ028" not in cj("check").out
    cj.write(
        {
            "ci.yaml": f"jobs:\n- do: curl -u x:{quote(SECRET, safe='')} https://a.example\n",
            "notes.bin": "a\0b" + b64encode(b"x" + SECRET.encode()).decode(),
            "src/a.py": f"# {SECRET}\n",
            "short.txt": "1234567",
            "ignored.txt": SECRET,
            ".gitignore": "ignored.txt\n",
        }
    )
    git(cj, "add", "-A")
    result = cj("check", code=1)
    lines = [line for line in result.out.splitlines() if "CJ028" in line]
    assert [line.split(": ")[0] for line in lines] == ["ci.yaml:2:17", "notes.bin:1:6", "src/a.py:1:3"]
    assert all("contains the text of the secret TOKEN" in line for line in lines)
    assert SECRET not in result.out + result.err
    git(cj, "commit", "-qm", "with a secret")
    git(cj, "rm", "-qf", "ci.yaml", "notes.bin", "src/a.py")
    git(cj, "commit", "-qm", "without")
    assert "CJ028" not in cj("check").out
    result = cj("check", "--history", code=1)
    assert {line.split(" (")[0] for line in result.out.splitlines() if "CJ028" in line} == {
        "ci.yaml",
        "notes.bin",
        "src/a.py",
    }
    assert SECRET not in result.out + result.err
    nobody = cj("check", env={"COINJAR_IDENTITY": ""})
    assert "2 secrets were not checked" in nobody.err  # no all-clear for what was not looked for


@pytest.mark.parametrize(
    "declared",
    [
        "URL: {secret: true, default: {text: '%s'}}",
        "URL: {default: {text: '%s'}}",
        'URL: {secret: true, default: {text: "%s"}, about: x}',
        "URL:\n    secret: true\n    default:\n      text: |-\n        first\n        %s",
        "URL: {secret: true}",
    ],
)
def test_a_rename_masks_secrets_between_references(declared: str, jar: Callable[..., Coinjar]) -> None:
    """Before and after: the line that changes is another text than the one that was read. Everywhere a name is used."""
    canary = "made-up-canary-9"
    text = f"x://kit:{canary}@${{HOST}}/"
    cj = jar(
        "services: {web: {code: [src]}}\nstages: {dev: {}}\nvariables:\n  HOST: {default: h}\n  PW: {secret: true}\n  "
        + declared.replace("%s", text)
        + "\n  LINK: {default: {text: 'x://${HOST}:${PW@url}@${HOST}/'}}\n",
        dev=f"all: {{URL: {{text: '{text}'}}}}\n",
    )
    cj.write(
        {
            "jar/.local/dev.yaml": f"web:\n  URL:\n    text: '{text}'\n",
            "src/a.py": f"import os\nu = f\"x://kit:{canary}@{{os.environ['HOST']}}/\"\n"
            "v = f\"x://{os.environ['HOST']}:{os.environ['PW']}@h/\"\n",
            "src/a.sh": f'export U="x://kit:{canary}@$HOST/"; export V="x://u:$PW@$HOST/"\n',
            "src/c.py": f"import os\nw = os.environ.get('HOST') or os.environ.get('TOKEN', '{canary}')\n"
            f"y = os.environ.get('PW', 'p-{canary}') + os.environ['HOST']\n",
            "src/b.sh": 'export V="x://u:$PW@$HOST/"\n',
            "src/compose.yaml": f"services:\n  web:\n    environment:\n      U: '{text}'\n      V: 'x-${{HOST}}'\n",
        }
    )
    done = cj("rename", "HOST", "MAIN_HOST", "--dry-run", code=1)
    assert canary not in done.out + done.err
    for name in (
        "jar.yaml",
        "plain/dev.yaml",
        ".local/dev.yaml",
        "src/a.py",
        "src/a.sh",
        "src/b.sh",
        "c.py",
        "compose.yaml",
    ):
        assert name in done.out
    for line in (
        "LINK: {default: {text: 'x://${MAIN_HOST}:${PW@url}@${MAIN_HOST}/'}}",
        "+v = f\"x://{os.environ['MAIN_HOST']}:{os.environ['PW']}@h/\"",
        '+export V="x://u:$PW@$MAIN_HOST/"',
        "V: 'x-${MAIN_HOST}'",
    ):
        assert line in done.out


def test_texts_that_hold_a_secret_are_secrets(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {PLAIN: {}}\n")
    cj.write(
        {
            "in.env": "export DB_PASSWORD=s3cr3t#x\nDATABASE_URL=postgres://u:${DB_PASSWORD}@h/d\n"
            "ENCODED='a s3cr3t%23x b'\nPACKED=eDogczNjcjN0I3g=\n"
            "ODD=mysql://u:p/w#1@h/d\nPORTED=https://h.example:8443/@scope\nPLAIN='is s3cr3t#x'\n"
        }
    )
    plan = cj("adopt", "in.env", "--stage", "dev", code=1)
    kinds = {line.split()[1]: line.split()[2] for line in plan.out.splitlines() if line.startswith("+")}
    assert kinds == dict.fromkeys(["DB_PASSWORD", "DATABASE_URL", "ENCODED", "PACKED", "ODD"], "secret") | {
        "PORTED": "url"
    }
    assert "left out: PLAIN: it contains the text of the secret DB_PASSWORD" in plan.err
    cj("adopt", "in.env", "--stage", "dev", "--yes")
    assert not [path for path in (cj.folder / "jar").rglob("*") if path.is_file() and b"s3cr3t" in path.read_bytes()]
    cj("put", "PLAIN=see s3cr3t#x", "--stage", "dev")
    assert (
        "PLAIN is not declared as a secret, but its value contains the text of the secret" in cj("check", code=None).out
    )


def test_references_of_a_file_are_kept_on_request(jar: Callable[..., Coinjar]) -> None:
    cj = jar("services: {web: {}}\nstages: {dev: {}}\nvariables: {}\n")
    cj.write(
        {
            "in.env": (
                "export DB_PASSWORD='s3cr3t$x'\nURL=\"postgres://u:$DB_PASSWORD@h/\\$d\"\nHOME=/root\nWHERE=$HOME/x\n"
            )
        }
    )
    assert "URL, WHERE: built from other names of the file" in cj("adopt", "in.env", "--stage", "dev", code=1).err
    cj("adopt", "in.env", "--stage", "dev", "--references", "--yes")
    assert "URL: {text: 'postgres://u:${DB_PASSWORD}@h/$$d'}" in cj.read("jar/plain/dev.yaml").replace('"', "'")
    assert cj("value", "dev", "URL").out == "postgres://u:s3cr3t$x@h/$d"
    assert cj("value", "dev", "WHERE").out == "/root/x"  # HOME is not the jar's
    assert "4 the same" not in cj("adopt", "in.env", "--stage", "dev", "--references", "--yes").out
    assert "Nothing to adopt" in cj("adopt", "in.env", "--stage", "dev", "--yes").err
