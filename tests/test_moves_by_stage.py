"""A move of one stage or one service leaves the others where they are; a sheet outlives the jar's first key; what a
sheet explains, and what it does not.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import pytest
import yaml

from tests.conftest import Coinjar
from tests.systems import Running, standin


@contextmanager
def two_places(jar: Callable[..., Coinjar], cj: Coinjar) -> Iterator[tuple[Running, Running]]:
    """Two services on two stages of one hosting, and another to move to."""
    apps = [f"{service}-{stage}" for service in ("web", "mailer") for stage in ("staging", "production")]
    with (
        standin("saltmarsh", cj.folder / "s", *apps) as salt,
        standin("lanternfish", cj.folder / "s", "web", "mailer") as fish,
    ):
        jar(
            "services: {web: {}, mailer: {}}\nstages: {staging: {}, production: {}}\nvariables:\n"
            "  LEVEL: {default: info}\n  NEW_SECRET: {secret: true}\ndestinations:\n"
            f"  old: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}', app: "
            f"'{{service}}-{{stage}}', token: {{from_env: SALT}}}}\n"
            f"  new: {{type: platform, platform: lanternfish, address: '{fish.standin.address}', project: "
            f"'{{service}}', token: {{from_env: FISH}}}}\n"
        )
        cj.env |= {"SALT": salt.token, "FISH": fish.token}
        for stage in ("staging", "production"):
            cj("deliver", stage, "old")
        yield salt, fish


def level_at(salt: Running, stage: str) -> str:
    return str(salt.standin.state["apps"][f"web-{stage}"]["settings"]["LEVEL"])


@pytest.mark.parametrize(
    "ends", [("dest:old", "dest:new", "--stage", "staging"), ("dest:old@staging", "dest:new@staging")]
)
def test_moving_one_stage_leaves_the_other(jar: Callable[..., Coinjar], cj: Coinjar, ends: tuple[str, ...]) -> None:
    with two_places(jar, cj) as (salt, fish):
        cj("migrate", *ends, "--out", "m.yaml")
        for _ in range(2):  # once more changes nothing
            cj("migrate", "--execute", "m.yaml", "--yes")
            assert yaml.safe_load(cj.read("jar/jar.yaml"))["destinations"]["old"]["moved_to"] == {"staging": "new"}
        cj("put", "LEVEL=debug", "--stage", "production", "--stage", "staging")
        cj("deliver", "production", "old")
        assert level_at(salt, "production") == "debug"
        assert "old has moved to new on staging" in cj("deliver", "staging", "old", code=2).err
        cj("deliver", "staging")
        assert level_at(salt, "staging") == "info"
        assert {
            (variable["name"], variable["text"])
            for variable in fish.standin.state["projects"]["web"]["variables"].values()
            if "staging" in variable["on"]
        } >= {("LEVEL", "debug")}
        salt.standin.state["apps"]["web-production"]["settings"]["LEVEL"] = "by hand"
        assert "by hand" in cj("drift", "production", "old", code=1).out


def test_a_stage_can_become_another(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """By the places or by --stage; never silently another one, and what differs in two stages is nobody's guess."""
    with two_places(jar, cj) as (salt, fish):
        salt.standin.state["apps"]["web-staging"]["settings"]["ONLY_THERE"] = "tern"
        cj("migrate", "dest:old@staging", "dest:new@production", "--out", "m.yaml")
        assert "stages: [staging=production]" in cj.read("m.yaml")
        assert "where: [production/web]" in cj.read("m.yaml")
        cj("migrate", "--execute", "m.yaml", "--yes")
        assert cj("value", "production", "ONLY_THERE", "--service", "web").out == "tern"
        assert {
            (variable["name"], tuple(variable["on"]))
            for variable in fish.standin.state["projects"]["web"]["variables"].values()
        } == {("LEVEL", ("production",)), ("ONLY_THERE", ("production",))}
        assert yaml.safe_load(cj.read("jar/jar.yaml"))["destinations"]["old"]["moved_to"] == {"staging": "new"}
    for arguments, words in (
        (("dest:old@staging", "dest:new@production", "--stage", "staging=staging"), "name different stages"),
        (("dest:old", "dest:new", "--stage", "staging=produktion"), "did you mean 'production'?"),
        (("dest:old", "dest:new", "--stage", "stagin=production"), "did you mean 'staging'?"),
    ):
        assert words in cj("migrate", *arguments, "--out", "n.yaml", code=None).err
        assert not (cj.folder / "n.yaml").exists()


def test_stages_that_become_one_are_asked_where_they_differ(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with two_places(jar, cj) as (salt, fish):
        for stage in ("staging", "production"):
            settings = salt.standin.state["apps"][f"web-{stage}"]["settings"]
            settings |= {"SAME": "tern", "DIFFERENT": f"made-up-{stage}"}
        both = ("--stage", "staging", "--stage", "production=staging", "--service", "web")
        cj("migrate", "dest:old", "dest:new", *both, "--out", "m.yaml")
        sheet = cj.read("m.yaml")
        assert "variable: DIFFERENT" in sheet.partition("to_be_given:")[2]
        assert "staging and production have different values at old, and the jar does not have it" in sheet
        refused = cj("migrate", "--execute", "m.yaml", "--yes", code=3).err
        assert "`coinjar put DIFFERENT --stage staging --service web --declare`" in refused
        cj("put", "DIFFERENT=both", "--stage", "staging", "--service", "web", "--declare")
        cj("migrate", "--execute", "m.yaml", "--yes")
        there = {
            variable["name"]: variable["text"]
            for variable in fish.standin.state["projects"]["web"]["variables"].values()
        }
        assert there == {"LEVEL": "info", "SAME": "tern", "DIFFERENT": "both"}


def test_moving_one_service_leaves_the_other(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with two_places(jar, cj) as (salt, _):
        cj("migrate", "dest:old@staging", "dest:new@staging", "--service", "web", "--out", "m.yaml")
        cj("migrate", "--execute", "m.yaml", "--yes")
        assert yaml.safe_load(cj.read("jar/jar.yaml"))["destinations"]["old"]["moved_to"] == {"staging/web": "new"}
        cj("put", "LEVEL=debug", "--stage", "staging")
        cj("deliver", "staging", "old")
        settings = {name: app["settings"]["LEVEL"] for name, app in salt.standin.state["apps"].items()}
        assert (settings["web-staging"], settings["mailer-staging"]) == ("info", "debug")
    text = cj.read("jar/jar.yaml")
    for wrong, message in (
        ("stagging: new", "there is no stage 'stagging'"),
        ("staging: nwe", "there is no destination 'nwe'"),
    ):
        cj.write({"jar/jar.yaml": text.replace("staging/web: new", wrong)})
        assert message in cj("grid", code=3).err


def test_a_sheet_outlives_the_first_secret(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with two_places(jar, cj) as (salt, _):
        for app in salt.standin.state["apps"].values():
            app["settings"]["API_TOKEN"] = "made-up-token-of-theirs"
        cj("migrate", "dest:old", "dest:new", "--out", "m.yaml")
        cj("put", "NEW_SECRET", "--stage", "staging", stdin="made-up-first")
        cj("put", "NEW_SECRET", "--stage", "production", stdin="made-up-second")
        sheet = yaml.safe_load(cj.read("m.yaml"))
        assert "API_TOKEN" in {item["variable"] for item in sheet["carried"]}
        cj("migrate", "--execute", "m.yaml", "--dry-run")
        cj("migrate", "--execute", "m.yaml", "--yes")
        cj("migrate", "--execute", "m.yaml", "--yes")  # as a run that was cut short is finished
        salt.standin.state["apps"]["web-staging"]["settings"]["LEVEL"] = "changed there"
        assert (
            "LEVEL has changed at old since the sheet was created"
            in cj("migrate", "--execute", "m.yaml", "--yes", code=3).err
        )


SHEET = """\
move: 1
from: file:a.env
to: file+literal:b.env
carried:
  - {variable: KEPT, where: [all], why: as it is, digest: '0'}
  - {variable: LOST, where: [all], why: as it is, digest: '0'}
  - {variable: OTHER, where: [all], why: as it is, digest: '0'}
renamed:
  - {variable: old, as: OLD, where: [all], why: 'no', digest: '0'}
  - {variable: gone, as: GONE, where: [all], why: 'no', digest: '0'}
  - {variable: bent, as: BENT, where: [all], why: 'no', digest: '0'}
left_behind:
  - {variable: LEFT, where: [all], why: nothing mentions it, digest: '0'}
supplied:
  - {variable: PORT, where: [all], why: set there, digest: '0'}
"""


def test_a_sheet_explains_what_its_lines_do_and_nothing_else(cj: Coinjar) -> None:
    cj.write(
        {
            "m.yaml": SHEET,
            "a.env": "KEPT=1\nLOST=1\nOTHER=1\nold=1\ngone=1\nbent=1\nLEFT=1\nPORT=1\nUNTOLD=1\n",
            "b.env": "KEPT=1\nOTHER=2\nOLD=1\nBENT=2\nPORT=2\nMORE=1\n",
        }
    )
    for sides in (("file:a.env", "file:b.env"), ("file:b.env", "file:a.env")):
        done = cj("compare", *sides, "--sheet", "m.yaml", "--json", code=1)
        unexplained = {
            row["name"] for row in json.loads(done.out)["rows"] if row["verdict"] != "same" and row["sheet"] is None
        }
        assert unexplained == {"LOST", "OTHER", "gone", "bent", "BENT", "UNTOLD", "MORE"}
    result = cj("compare", "file:a.env", "file:b.env", "--sheet", "m.yaml", code=1)
    assert "m.yaml does not explain LOST, OTHER, gone, bent" in result.err
    assert (
        "describes a move from file:a.env to file+literal:b.env"
        in cj("compare", "file:a.env", "file:m.yaml", "--sheet", "m.yaml", code=2).err
    )
    cj.write({"a.env": "KEPT=1\nold=1\nLEFT=1\nPORT=1\n", "b.env": "KEPT=1\nOLD=1\nPORT=2\n"})
    assert "m.yaml explains every difference." in cj("compare", "file:a.env", "file:b.env", "--sheet", "m.yaml").err


def test_only_what_is_certainly_not_there_counts_as_nothing_yet(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    jar(
        "services: {web: {}, mailer: {}}\nstages: {dev: {}}\nvariables: {LEVEL: {default: info}}\n"
        "destinations:\n  env: {type: file, as: json, path: 'out/{stage}/{service}.json'}\n"
    )
    cj.write({"in.env": "LEVEL=info\n"})
    cj("migrate", "file:in.env", "dest:env", "--stage", "dev", "--out", "first.yaml")
    cj.write({"out/dev/mailer.json": '{"LEVEL": "another"}'})  # web's does not exist, and mailer's is
    cj("migrate", "file:in.env", "dest:env", "--stage", "dev", "--out", "second.yaml")
    assert "env has a different value, which is overwritten" in cj.read("second.yaml")
    cj.write({"out/dev/web.json": "{broken"})
    assert (
        "out/dev/web.json"
        in cj("migrate", "file:in.env", "dest:env", "--stage", "dev", "--out", "third.yaml", code=3).err
    )
    (cj.folder / "out/dev/web.json").unlink()
    (cj.folder / "out/dev/web.json").mkdir()
    assert (
        "cannot read it"
        in cj("migrate", "file:in.env", "dest:env", "--stage", "dev", "--out", "third.yaml", code=3).err
    )
    assert not (cj.folder / "third.yaml").exists()


def test_a_name_that_a_rename_keeps_is_left_where_the_jar_hands_it_out(cj: Coinjar) -> None:
    """A rename that is not finished does not stop a move: the variable goes under the names that the jar says."""
    cj("new", "--app", "x", "--service", "web", "--stage", "dev")
    with standin("saltmarsh", cj.folder / "s", "web") as salt, standin("lanternfish", cj.folder / "s", "web") as fish:
        cj.env |= {"SALT": salt.token, "FISH": fish.token}
        with (cj.folder / "jar/jar.yaml").open("a") as file:
            file.write(
                "destinations:\n"
                f"  salt: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}', app: "
                f"'{{service}}', token: {{from_env: SALT}}}}\n"
                f"  fish: {{type: platform, platform: lanternfish, address: '{fish.standin.address}', "
                f"project: '{{service}}', token: {{from_env: FISH}}}}\n"
            )
        cj("put", "OLD=1", "--declare", "--stage", "dev")
        cj("rename", "OLD", "NEW", "--yes", "--keep-old")
        cj("deliver", "dev", "salt")
        cj("migrate", "dest:salt", "dest:fish", "--out", "move.yaml")
        assert "a former name of NEW" in (cj.folder / "move.yaml").read_text()
        cj("migrate", "--execute", "move.yaml", "--yes")
        assert {variable["name"] for variable in fish.standin.state["projects"]["web"]["variables"].values()} >= {
            "OLD",
            "NEW",
        }
