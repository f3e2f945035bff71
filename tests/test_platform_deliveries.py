"""What a delivery to a platform does when answers are lost, restarts fail, and others change things meanwhile."""

from __future__ import annotations

import json
import subprocess
import threading
import time
from collections.abc import Callable
from typing import Any

import pytest

from coinjar.actions.delivery import target_delivery
from coinjar.standins.base import ErrorResponse
from tests.conftest import PROGRAM, Coinjar
from tests.consumers import need
from tests.places import there
from tests.systems import standin
from tests.test_platform_language import intercept


@pytest.mark.parametrize("is_carried_out", [True, False])
def test_whether_a_restart_happened_is_found_out(
    is_carried_out: bool, jar: Callable[..., Coinjar], cj: Coinjar, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A restart whose answer was lost is requested again only if it did not happen."""
    monkeypatch.setattr(target_delivery, "PAUSES", (0.01, 0.01))
    with there("saltmarsh", jar, cj) as system:
        assert system.running
        app = system.running.standin.state["apps"]["sandling-dev"]
        requested = 0

        def meanwhile(method: str, answer: Callable[[], Any]) -> Any:
            nonlocal requested
            if method != "POST":
                return answer()
            requested += 1
            if requested > 1:
                return answer()
            if is_carried_out:
                answer()
                app["running"] = app["settings"] | app["given"]
            raise ErrorResponse(500, "the proxy has lost the answer")

        intercept(system, meanwhile)
        done = cj("deliver", "dev", "--restart")
        assert ("it had restarted" if is_carried_out else "it had not restarted, and was restarted again") in done.err
        assert requested == (1 if is_carried_out else 2)
        assert "pending restart" not in cj("drift", "dev").out


def test_a_restart_that_failed_was_not_interrupted(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with there("saltmarsh", jar, cj) as system:
        is_broken = True

        def meanwhile(method: str, answer: Callable[[], Any]) -> Any:
            result = answer()
            if is_broken and method == "GET" and isinstance(result, dict) and "state" in result and "id" in result:
                return result | {"state": "failed"}
            return result

        intercept(system, meanwhile)
        assert "it failed there" in cj("deliver", "dev", "--restart", code=5).err
        is_broken = False
        cj("put", "LEVEL=debug", "--stage", "dev")
        done = cj("deliver", "dev", "--restart")
        assert "interrupted" not in done.out + done.err
        assert "may happen twice" not in done.out + done.err


def test_only_what_changed_outside_waits_for_a_restart(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """A platform that counts changes does not say which variables wait; the records do."""
    with there("millrace", jar, cj) as system:
        cj("deliver", "dev", "--restart")
        assert system.running
        system.outside("TITLE", "somebody's")
        system.running.standin.state["spaces"]["sandling-dev"]["saved"] += 1
        rows = json.loads(cj("drift", "dev", "--json", code=1).out)["targets"][0]["variables"]
        assert {row["name"]: row["state"] for row in rows} == {
            "TITLE": "changed there", "LEVEL": "up to date", "LINK": "up to date", "TOKEN": "up to date",
        }  # fmt: skip


def test_requests_are_bounded_over_all_targets(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    names = [f"V{number}" for number in range(12)]
    with standin("lanternfish", cj.folder / "s", "line-web", "line-mailer", "line-api") as fish:
        jar(
            "services: {web: {}, mailer: {}, api: {}}\nstages: {dev: {}}\n"
            f"variables: {{{', '.join(f'{name}: {{default: x}}' for name in names)}}}\ndestinations:\n"
            f"  fish: {{type: platform, platform: lanternfish, address: '{fish.standin.address}', "
            "project: 'line-{service}', token: {from_env: FISH}}\n"
        )
        cj.env["FISH"] = fish.token
        now, most, guard = 0, 0, threading.Lock()
        answer = fish.standin.answer

        def counting(*arguments: Any) -> Any:
            nonlocal now, most
            with guard:
                now += 1
                most = max(most, now)
            try:
                time.sleep(0.005)
                return answer(*arguments)
            finally:
                with guard:
                    now -= 1

        fish.standin.answer = counting  # type: ignore[method-assign, assignment]
        cj("deliver", "dev")
        assert 1 < most <= 4  # at_once of its description


def test_a_service_that_asks_to_wait_is_waited_for(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """As long as it asks, a long wait is shown, and one beyond the limit ends with what to do."""
    with there("marl", jar, cj) as system:
        asked = ["4", "", "200"]

        def meanwhile(method: str, answer: Callable[[], Any]) -> Any:
            if method == "POST" and asked:
                seconds = asked.pop(0)
                if seconds:
                    raise ErrorResponse(429, "slow down", {"Retry-After": seconds})
            return answer()

        intercept(system, meanwhile)
        done = cj("deliver", "dev", code=5)
        assert "waiting 4 s, as the service asks" in done.err
        assert "it asks to wait 200 s: run it again later, or with --wait 205" in done.err
        cj("deliver", "dev")
        assert system.own()["LEVEL"] == "info"


def test_a_jar_that_cannot_be_written_is_read(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """On a read-only file system: what was delivered, and what is there; a change says why it cannot be made."""
    with there("saltmarsh", jar, cj):
        cj("deliver", "dev", "--restart")
        mounted = f"mount --bind {cj.folder}/jar {cj.folder}/jar && mount -o remount,ro,bind {cj.folder}/jar"
        for command, code, words in (
            ("deliveries", 0, "1 delivery, newest first"),
            ("deliveries 1", 0, "Delivery 1: dev → there, done"),
            ("drift dev", 0, "dev: 1 target up to date"),
            ("deliver dev --dry-run", 0, "1 up to date"),
            ("grid", 0, "trial: "),
            ("put LEVEL=x --stage dev", 5, "read-only file system"),
        ):
            argv = [need("unshare"), "-m", "sh", "-c", f"{mounted} && exec {PROGRAM} {command}"]
            done = subprocess.run(argv, cwd=cj.folder, env=cj.env, capture_output=True, text=True, check=False)
            assert done.returncode == code, (command, done.stdout, done.stderr)
            assert words in done.stdout + done.stderr, (command, done.stdout, done.stderr)
