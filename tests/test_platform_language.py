"""What a description of a platform can say, on the made-up services of docs/platforms.md, and what a delivery does."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from coinjar.core.name_spelling import NameSpelling
from coinjar.platforms.conditions import Condition, all_hold
from coinjar.standins.base import ErrorResponse, Standin
from tests.conftest import Coinjar
from tests.places import SECRET, System, described_in_the_docs, there

SERVICES = """\
services: {web: {}, mailer: {}, api: {}}
stages: {dev: {}, prod: {}}
variables: {LEVEL: {default: info}}
destinations:
  there: {type: platform, platform: tiers, address: 'http://127.0.0.1:1', SETTINGS}
  other: {type: platform, platform: tiers, address: 'http://127.0.0.1:1', stages: [dev], services: [web], OTHER}
"""
TIERS = """\
platform: 1
settings: {address: where, tier: the tier, app: the app}
account: {send: GET /a, is: "{/name}"}
list: {send: "GET /v/{tier}/{app}", map: /v}
write: {changes: {send: PUT /v, body: {v: "{changes}"}}}
"""


Answer = Callable[[str, Callable[[], Any]], Any]


def intercept(system: System, change: Answer) -> Standin:
    """Let `change` see the method of each request, and call the service itself when it likes."""
    assert system.running
    service = system.running.standin
    answer = service.answer

    def instead(method: str, *rest: Any) -> Any:
        return change(method, lambda: answer(method, *rest))

    service.answer = instead  # type: ignore[method-assign, assignment]
    return service


@pytest.mark.unit
def test_conditions() -> None:
    item = {"kind": "sealed", "value": None, "on": True, "count": 3}
    for condition, expected in (
        (Condition("/kind", texts=("sealed", "locked")), True),
        (Condition("/kind", texts=("open",)), False),
        (Condition("/kind", texts=("open",), is_negated=True), True),
        (Condition("/nothing", texts=("open",), is_negated=True), True),
        (Condition("/value", word="null"), True),
        (Condition("/value", word="present"), True),
        (Condition("/value", word="absent"), False),
        (Condition("/nothing", word="absent"), True),
        (Condition("/nothing", word="null"), False),
        (Condition("/on", texts=("true",)), True),
        (Condition("/count", texts=("3",)), True),
    ):
        assert condition.holds(item) is expected, condition
    assert not all_hold((), item)
    assert not all_hold((Condition("/on", texts=("true",)), Condition("/kind", word="absent")), item)


@pytest.mark.unit
def test_names_lead_back_to_themselves_or_are_refused() -> None:
    dotted = NameSpelling(is_lower=True, separator=".", prefix="env.")
    assert dotted.there("TICKET_DB_HOST") == "env.ticket.db.host"
    assert dotted.here("env.ticket.db.host") == "TICKET_DB_HOST"
    assert dotted.here("ticket.db.host") is None
    assert dotted.here("env.Ticket") is None
    assert [dotted.is_reversible(name) for name in ("A_B", "a_b", "A.B", "A__B")] == [True, False, False, True]
    assert NameSpelling().here("Any.Name") == "Any.Name"


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ('tier: "web-{stage}", app: x', "one place for web and mailer on dev"),
        ('tier: "{service}", app: "{stage}"', ""),
        ('tier: "{service}", app: x', "one place for dev and prod"),
        ('tier: x, app: "{service}-{stage}"', ""),
    ],
)
def test_two_services_never_fill_one_place(jar: Callable[..., Coinjar], settings: str, words: str) -> None:
    """Nor two stages, by whichever setting it is chosen; a fixed one beside another with {service} is a place each."""
    cj = jar(SERVICES.replace("SETTINGS", settings).replace("OTHER", "tier: other, app: x"))
    cj.write({"jar/platforms/tiers.yaml": TIERS})
    done = cj("deliver", "dev", "there", code=3 if words else 5)
    assert words in done.err
    assert (words or "nothing found") in cj("check", code=None).out


def test_two_destinations_of_one_place_agree_or_are_refused(jar: Callable[..., Coinjar]) -> None:
    """The values of one would overwrite those of the other; with variables of their own they share the place."""
    cj = jar(SERVICES.replace("SETTINGS", 'tier: "{service}", app: "{stage}"').replace("OTHER", "tier: web, app: dev"))
    cj.write({"jar/platforms/tiers.yaml": TIERS})
    assert "nothing found" in cj("check").out
    declared = cj.read("jar/jar.yaml")
    differing = declared.replace("{web: {}", "{web: {}, x: {}").replace("services: [web]", "services: [x]")
    cj.write({"jar/jar.yaml": differing, "jar/plain/dev.yaml": "x: {LEVEL: debug}\n"})
    found = cj("check", code=1).out
    assert "other: there on dev fills the same place with other values of LEVEL" in found
    cj.write({"jar/jar.yaml": differing.replace("services: [x]", "services: [x], without: [LEVEL]")})
    assert "fills the same place" not in cj("check", code=None).out


def test_somebody_who_is_faster_is_not_overwritten(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """A conditional write is refused, the bank is read again, and only what is left is written; bounded."""
    with there("reedbank", jar, cj) as system:
        times = 1

        def meanwhile(method: str, answer: Callable[[], Any]) -> Any:
            nonlocal times
            if method == "PATCH" and times:
                times -= 1
                system.outside("LEVEL", "info")
            return answer()

        intercept(system, meanwhile)
        done = cj("deliver", "dev")
        assert "somebody else changed it at the same time, and it was read again; 3 of 4 changes were left" in done.err
        assert system.own()["LEVEL"] == "info"
        assert system.own()["TOKEN"] == SECRET
        cj("put", "LEVEL=debug", "--stage", "dev")
        times = 100
        assert "was answered with 412" in cj("deliver", "dev", code=5).err
        assert times == 96


def test_destinations_of_one_service_share_its_rate(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Never more than the described number of requests in a second, whoever sends them."""
    with there("reedbank", jar, cj) as system:
        assert system.running
        system.running.standin.make("second-dev")
        declared = system.declaration.replace("sandling-", "second-")
        cj.write({"jar/jar.yaml": f"{cj.read('jar/jar.yaml')}  other: {declared}\n"})
        slow = cj.read("jar/platforms/reedbank.yaml").replace("per_second: 20", "per_second: 5")
        cj.write({"jar/platforms/reedbank.yaml": slow})
        times: list[float] = []

        def noted(_: str, answer: Callable[[], Any]) -> Any:
            times.append(time.monotonic())
            return answer()

        intercept(system, noted)
        cj("deliver", "dev")
        assert len(times) > 12
        times.sort()  # two of them are for the tokens
        assert all(later - sooner > 0.9 for sooner, later in zip(times, times[8:], strict=False))


def test_a_batch_reports_what_was_refused(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with there("reedbank", jar, cj) as system:
        cj("put", f"TITLE={'long ' * 20}", "--stage", "dev")
        cj("put", "TOKEN", "--stage", "dev", stdin="made-up-canary-" + "x" * 60)
        done = cj("deliver", "dev", code=5)
        assert "refused 1 of" in done.err
        assert "env.title (too long)" in done.err or "env.token (too long)" in done.err
        assert "made-up-canary" not in done.out + done.err
        cj("put", "TITLE=short", "--stage", "dev")
        cj("put", "TOKEN", "--stage", "dev", stdin=SECRET)
        cj("deliver", "dev")
        assert system.own()["TITLE"] == "short"
        assert json.loads(cj("deliver", "dev", "--json").out)["targets"][0]["changes"] == []


def test_what_is_gone_exists_or_is_busy(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """404 on a removal is done, 409 on a creation is read again and changed, 423 is waited for."""
    with there("marl", jar, cj) as system:
        assert system.running
        shelf = system.running.standin.state["shelves"]["sandling-dev"]

        def meanwhile(method: str, answer: Callable[[], Any]) -> Any:
            if method == "POST" and "LEVEL" not in shelf["cells"]:
                shelf["cells"]["LEVEL"] = "somebody's"
                shelf["locked"] = 3
            elif method == "DELETE":
                shelf["cells"].pop("LEVEL", None)
            return answer()

        intercept(system, meanwhile)
        assert "waiting for the end of what it does" in cj("deliver", "dev").err
        assert system.own()["LEVEL"] == "info"
        seen = system.running.server.seen
        assert any("jobs/copy" in request for request in seen)
        cj("put", "LEVEL", "--unset", "--stage", "dev")
        cj("put", "LINK=x", "--stage", "dev")
        cj("deliver", "dev")
        assert "LEVEL" not in system.own()


def test_a_write_that_is_only_accepted_is_waited_for(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Until its job has ended; one that does not end in time, or fails, is no success."""
    with there("marl", jar, cj) as system:
        assert system.running
        cj("deliver", "dev")
        declared = cj.read("jar/jar.yaml")
        cj.write({"jar/jar.yaml": declared.replace("platform: marl,", "platform: marl, restart_timeout: 1s,")})
        jobs = system.running.standin.state["shelves"]["sandling-dev"]["jobs"]
        ends = False

        def meanwhile(_: str, answer: Callable[[], Any]) -> Any:
            for job in jobs.values() if not ends else ():
                job["looks"] = 100
            return answer()

        intercept(system, meanwhile)
        cj("put", "LEVEL=debug", "--stage", "dev")
        assert "the write did not end in 1 s" in cj("deliver", "dev", code=5).err
        assert system.own()["LEVEL"] == "info"
        ends = True
        cj("deliver", "dev")
        assert system.own()["LEVEL"] == "debug"


def test_the_read_back_judges_all_that_the_jar_wants(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Another of our variables, changed by somebody during the delivery, is neither taken for ours nor kept quiet."""
    with there("reedbank", jar, cj) as system:
        cj("deliver", "dev")
        moves: list[str] = []

        def meanwhile(method: str, answer: Callable[[], Any]) -> Any:
            result = answer()
            if method == "PATCH" and moves:
                name = moves.pop()
                kind = "sealed" if name == "TOKEN" else "open"
                system.outside(name, "somebody's")
                bank.state["banks"]["sandling-dev"]["params"]["env." + name.lower()]["kind"] = kind
            return result

        bank = intercept(system, meanwhile)
        for level, name in (("debug", "TOKEN"), ("warning", "TITLE")):
            cj("put", f"LEVEL={level}", "--stage", "dev")
            moves.append(name)
            done = cj("deliver", "dev", code=5)
            assert f"somebody else changed {name} there during the delivery" in done.err
            states = json.loads(cj("drift", "dev", "--json", code=1).out)["targets"][0]["variables"]
            assert next(row["state"] for row in states if row["name"] == name) == "changed there"
            cj("deliver", "dev")
            assert system.own()[name] in (SECRET, "Sandling é")


def test_a_description_is_tried_against_its_own_examples(cj: Coinjar) -> None:
    """Without a jar's destination, a network or a token; each part says what came of it."""
    cj("new", "--app", "x", "--service", "web", "--stage", "dev")
    described_in_the_docs(cj, "millrace")
    done = cj("platforms", "millrace", "--examples")
    assert done.out.splitlines()[0] == "millrace: 5 of 5 parts exercised"
    assert "ferries / harbour-dev" in done.out
    assert "2 variables in 2 pages" in done.out
    page = (Path(__file__).parent.parent / "docs/platforms.md").read_text()
    assert done.out.strip() in page
    description = cj.read("jar/platforms/millrace.yaml")
    for old, new, words in (
        ("{LOG_LEVEL: debug, TITLE: null}", "{LOG_LEVEL: other, TITLE: null}", "for which there is no example"),
        ("reads: {LOG_LEVEL: info,", "reads: {LOG_LEVEL: x,", "`list` reads LOG_LEVEL differently"),
        ("value: /v", "value: /w", "`list` reads LOG_LEVEL, TITLE differently"),
        ("live: 7}", "lives: 7}", ""),
    ):
        assert old in description
        cj.write({"jar/platforms/millrace.yaml": description.replace(old, new)})
        done = cj("platforms", "millrace", "--examples", code=1 if words else 0)
        assert words in done.err
        assert words or "pending a restart" in done.out
    cj.write({"jar/platforms/millrace.yaml": description.replace("settings: {space: harbour-dev}", "settings: {}")})
    assert "the examples have no space" in cj("platforms", "millrace", code=3).err


def test_platforms_are_listed_and_tried_online(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with there("millrace", jar, cj) as system:
        listed = json.loads(cj("platforms", "--json").out)["platforms"]
        assert [item["name"] for item in listed] == ["millrace", "lanternfish", "saltmarsh", "sluiceway"]
        system.outside("EXTRA", "x")
        shown = cj("platforms", "millrace", "--online", "dev").out
        assert "1 variables in 1 page" in shown
        assert "write" in shown
        assert system.own() == {"EXTRA": "x"}
        assert system.running
        assert not [request for request in system.running.server.seen if not request.startswith("GET")]
        assert (
            "no destination of the jar is a saltmarsh on dev"
            in cj("platforms", "saltmarsh", "--online", "dev", code=3).err
        )
        assert "there is no platform description 'saltmars'" in cj("platforms", "saltmars", code=3).err
        assert "name one" in cj("platforms", "--examples", code=2).err


def test_a_secret_in_a_path_is_shown_nowhere(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Neither in what would be sent, nor in the message of a refusal, nor in the records; short ones included."""
    with there("marl", jar, cj) as system:
        description = cj.read("jar/platforms/marl.yaml")
        create = 'create: {send: "POST /shelves/{shelf}?t={value}", body: {n: "{name}"}}'
        start = description.index("create:")
        end = description.index("\n", start)
        cj.write({"jar/platforms/marl.yaml": description[:start] + create + description[end:]})

        def refusing(method: str, answer: Callable[[], Any]) -> Any:
            if method == "POST":
                raise ErrorResponse(422, "no")
            return answer()

        intercept(system, refusing)
        for secret in ("made-up-canary-77", "q9Z"):
            cj("put", "TOKEN", "--stage", "dev", stdin=secret)
            shown = cj("deliver", "dev", "--dry-run", "--requests")
            done = cj("deliver", "dev", code=5)
            number = json.loads(cj("deliveries", "--json").out)[0]["number"]
            for text in (shown.out + shown.err, done.out + done.err, cj("deliveries", str(number)).out):
                assert secret not in text
        assert b"made-up-canary" not in (cj.folder / "jar/.local/deliveries.sqlite").read_bytes()


def test_a_signed_request_needs_a_key(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Without a credential nothing is sent unsigned."""
    with there("marl", jar, cj) as system:
        cj.write({"jar/jar.yaml": re.sub(r", token: \{[^}]*\}", "", cj.read("jar/jar.yaml"))})
        assert "marl requires a credential, and the destination has none" in cj("deliver", "dev", code=3).err
        assert system.running
        assert not system.running.server.seen
