"""Every command, on the demo's jar and on the smallest there is, each run twice: nobody's second run is a surprise.

The table says how each run ends. A command that is not in it fails this test. The second run changes no file of the
jar, and neither shows a secret.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from coinjar.cli.main import COMMANDS
from coinjar.crypto.age import new_identity
from tests.conftest import DEMO, Coinjar
from tests.systems import standin

_, OTHERS = new_identity()
ALONE = {
    "demo": "test_docs runs it",
    "standins": "test_standins and the demo run them: they serve until they are stopped",
    "edit": "test_edit: it wants an editor",
}
"""What is run elsewhere, and why not here."""

TABLE: list[tuple[str, int | str, int | str]] = [
    # words, exit code of the first run, of the second (or where the jar says it); {S} stage, {V} service, {N} a plain
    # variable, {T} a secret, {D} a destination of files, {L} a live one
    ("new --app other --service web --stage dev", 3, 3),  # there is a jar already
    ("read some.env --json", 0, 0),
    ("adopt file:some.env --stage {S} --yes", 0, 0),
    ("put {N}=8181 --stage {S} --service {V}", 0, 0),
    ("put {T} --stage {S} --service {V} < made-up-canary-7", 0, 0),
    ("put NEW_ONE=x --declare --stage {S}", 0, 0),
    ("value {S} {N} --service {V}", 0, 0),
    ("grid", 0, 0),
    ("grid {S}", 0, 0),
    ("grid {S} --by-service", 0, 0),
    ("grid --json", 0, 0),
    ("why {S} {N}", 0, 0),
    ("why {S} {T} --json", 0, 0),
    ("compare {S} {S}", 0, 0),
    ("compare {S} file:some.env --all", 1, 1),
    ("check", "checked", "checked"),
    ("check --format json --history", "checked", "checked"),
    ("mentions code", 0, 0),
    ("render {S} {D}", 0, 0),
    ("render {S} {D} --verify", 0, 0),
    ("render {S} --service {V} --as posix", 0, 0),
    ("within {S} --service {V} --mask -- printenv {T}", 0, 0),
    ("deliver {S} {L} --restart", 0, 0),
    ("drift {S} {L}", 0, 0),
    ("put ROTATED_TOKEN --declare --stage {S} < made-up-canary-8", 0, 0),
    ("rotate ROTATED_TOKEN --stage {S} --yes", 2, 2),  # jar.yaml does not define how it gets a new value
    ("rotate ROTATED_TOKEN --stage {S} --given --yes --until made < made-up-canary-9", 0, 0),
    ("rotate ROTATED_TOKEN --stage {S} --yes --back", 0, 2),  # it is not being rotated any more
    ("overdue", 0, 0),
    ("overdue --all --json", 0, 0),
    ("report --out report.html --plots plots", 0, 0),
    ("report --json", 0, 0),
    ("report --format markdown --out variables.md", 0, 0),
    ("confirm {S}", 2, 2),  # no proof is declared for it: no all-clear
    ("platforms", 0, 0),
    ("platforms saltmarsh", 0, 0),
    ("platforms saltmarsh --examples", 3, 3),  # it has none
    ("deliveries", 0, 0),
    ("deliveries 1", 0, 0),
    ("deliveries undo 1 --dry-run", 0, 0),
    ("migrate dest:{L} file+literal:moved.env --stage {S} --out move.yaml", 0, 3),  # the sheet already exists
    ("migrate --execute move.yaml --yes", "moved", "moved"),  # the demo's hosting supplies what a file must be given
    ("identity new --out other.identity", 0, 3),  # it already exists
    ("identity show", 0, 0),
    ("readers list", 0, 0),
    ("readers add {R} --label berta --stage {S} --yes", 0, 0),
    ("readers remove berta --everywhere --yes", 0, 2),  # nobody is called so any more
    ("readers rekey --stage {S}", 0, 0),
    ("readers seal", 0, 0),
    ("generate GENERATED --stage {S}", 0, 2),  # it has a value already
    ("rename NEW_ONE NEWER_ONE --yes", 0, 0),
    ("rename --finish NEW_ONE", 0, 2),  # nothing was called so any more
    ("drop {N} --stage {S} --service {V}", 0, 1),  # there is none any more
    ("drop NEWER_ONE --everywhere --yes", 0, 2),  # there is no such variable any more
    ("declare DECLARED --kind port --about x", 0, 0),
    ("undo --dry-run", 1, 1),  # there is something to undo
    ("value {S} {N} {T} --service {V} --json", 0, 0),
    ("accept CJ036 DECLARED --reason x", "accepted", 2),  # accepted already, or never reported
    ("history {N}", 2, 2),  # there is no version control here
    ("textconv jar/coins/{S}.coins", 0, 0),
    ("resolve", 0, 0),
    ("stages list", 0, 0),
    ("stages list --json", 0, 0),
    ("stages add extra --follows {S}", 0, 2),  # it exists already
    ("promote {S} extra --yes", 0, 0),  # it follows it
    ("stages copy {S} twin --yes", 0, 2),  # it exists already
    ("lift --yes", 0, 0),
    ("stages rename twin twins --yes", 0, 0),
    ("stages remove twins --yes", 0, 2),  # there is none any more
    ("services list", 0, 0),
    ("services add helper --about x", 0, 2),  # it exists already
    ("services copy {V} double --yes", 0, 2),  # it exists already
    ("services rename double doubles --yes", 0, 0),
    ("services remove doubles --yes", 0, 2),  # there is none any more
    ("app show --json", 0, 0),
    ("app rename {A} other-app --yes", 0, 0),
    ("schema --out schemas", 0, 0),
    ("help put", 0, 0),
    ("--version", 0, 0),
    ("consent --yes", 0, 0),
    ("consent --show", 0, 0),
    ("consent --withdraw", 0, 0),
]

MADE_ANEW = "readers rekey --stage {S}"
"""What makes new keys, and seals anew with them."""
HANDS_OUT = "render {S} --service {V} --as posix"
"""What is asked for the values themselves."""

Jar = Callable[[Coinjar], dict[str, str]]


def smallest(cj: Coinjar) -> dict[str, str]:
    """One service, one stage."""
    cj("new", "--app", "x", "--service", "a", "--stage", "dev")
    cj("put", "PORT=1", "--declare", "--stage", "dev")
    cj("put", "API_TOKEN", "--declare", "--stage", "dev", stdin="made-up-first-canary")
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml") + "destinations:\n"})
    return {
        "A": "x",
        "S": "dev",
        "V": "a",
        "N": "PORT",
        "T": "API_TOKEN",
        "checked": "0",
        "moved": "0",
        "accepted": "2",
    }


def of_the_demo(cj: Coinjar) -> dict[str, str]:
    """The demo's jar, with its planted faults mended as the demo does."""
    shutil.copytree(DEMO, cj.folder, dirs_exist_ok=True)
    cj("adopt", "file:old.env", "--stage", "dev", "--yes")
    cj("drop", "2ND_PIER", "log_level", "--everywhere", "--yes")
    cj("readers", "seal")
    return {
        "A": "sandling",
        "S": "dev",
        "V": "notices",
        "N": "MAIL_PORT",
        "T": "MAIL_PASSWORD",
        "checked": "1",
        "moved": "3",
        "accepted": "0",
    }


def files(folder: Path) -> dict[str, bytes]:
    """What a jar consists of; of sealed values which there are, for sealing the same again makes other bytes."""
    result = {
        str(path): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and ".local" not in path.parts and "keys" not in path.parts
    }
    return {
        name: b"\n".join(sorted(line.rsplit(b" ", 2)[0] for line in data.split(b"\n")))
        if name.endswith(".coins")
        else data
        for name, data in result.items()
    }


@pytest.fixture(params=[smallest, of_the_demo])
def filled(request: pytest.FixtureRequest, cj: Coinjar) -> Iterator[tuple[Coinjar, dict[str, str]]]:
    make: Jar = request.param
    words = make(cj)
    app_name = "every"
    with standin("saltmarsh", cj.folder / "s", app_name) as salt:
        cj.env |= {"EVERY_TOKEN": salt.token}
        declared = (
            f"  every-file: {{type: file, as: posix, services: [{words['V']}], path: 'every-{{stage}}.env'}}\n"
            f"  every-live: {{type: platform, platform: saltmarsh, services: [{words['V']}], stages: "
            f"[{words['S']}], variables: [{words['N']}, {words['T']}],\n"
            f"               address: '{salt.standin.address}', app: {app_name}, token: {{from_env: EVERY_TOKEN}}}}\n"
        )
        cj.write(
            {
                "jar/jar.yaml": cj.read("jar/jar.yaml").replace("\ndestinations:", f"\ndestinations:\n{declared}", 1),
                "some.env": "ADOPTED=some\n",
            }
        )
        cj.write(
            {
                "jar/jar.yaml": cj.read("jar/jar.yaml").replace(
                    "\nvariables:", "\nvariables:\n  GENERATED: {secret: true, generate: {length: 24}}", 1
                )
            }
        )
        cj.write({"code/a.py": "import os\nos.environ['PORT']\n"})
        yield cj, words | {"D": "every-file", "L": "every-live", "R": OTHERS}


def test_every_command_twice(filled: tuple[Coinjar, dict[str, str]]) -> None:
    cj, words = filled
    for line, first, second in TABLE:
        command, _, stdin = line.partition(" < ")
        argv = [word.format_map(words) for word in command.split()]
        before = {}
        for number, ends in enumerate((first, second)):
            code = int(words[ends]) if isinstance(ends, str) else ends
            done = cj(*argv, code=code, stdin=stdin)
            assert line == HANDS_OUT or "canary" not in done.out + done.err, line
            if number == 0:
                before = files(cj.folder / "jar")
        assert line == MADE_ANEW or files(cj.folder / "jar") == before, f"{line}: the second run changed the jar"


def test_the_table_has_every_command() -> None:
    assert set(COMMANDS) - {line.split()[0] for line, _, _ in TABLE} == set(ALONE)
