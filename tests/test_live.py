"""One contract for every live destination, on real systems and on stand-ins, with faults and interruptions."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
import yaml

from tests.conftest import Coinjar
from tests.places import SECRET, STANDINS, SYSTEMS, there


def states(cj: Coinjar, code: int = 0) -> dict[str, str]:
    """How every variable stands."""
    data = json.loads(cj("drift", "dev", "--json", code=code).out)
    return {
        row["name"]: row["state"]
        for target in data["targets"]
        for row in target["variables"]
        if row["state"] != "supplied"
    }


def wanted(**changes: str) -> dict[str, str]:
    return {"TITLE": "Sandling é", "LEVEL": "info", "LINK": "x://info/", "TOKEN": SECRET} | changes


@pytest.mark.parametrize("name", SYSTEMS)
def test_the_contract(name: str, jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with there(name, jar, cj) as system:
        seen: list[str] = []

        def coinjar(*arguments: str, code: int = 0) -> str:
            done = cj(*arguments, code=code)
            seen.append(done.out + done.err)
            return done.out

        # a dry run changes nothing, and shows what would be sent
        planned = coinjar("deliver", "dev", "--dry-run", "--requests")
        assert all(name in planned for name in wanted())
        assert not set(system.own() if name not in ("hayloft", "host") else {}) & set(wanted())
        data = json.loads(coinjar("deliver", "dev", "--dry-run", "--json"))["targets"][0]
        assert (
            data["state"],
            {change["name"]: change["action"] for change in data["changes"] if change["name"] != "OLD"},
        ) == ("to deliver", dict.fromkeys(wanted(), "new"))
        # the first delivery: all of it is there, in effect, and jar.yaml says whose it is
        coinjar("deliver", "dev", "--restart")
        assert system.own() == wanted()
        assert set(states(cj).values()) <= {"up to date", "not readable"}
        assert ("account:" in cj.read("jar/jar.yaml")) is (name != "host")  # whose key is in known_hosts
        # once more: nothing to do
        assert json.loads(coinjar("deliver", "dev", "--json"))["targets"][0]["changes"] == []
        # somebody else's hand is seen, and put right
        system.outside("LEVEL", "meddled")
        assert states(cj, 1)["LEVEL"] == "changed there"
        coinjar("deliver", "dev", "--restart")
        assert system.own() == wanted()
        # the jar moves on; what depends on it, too; what is unset goes
        cj("put", "LEVEL=debug", "--stage", "dev")
        cj("put", "TITLE", "--unset", "--stage", "dev")
        assert states(cj, 1)["LEVEL"] == "not delivered"
        coinjar("deliver", "dev", "--restart")
        changed = wanted(LEVEL="debug", LINK="x://debug/")
        del changed["TITLE"]
        assert system.own() == changed
        # and comes back
        number = json.loads(cj("deliveries", "--json").out)[0]["number"]
        assert {
            change["name"]: change["action"]
            for change in json.loads(cj("deliveries", str(number), "--json").out)["targets"][0]["changes"]
        } == {
            "LEVEL": "changed",
            "LINK": "changed",
            "TITLE": "gone",
        }
        coinjar("deliveries", "undo", str(number), "--restart")
        assert system.own() == wanted()
        # of a secret nothing is shown, and a new one arrives
        cj("put", "TOKEN", "--stage", "dev", stdin=f"{SECRET}-new")
        coinjar("deliver", "dev", "--restart")
        assert system.own()["TOKEN"] == f"{SECRET}-new"
        assert SECRET not in "".join(seen)
        # another account stops it
        text = cj.read("jar/jar.yaml")
        if "account" in text:
            (account,) = yaml.safe_load(text)["destinations"]["there"]["account"].values()
            cj.write({"jar/jar.yaml": text.replace(account, "another place")})
            assert "but the jar was delivered to another place" in cj("deliver", "dev", code=3).err
            cj.write({"jar/jar.yaml": text})
        # it is a source
        cj("put", "LEVEL=info", "--stage", "dev")
        cj("drop", "TITLE", "--stage", "dev")
        coinjar("deliver", "dev", "--restart")
        compared = cj("compare", "dest:there@dev", "dev", "--json")
        assert ("TOKEN of there" in compared.err and "not readable" in compared.err) == system.blind
        rows = {row["name"]: row["verdict"] for row in json.loads(compared.out)["rows"]}
        assert {name: rows[name] for name in wanted() if name != "TOKEN"} == dict.fromkeys(
            ["TITLE", "LEVEL", "LINK"], "same"
        )
        assert "and dev: " in cj("compare", f"delivery:{number}", "dev", code=1).out


@pytest.mark.parametrize("name", ["saltmarsh", "lanternfish", "host"])
def test_a_delivery_that_was_killed_is_finished_by_the_next(
    name: str, jar: Callable[..., Coinjar], cj: Coinjar
) -> None:
    """kill -9 before and after every request, transaction, and write on a host: run again, all of it is there, and in
    effect.
    """
    with there(name, jar, cj) as system:
        cj("deliver", "dev", "--restart")
        argv = [sys.executable, "-m", "tests.killing"]
        env = cj.env | {"PYTHONPATH": str(Path(__file__).parent.parent), "PYTHONDONTWRITEBYTECODE": "1"}
        with subprocess.Popen(
            argv,
            cwd=cj.folder,
            env=env,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        ) as process:
            assert process.stdin
            assert process.stdout
            number = 0
            for line in process.stdout:
                data = json.loads(line)
                number = data["number"]
                assert (data["again"], data["drift"]) == (0, 0), data
                assert system.own() == wanted(LEVEL=f"v{number}", LINK=f"x://v{number}/"), data
                process.stdin.write("\n")
                process.stdin.flush()
        assert data["code"] == 0  # the last one lived
        assert number > 10
        if name == "saltmarsh":  # whose restart is asked for, and may have been carried out
            notes = (
                cj("deliveries", str(item["number"])).out
                for item in json.loads(cj("deliveries", "--most", "200", "--json").out)
            )
            assert any("requested its restart and was interrupted: it may happen twice" in note for note in notes)
        listed = json.loads(cj("deliveries", "--most", "200", "--json").out)
        assert {item["state"] for item in listed} == {"done", "interrupted"}


@pytest.mark.parametrize(
    ("name", "fault"),
    [
        (name, fault)
        for name in STANDINS
        for fault in ("drop:2", "500:3", "half:2", "429:3")
        if (name, fault) != ("reedbank", "500:3")  # every third request would be the one that writes
    ]
    + [("saltmarsh", "slow:2")],
)
def test_faults_lose_nothing(name: str, fault: str, jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Whatever goes wrong there, a few runs later all of it is there; a run that did not get through says so."""
    with there(name, jar, cj, fault) as system:
        for _ in range(4):
            done = cj("deliver", "dev", "--restart", code=None)
            assert (done.code == 5) is ("1 failed" in done.out), done
            assert SECRET not in done.out + done.err
            if done.code == 0:
                break
        assert done.code == 0, done
        if fault == "drop:2" and name in ("lanternfish", "sluiceway"):
            assert "a response was lost" in "".join(
                cj("deliveries", str(item["number"])).out for item in json.loads(cj("deliveries", "--json").out)
            )
        assert system.running
        if system.running.standin.fault:
            system.running.standin.fault = None
        assert set(states(cj).values()) <= {"up to date", "not readable"}
        assert {name: text for name, text in system.own().items() if name in wanted()} == wanted()
