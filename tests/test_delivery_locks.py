"""Two deliverers of one stage: one waits, is refused, or takes over."""

from __future__ import annotations

import json
import re
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from tests.conftest import PROGRAM, Coinjar
from tests.line import line
from tests.systems import Running, postgresql


def test_the_lock_of_a_dead_holder_is_taken_over_and_a_living_one_is_told_of(
    jar: Callable[..., Coinjar], cj: Coinjar, tmp_path: Path
) -> None:
    with line(jar, cj) as (salt, _, _), postgresql(tmp_path / "postgresql") as address:
        for shared in (False, True):
            if shared:
                records = f"records: {{address: '{address}', password: {{from_env: RECORDS}}}}\n"
                (cj.folder / "jar/jar.yaml").write_text(records + cj.read("jar/jar.yaml"))
                assert "the environment has no RECORDS" in cj("deliver", "dev", code=3).err
                wrong = cj("deliver", "dev", code=5, env={"RECORDS": "made-up-wrong"})
                assert "password authentication failed" in wrong.err
                assert "made-up-wrong" not in wrong.err
                cj.env["RECORDS"] = "made-up"
            _race(cj, salt, f"shared-{shared}")


@contextmanager
def held_up(running: Running) -> Iterator[Callable[[], None]]:
    """A platform that answers no write until the end; gives what waits until one has come."""
    came, go = threading.Event(), threading.Event()
    real = running.standin.answer

    def answer(method: str, *rest: Any) -> Any:
        if method != "GET":
            came.set()
            go.wait(30)
        return real(method, *rest)

    running.standin.answer = answer  # type: ignore[method-assign, assignment]  # the same, later
    try:
        yield lambda: assert_comes(came)
    finally:
        go.set()
        del running.standin.answer


def assert_comes(event: threading.Event) -> None:
    assert event.wait(30)


def _race(cj: Coinjar, salt: Running, level: str) -> None:
    """Two deliverers: the first is slow. The second is told, or waits; and when the first is killed, takes over at
    once.
    """
    argv, env = [PROGRAM, "deliver", "dev", "hosting"], cj.env
    cj("put", f"LEVEL={level}-2", "--stage", "dev")
    with held_up(salt) as writing:
        first = subprocess.Popen(argv, cwd=cj.folder, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        writing()
        result = cj("deliver", "dev", "hosting", code=5)
        assert re.search(
            r"\S+ on \S+ has been delivering to hosting/dev since \d{4}-\d\d-\d\d \d\d:\d\d:\d\d UTC", result.err
        )
        second = subprocess.Popen(
            [*argv, "--wait", "30"], cwd=cj.folder, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        time.sleep(1.5)
        assert second.poll() is None  # it waits
    assert (first.wait(), second.wait()) == (0, 0)
    cj("put", f"LEVEL={level}-3", "--stage", "dev")
    with held_up(salt) as writing:
        first = subprocess.Popen(argv, cwd=cj.folder, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        writing()
        first.send_signal(signal.SIGKILL)
        first.wait()
    done = cj("deliver", "dev", "hosting")
    assert re.search("took over the lock of|was interrupted, but is complete", done.err)
    assert salt.standin.state["apps"]["line-web-dev"]["settings"]["LEVEL"] == f"{level}-3"
    assert "interrupted" in {item["state"] for item in json.loads(cj("deliveries", "--json").out)[:2]}
