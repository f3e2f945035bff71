"""Deliveries: what stops them, locks and records, what a destination supplies, several stages and
levels in one place.
"""

from __future__ import annotations

import json
import re
import stat
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from coinjar.actions.delivery import target_delivery
from coinjar.standins.base import InjectedFault
from tests.conftest import Coinjar, on_a_terminal
from tests.line import by_destination, line


def test_what_a_destination_supplies_is_taken_into_the_jar(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with line(jar, cj) as (salt, fish, _):
        cj("deliver", "dev", "--dry-run")
        assert (
            "PUBLIC_ADDRESS" not in (cj.folder / "jar/plain/dev.yaml").read_text()
            if (cj.folder / "jar/plain/dev.yaml").exists()
            else True
        )
        done = cj("deliver", "dev", "--restart")
        assert "PUBLIC_ADDRESS of web is supplied by hosting: written into the jar" in done.err
        app = salt.standin.state["apps"]["line-web-dev"]
        assert set(app["settings"]) == {"LEVEL", "TOKEN"}  # never sent there
        links = {
            variable["name"]: variable["text"]
            for variable in fish.standin.state["projects"]["line-mailer"]["variables"].values()
        }
        assert links["LINK"] == f"{salt.standin.address}/run/line-web-dev/inbox"  # in the same run
        assert (
            cj("value", "dev", "PUBLIC_ADDRESS", "--service", "web").out.strip()
            == f"{salt.standin.address}/run/line-web-dev/"
        )
        refused = cj("put", "PUBLIC_ADDRESS=https://mine.example/", "--stage", "dev", "--service", "web", code=2)
        assert "PUBLIC_ADDRESS is supplied by hosting on dev" in refused.err
        # it changes: drift says so, check says who must follow, the next delivery makes them
        app["given"]["PUBLIC_ADDRESS"] = "https://moved.saltmarsh.example/"
        message = cj("drift", "dev", "hosting", code=1).out
        assert "PUBLIC_ADDRESS" in message
        assert "it changed since it was read into the jar" in message
        cj("deliver", "dev", "hosting", "--restart")
        result = [
            finding
            for finding in json.loads(cj("check", "--format", "json", code=None).out)["findings"]
            if finding["rule"] == "CJ034"
        ]
        assert [item["message"] for item in result] == [
            "mailer on dev still has an earlier LINK on fish, computed from PUBLIC_ADDRESS of web, which changed"
        ]
        cj("deliver", "dev")
        assert "CJ034" not in cj("check", code=None).out
        # what does not exist yet, and nobody knows
        assert "hosting supplies it" in cj("value", "prod", "LINK", "--service", "mailer", code=3).err


def test_looking_leaves_nothing_behind(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Neither records nor a key, and no change of the jar: on a stage without secrets even the naming key would have to
    be made.
    """
    with line(jar, cj) as (salt, _, _):
        before = {path: path.read_bytes() for path in (cj.folder / "jar").rglob("*") if path.is_file()}
        for arguments, code in (
            (("deliver", "trial", "hosting", "--dry-run"), 0),
            (("drift", "trial", "hosting"), 1),
            (("compare", "dest:hosting@trial", "trial"), 1),
            (("deliveries",), 0),
            (("check",), None),
        ):
            cj(*arguments, code=code)
        assert {path: path.read_bytes() for path in (cj.folder / "jar").rglob("*") if path.is_file()} == before
        assert not [request for request in salt.server.seen if not request.startswith("GET")]
        # what check cannot look at, it says
        records = "records: {address: 'postgresql://kit@127.0.0.1:1/kit', password: {from_env: NOT_SET}}\n"
        (cj.folder / "jar/jar.yaml").write_text(records + cj.read("jar/jar.yaml"))
        assert "dependents could not be checked: the environment has no NOT_SET" in cj("check", code=None).out


def test_nothing_of_another_account_is_believed_and_what_is_not_taken_is_not_touched(
    jar: Callable[..., Coinjar], cj: Coinjar
) -> None:
    with line(jar, cj) as (salt, _, _):
        app = salt.standin.state["apps"]["line-web-dev"]
        app["settings"] |= {"MAIL": "set by hand", "PORT2": "x"}
        text = cj.read("jar/jar.yaml").replace("MAIL: {services: [mailer],", "MAIL: {services: [mailer, web],")
        cj.write(
            {
                "jar/jar.yaml": text.replace(
                    "variables: [LEVEL, MAIL, TOKEN, PUBLIC_ADDRESS], services: [web]",
                    "variables: [LEVEL, TOKEN, PUBLIC_ADDRESS], services: [web]",
                )
            }
        )
        cj("deliver", "dev", "hosting")
        assert app["settings"]["MAIL"] == "set by hand"  # declared, and for this service, and not this destination's
        before = (cj.folder / "jar/plain/dev.yaml").read_bytes()
        app["given"]["PUBLIC_ADDRESS"] = "https://another.example/"
        salt.standin.state["tenant"] = "somebody-else"
        assert (
            "this is somebody-else / line-web-dev, but the jar was delivered to sandling-ferries"
            in cj("deliver", "dev", "hosting", code=3).err
        )
        assert (cj.folder / "jar/plain/dev.yaml").read_bytes() == before


def test_one_that_fails_stops_no_other_and_a_guarded_stage_asks(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with line(jar, cj) as (salt, fish, _):
        done = cj("deliver", "dev", code=5, env={"PIPES": "wrong"})
        assert "2 delivered, 1 failed" in done.out.splitlines()
        assert re.search(r"^!  pipes \(line\)  .*401", done.out, re.MULTILINE)
        assert "check the token" in done.err
        assert by_destination(cj, "deliver", "dev", code=0)["hosting"]["state"] == "up to date"
        no_token = cj("deliver", "dev", "pipes", code=3, env={"PIPES": ""})
        assert "the environment has no PIPES" in no_token.err
        before = json.dumps(fish.standin.state)
        assert "add --allow-guarded prod" in cj("deliver", "prod", "fish", "hosting", code=2).err
        assert json.dumps(fish.standin.state) == before
        shown = on_a_terminal(cj, "deliver", "prod", "fish", "hosting", typed="prod\n")
        assert "prod is guarded." in shown
        assert {
            variable["on"][0] for variable in fish.standin.state["projects"]["line-mailer"]["variables"].values()
        } == {"dev", "live"}  # as it is called there
        assert set(salt.standin.state["apps"]["line-web-prod"]["settings"]) == {"LEVEL"}
        cj("deliver", "prod", "fish", "hosting", "--allow-guarded", "prod")
        for arguments, code, words in (
            (("deliver", "nope"), 2, "there is no stage 'nope'"),
            (("deliver", "dev", "nope"), 2, "there is no destination 'nope'"),
            (("deliver", "dev", "--requests"), 2, "--requests requires --dry-run"),
            (("deliver", "shared"), 2, "which destination?"),
            (("deliver", "shared", "hosting"), 3, "has no place for values of all stages"),
            (("render", "dev", "hosting"), 2, "`coinjar deliver STAGE hosting`"),
            (("deliveries", "99"), 2, "there is no delivery 99"),
            (("deliveries", "undo"), 2, "which delivery?"),
        ):
            assert words in cj(*arguments, code=code).err


def test_somebody_was_there_after_the_change_was_shown(
    jar: Callable[..., Coinjar], cj: Coinjar, monkeypatch: pytest.MonkeyPatch
) -> None:
    """On a guarded stage what was not shown is not done; elsewhere it is, and told, if it was shown a while ago."""
    with line(jar, cj) as (salt, _, _):
        real = salt.standin.answer
        looks: list[str] = []

        def answer(method: str, path: str, *rest: Any) -> Any:
            result = real(method, path, *rest)
            if method == "GET" and path.endswith("/settings"):
                looks.append(path)
                if len(looks) == 2:  # the first is for what is supplied
                    salt.standin.state["apps"][path.split("/")[3]]["settings"]["LEVEL"] = "meddled"
            return result

        # The same, and then somebody else's hand.
        salt.standin.answer = answer  # type: ignore[method-assign, assignment]
        done = cj("deliver", "prod", "hosting", "--allow-guarded", "prod", code=5)
        assert "it changed there after the change was shown, and nothing was written" in done.err
        assert salt.standin.state["apps"]["line-web-prod"]["settings"] == {"LEVEL": "meddled"}
        looks.clear()
        monkeypatch.setattr(target_delivery, "RECENT", -1.0)
        done = cj("deliver", "dev", "hosting")
        assert "it changed there after the change was shown: the present differences are written" in done.err
        assert salt.standin.state["apps"]["line-web-dev"]["settings"]["LEVEL"] == "info"


def test_a_delivery_lists_once_before_it_writes_and_once_after(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """What was read moments ago is not read again, unless the stage is guarded, or another delivery was faster."""
    with line(jar, cj) as (_, fish, _):
        lists = "GET /api/projects/line-mailer/variables"
        for stage, more, number in (("dev", (), 2), ("prod", ("--allow-guarded", "prod"), 3)):
            cj("put", "MAIL=other.example", "--stage", stage)
            cj("deliver", stage, "hosting", *more)
            del fish.server.seen[:]
            cj("deliver", stage, "fish", *more)
            assert fish.server.seen.count(lists) == number, stage


def test_several_stages_in_one_variable(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """A variable for two stages is narrowed before it changes on one; the other keeps it."""
    with line(jar, cj) as (_, fish, _):
        project = fish.standin.state["projects"]["line-mailer"]
        cj("deliver", "dev", "hosting")
        cj("deliver", "prod", "hosting", "--allow-guarded", "prod")
        project["variables"]["v0"] = {
            "name": "MAIL",
            "text": "relay.example",
            "on": ["dev", "live", "old"],
            "shown": True,
            "count": 1,
        }
        cj("deliver", "dev", "fish")
        assert project["variables"]["v0"]["on"] == ["dev", "live", "old"]  # it was right
        cj("put", "MAIL=other.example", "--stage", "dev")
        message = cj("deliver", "dev", "fish", "--dry-run", "--requests").out
        assert re.search(r'PATCH .*/variables/v0 .*"on": \["live", "old"\].*\nPOST .*"on": \["dev"\]', message)
        cj("deliver", "dev", "fish")
        assert sorted(
            (tuple(variable["on"]), variable["text"])
            for variable in project["variables"].values()
            if variable["name"] == "MAIL"
        ) == [
            (("dev",), "other.example"),
            (("live", "old"), "relay.example"),
        ]
        cj("put", "MAIL", "--unset", "--stage", "prod")
        cj("deliver", "prod", "fish", "--allow-guarded", "prod")
        assert {tuple(variable["on"]) for variable in project["variables"].values() if variable["name"] == "MAIL"} == {
            ("dev",),
            ("old",),
        }


def test_two_levels_and_what_a_job_without_a_stage_gets(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with line(jar, cj) as (_, _, sluice):
        values = sluice.standin.state["projects"]["line"]["values"]
        cj("deliver", "dev", "hosting")
        cj("deliver", "shared", "pipes")  # the whole project gets what holds on every stage
        assert {(value["name"], value["stage"]) for value in values.values()} == {("LEVEL", None), ("MAIL", None)}
        cj("put", "LEVEL=debug", "--stage", "dev")
        planned = by_destination(cj, "deliver", "dev", "pipes")["pipes"]
        assert {change["name"] for change in planned["changes"]} == {
            "LEVEL",
            "TOKEN",
        }  # MAIL is right already: the project's
        assert (
            "a job without a stage gets a different value of LEVEL (info, not debug)" in cj("drift", "dev", "pipes").err
        )
        # the classic surprises of a pipeline
        text = """\
pipeline: 1
variables: {GREETING: hello}
jobs:
  - name: with
    stage: dev
    variables: {LOGIN: "secret:TOKEN"}
    lines:
      - {name: say, do: 'echo with=$LEVEL [=LEVEL=] token=$LOGIN undefined=[$NOPE][=NOPE=]'}
      - {name: own, variables: {LEVEL: line}, do: 'echo own=$LEVEL $GREETING'}
  - name: without
    lines: [{name: say, do: 'echo without=$LEVEL token=[$TOKEN]'}]
  - name: release
    stage: prod
    lines: [{name: say, do: 'echo released'}]
"""
        sluice.standin.state["projects"]["line"]["pipelines"]["go"] = text
        first = sluice.standin.answer(
            "POST", "/projects/line/runs", {}, {"pipeline": "go"}, {"Authorization": f"Bearer {sluice.token}"}
        )
        assert (first["state"], first["log"]) == (
            "waiting",
            [
                "== with (dev)", "with=debug debug token=•••• undefined=[]", "own=line hello",
                "== without (no stage)", "without=info token=[]",
                "release waits: prod is guarded, and a second person must approve it",
            ],
        )  # fmt: skip
        from coinjar.standins.base import ErrorResponse

        with pytest.raises(ErrorResponse, match="somebody else must approve it"):
            sluice.standin.answer(
                "POST", "/projects/line/runs/1/yes", {}, None, {"Authorization": f"Bearer {sluice.token}"}
            )
        other = {"Authorization": f"Bearer {sluice.standin.state['tokens']['berta']}"}
        assert sluice.standin.answer("POST", "/projects/line/runs/1/yes", {}, None, other)["log"][-1] == "released"


def test_limits_are_told_before_anything_is_sent(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with line(jar, cj) as (_, fish, _):
        (cj.folder / "jar/jar.yaml").write_text(
            cj.read("jar/jar.yaml").replace(
                "destinations:",

                    "  level: {services: [mailer], default: x}\n"
                    "  LANTERN_X: {services: [mailer], default: x}\n"
                    "  EMPTY: {services: [mailer], default: ''}\n"


                    "  LINES: {services: [mailer], default: \"a\\nb\"}\n"
                    "  LONG: {services: [mailer], default: '%s'}\ndestinations:"
                 % ("x" * 4097),
            ).replace("variables: [LEVEL, MAIL, LINK]", "variables: ['*'], without: [LINK, PORT]")
        )  # fmt: skip
        cj("deliver", "dev", "hosting")
        done = cj("deliver", "dev", "fish", code=3)
        for words in (
            "level: lanternfish accepts only names that match", "LANTERN_X: lanternfish reserves this name",
            "EMPTY: it is empty, but lanternfish does not accept empty values", "LINES: it has a line break",
            "LONG: its value has 4097 bytes",
        ):  # fmt: skip
            assert words in done.err
        assert fish.standin.state["projects"]["line-mailer"]["variables"] == {}
        data = json.loads(cj("check", "--format", "json", code=1).out)["findings"]
        assert {finding["rule"] for finding in data if "fish" in finding["message"]} >= {"CJ032", "CJ033"}


def test_two_stages_cannot_share_a_place_and_extras_stay(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with line(jar, cj) as (salt, _, _):
        text = cj.read("jar/jar.yaml")
        cj.write({"jar/jar.yaml": text.replace("line-{service}-{stage}", "line-{service}-dev")})
        for command in (("deliver", "dev", "hosting"), ("drift", "dev", "hosting"), ("check",)):
            done = cj(*command, code=None)
            assert done.code in (1, 3)
            assert "hosting has one place for dev" in done.out + done.err
            assert "add {stage} to app" in done.out + done.err
        given = {"LINE_APP": "line-{service}-dev"}  # what the caller's environment chooses is seen only there
        cj.write({"jar/jar.yaml": text.replace("'line-{service}-{stage}'", "{from_env: LINE_APP}")})
        cj("deliver", "dev", "hosting", env=given)
        assert "is already the account of dev/web" in cj("deliver", "trial", "hosting", code=3, env=given).err
        cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("{from_env: LINE_APP}", "'line-{service}-{stage}'")})
        app = salt.standin.state["apps"]["line-web-dev"]
        app["settings"]["EXTRA"] = "somebody else's"
        message = cj("drift", "dev", "hosting", code=1).out
        assert re.search(r"EXTRA +unmanaged .*not in the jar", message)
        cj("deliver", "dev", "hosting")
        assert "EXTRA" in app["settings"]
        cj("deliver", "dev", "hosting", "--remove-extra")
        assert "EXTRA" not in app["settings"]


def test_snapshots_are_sealed_and_a_delivery_can_be_undone(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with line(jar, cj) as (salt, _, _):
        cj("deliver", "dev", "hosting", "--restart")
        cj("put", "TOKEN", "--stage", "dev", stdin="made-up-other-token")
        cj("put", "LEVEL=debug", "--stage", "dev")
        cj("deliver", "dev", "hosting", "--restart")
        kept = (cj.folder / "jar/.local/deliveries.sqlite").read_bytes()
        assert b"made-up" not in kept
        assert b"TOKEN" in kept  # names are there
        assert stat.S_IMODE((cj.folder / "jar/.local/deliveries.sqlite").stat().st_mode) == 0o600
        listed = cj("deliveries").out.splitlines()
        assert listed[0] == "2 deliveries, newest first"
        assert re.match(r"2 +\S+ \S+ +dev +hosting +≠2 +done", listed[2])
        nobody = {"COINJAR_IDENTITY": "", "XDG_CONFIG_HOME": str(cj.folder / "empty")}
        assert cj("deliveries", "2", env=nobody).out.startswith("Delivery 2: dev → hosting, done")
        assert "no identity" in cj("deliveries", "undo", "2", code=4, env=nobody).err
        result = cj("deliveries", "undo", "2", "--restart")
        assert "The jar is unchanged: the next delivery brings its values back" in result.err
        settings = salt.standin.state["apps"]["line-web-dev"]["settings"]
        assert settings == {"LEVEL": "info", "TOKEN": "made-up-token"}
        assert json.loads(cj("deliveries", "3", "--json").out)["undoes"] == 2
        assert "LEVEL" in cj("compare", "delivery:2", "dest:hosting@dev", "--service", "web", code=1).out


# -- records and locks


def test_json_shapes_have_the_keys_that_are_told(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    page = (Path(__file__).parent.parent / "docs/json.md").read_text()
    proof = "proofs: {level: {file: level, service: web, expect: '${LEVEL}'}}\n"
    with line(jar, cj, proof):
        cj.write({"level": "info"})
        runs: dict[tuple[str, ...], int] = {
            ("deliver", "dev", "hosting"): 0, ("drift", "dev", "hosting"): 1, ("confirm", "dev"): 0, ("deliveries",): 0,
            ("deliveries", "1"): 0,
        }  # fmt: skip
        for arguments, code in runs.items():
            messages = set(re.findall(r'"(\w+)":', page.split(f"## {arguments[0]}\n")[1].split("\n## ")[0]))
            assert keys_of(json.loads(cj(*arguments, "--json", code=code).out)) <= messages, arguments


def keys_of(data: Any) -> set[str]:
    """Every key, at any depth."""
    inner = data.values() if isinstance(data, dict) else data if isinstance(data, list) else ()
    return (set(data) if isinstance(data, dict) else set()).union(*map(keys_of, inner))


def test_a_terminal_sees_how_far_it_is(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with line(jar, cj) as platforms:
        for running in platforms:
            running.standin.fault = InjectedFault("slow:1")  # what is fast shows nothing
        shown = on_a_terminal(cj, "deliver", "dev")
        assert re.search(r"reading ━+─* \d of 3, about \d+ s left", shown)
        assert re.search(r"delivering ━+─* \d of 3, about \d+ s left", shown)
        assert "\r\x1b[K" in shown  # and nothing of it stays
        assert "━" not in cj("drift", "dev", code=1).err
