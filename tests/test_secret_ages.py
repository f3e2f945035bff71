"""The dates of secrets: when a value was set, how long it is good, what is overdue."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

import pytest

from tests.conftest import Coinjar
from tests.jars import somebody

JAR = """\
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {}, prod-isles: {follows: prod}}
variables:
  DB_PASSWORD: {secret: true, services: [web], valid: 90d}
  DB_USER: {services: [web]}
  SESSION_KEY: {secret: true}
  OTHER: {secret: true}
"""
OLD = "made-up-old"


@pytest.fixture
def dated(jar: Callable[..., Coinjar]) -> Coinjar:
    cj = jar(JAR)
    cj("put", "DB_PASSWORD", "--stage", "prod", "--set-on", "2026-01-31", stdin=OLD)
    cj("put", "SESSION_KEY", "--stage", "prod", stdin="made-up-session")
    return cj


def test_overdue(dated: Coinjar) -> None:
    today = datetime.now(UTC).date()

    def state(days: int) -> tuple[int, str]:
        dated("put", "DB_PASSWORD", "--stage", "prod", "--set-on", str(today - timedelta(days=days)), stdin=OLD)
        done = dated("overdue", "--all", "--json", code=None)
        rows = json.loads(done.out)["secrets"]
        assert [row["days"] for row in rows if row["name"] == "DB_PASSWORD"] == [days]
        return done.code, next(row["state"] for row in rows if row["name"] == "DB_PASSWORD")

    assert state(0) == (0, "good")
    assert state(76) == (0, "good")
    assert state(77) == (1, "soon")
    assert "CJ049" in dated("check", "--rule", "CJ049").out
    assert state(90) == (1, "soon")
    assert state(91) == (1, "overdue")
    assert "CJ048" in dated("check", "--rule", "CJ048").out
    assert "91 d" in dated("grid", "prod", "--ages").out
    assert "91 d" in dated("grid", "prod", "--ages", "--by-service").out
    assert dated("overdue", "dev").out.startswith("nothing overdue")
    assert "no match" in dated("overdue", "--name", "NOPE", code=None).err.replace("no name matches", "no match")
    dated("overdue", "nowhere", code=2)
    dated("overdue", "--soon", "soon", code=2)
    dated("put", "DB_PASSWORD", "--stage", "prod", "--set-on", str(today), stdin=OLD)
    dated("overdue", "--soon", "90d")
    dated("overdue", "--soon", "91d", code=1)
    nobody, _ = somebody(dated, "nobody")
    assert "not looked at: 1 value" in dated("overdue", env=nobody, code=1).err
    dated.write({"jar/plain/dev.yaml": "web: {DB_PASSWORD: made-up-in-plain}\n"})
    dated("put", "DB_PASSWORD", "--stage", "prod", "--set-on", str(today), stdin=OLD)
    assert "1 value in plain text" in dated("overdue", code=1).err
    dated("overdue", "prod")
    dated("overdue", "--name", "SESSION_*")


def test_the_date_is_when_a_value_was_set(dated: Coinjar) -> None:
    def since(stage: str = "prod") -> str:
        rows = json.loads(dated("overdue", "--all", "--json", code=None).out)["secrets"]
        return next(str(row["set_on"]) for row in rows if (row["name"], row["layer"]) == ("DB_PASSWORD", stage))

    assert since() == "2026-01-31"
    dated("put", "DB_PASSWORD", "--stage", "prod", stdin=OLD)
    assert since() == "2026-01-31", "the same value is as old as it was"
    dated("readers", "rekey", "--stage", "prod")
    dated("rename", "DB_PASSWORD", "DB_PASS", "--yes")
    dated("rename", "DB_PASS", "DB_PASSWORD", "--yes")
    dated("app", "rename", "trial", "ferry", "--yes")
    assert since() == "2026-01-31"
    dated("promote", "prod", "dev", "DB_PASSWORD", "--yes")
    dated("stages", "copy", "prod", "twin", "--yes")
    assert since("dev") == since("twin") == "2026-01-31"
    dated("put", "DB_PASSWORD", "--stage", "prod", stdin="made-up-new")
    assert since() == datetime.now(UTC).date().isoformat()
    dated("put", "DB_PASSWORD", "--stage", "prod", "--set-on", "2999-01-01", stdin=OLD, code=2)
    dated("put", "DB_USER=app_a", "--stage", "prod", "--set-on", "2026-01-31", code=2)
    dated.write({"jar/plain/test.yaml": "", "jar/plain/dev.yaml": "web: {OTHER: made-up-plain-text}\n"})
    (dated.folder / "jar/plain/test.yaml").unlink()
    dated("readers", "seal")
    assert "set on" not in dated("why", "dev", "OTHER", "--service", "web").out, "the date is not recorded"
