"""The guide's example on a real PostgreSQL: with two roles a service can log in at every moment; with one it cannot."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from urllib.parse import urlsplit

import psycopg
import pytest

from tests.conftest import Coinjar
from tests.consumers import need
from tests.systems import postgresql

GUIDE = (Path(__file__).parent.parent / "docs/guide/rotate.md").read_text()
ADMINISTRATOR = "made-up"
ROTATE = ("rotate", "TICKET_DB_PASSWORD", "--stage", "prod", "--yes")


def script(name: str) -> str:
    """A script that the guide shows, by its name in the line above it."""
    found = re.search(rf"`{name}`:\n\n```sh\n(.*?)```", GUIDE, re.DOTALL)
    assert found, name
    return found[1]


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    need("psql")
    with postgresql(tmp_path_factory.mktemp("pg")) as address:
        yield address


@pytest.fixture
def tickets(jar: Callable[..., Coinjar], server: str) -> Coinjar:
    parts = urlsplit(server)
    with administrator(server) as connection:
        for role in ("tickets_a", "tickets_b"):
            connection.execute(f"drop role if exists {role}")
            connection.execute(f"create role {role} login")
        connection.execute("alter role tickets_a password 'made-up-first'")
    shown = re.search(r"```yaml\n(services: \{ticketing.*?)```", GUIDE, re.DOTALL)
    assert shown
    cj = jar(
        f"stages: {{prod: {{}}}}\n{shown[1]}destinations:\n"
        "  env: {type: file, as: dotenv, path: 'build/{stage}/{service}.env'}\n",
        prod=f"all:\n  TICKET_DB_HOST: {parts.hostname}\n  TICKET_DB_PORT: {parts.port}\n  TICKET_DB_NAME: kit\n"
        "  TICKET_DB_USER: tickets_a\n  TICKET_DB_ADMIN: kit\n",
    )
    for name in ("scripts/change-role", "scripts/can-log-in", "scripts/change-own-password"):
        cj.write({name: script(name)})
        (cj.folder / name).chmod(0o755)
    cj("put", "TICKET_DB_PASSWORD", "--stage", "prod", stdin="made-up-first")
    cj("put", "TICKET_DB_ADMIN_PASSWORD", "--stage", "prod", stdin=ADMINISTRATOR)
    cj("render", "prod")
    cj.env["PATH"] = "/usr/bin:/bin:" + cj.env["PATH"]
    return cj


def administrator(server: str) -> psycopg.Connection[tuple[object, ...]]:
    parts = urlsplit(server)
    return psycopg.connect(
        host=parts.hostname, port=parts.port, user="kit", password=ADMINISTRATOR, dbname="kit", autocommit=True
    )


def environment(cj: Coinjar) -> dict[str, str]:
    """What a service that starts now gets."""
    return dict(line.split("=", 1) for line in cj.read("build/prod/ticketing.env").splitlines() if "=" in line)


def can_log_in(own: dict[str, str]) -> bool:
    try:
        with psycopg.connect(
            host=own["TICKET_DB_HOST"],
            port=own["TICKET_DB_PORT"],
            user=own["TICKET_DB_USER"],
            password=own["TICKET_DB_PASSWORD"],
            dbname="kit",
        ):
            return True
    except psycopg.OperationalError:
        return False


class Service:
    """A service that starts again and again, and one that started before: each logs in all the time."""

    def __init__(self, cj: Coinjar) -> None:
        self.cj = cj
        self.started = environment(cj)
        self.attempts = 0
        self.failures: list[str] = []
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run)

    def __enter__(self) -> Service:
        self._thread.start()
        return self

    def __exit__(self, *_raised: object) -> None:
        self._stop.set()
        self._thread.join()

    def _run(self) -> None:
        while not self._stop.is_set():
            for which, own in (("started now", environment(self.cj)), ("started before", self.started)):
                self.attempts += 1
                if not can_log_in(own):
                    self.failures.append(f"{which}: {own['TICKET_DB_USER']}")
            time.sleep(0.01)

    def wait(self) -> None:
        """Wait until it has tried some more."""
        enough = self.attempts + 6
        while self.attempts < enough:
            time.sleep(0.01)


def test_with_two_roles_there_is_no_moment_without_a_login(tickets: Coinjar) -> None:
    with Service(tickets) as service:
        tickets(*ROTATE, code=1, process=True)
        service.wait()
        after = environment(tickets)
        assert after["TICKET_DB_USER"] == "tickets_b"
        tickets(*ROTATE, "--back", "--finish", process=True)
        service.wait()
        assert environment(tickets) == service.started
        tickets(*ROTATE, "--until", "changed", process=True)
        tickets(*ROTATE, "--finish", process=True)
        service.wait()
        assert environment(tickets)["TICKET_DB_PASSWORD"] not in (
            service.started["TICKET_DB_PASSWORD"],
            after["TICKET_DB_PASSWORD"],
        )
    assert service.failures == []
    assert service.attempts > 10
    assert "TICKET_DB_ADMIN" not in environment(tickets), "no running service gets the administrator's"


def test_with_one_role_there_is_such_a_moment(tickets: Coinjar) -> None:
    declared = tickets.read("jar/jar.yaml")
    own = "change: [scripts/change-own-password]\n      service: ticketing\n"
    one = re.sub(r"change: \[[^\]]*\]\n *turns: .*\n *service: .*\n", own, declared)
    assert one != declared
    tickets.write({"jar/jar.yaml": one})
    tickets("render", "prod")
    before = environment(tickets)
    assert can_log_in(before)
    tickets(*ROTATE, "--until", "changed", process=True)
    assert not can_log_in(before), "from the change until the delivery"
    tickets(*ROTATE, "--until", "changed", process=True)  # the program may run twice
    tickets(*ROTATE, "--back", process=True)
    assert can_log_in(before)
    tickets(*ROTATE, "--finish", process=True)
    assert can_log_in(environment(tickets))
    assert not can_log_in(before)
