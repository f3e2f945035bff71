"""Records that grow old and many: their versions, their indexes, what is forgotten, and ten deliverers at once."""

from __future__ import annotations

import json
import sqlite3
import subprocess
from collections.abc import Callable
from contextlib import closing
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from coinjar.core.delivery import DeliveryChange, LastApplied
from coinjar.core.errors import ExternalError
from coinjar.core.recorded_names import RecordedNames
from coinjar.records import database
from coinjar.records.migrations import VERSION
from coinjar.records.store import DONE, RecordStore
from coinjar.records.tables import FIRST_INDEXES, FIRST_TABLES, TYPES
from tests.conftest import PROGRAM, Coinjar
from tests.consenting import consent_to_all
from tests.systems import postgresql, standin

NAMES = RecordedNames("trial", {}, {})
LONG_AGO = datetime(2024, 1, 1)


@pytest.fixture
def first_version(tmp_path: Path) -> Path:
    """A file as the first version made it, with a delivery."""
    path = tmp_path / "records.sqlite"
    connection = sqlite3.connect(path)
    for name, columns in FIRST_TABLES.items():
        connection.execute(f"CREATE TABLE {name} ({columns.format(**TYPES['sqlite'])})")
    for name, where in FIRST_INDEXES.items():
        connection.execute(f"CREATE INDEX {name} ON {where}")
    connection.execute(
        "INSERT INTO coinjar_deliveries VALUES (7, 'trial', 'dev', 'salt', 'anna', '2024-01-01 10:00:00', "
        "'2024-01-01 10:00:01', 'done', NULL)"
    )
    connection.execute("INSERT INTO coinjar_changes VALUES (1, 7, 'web', 'HOST', 'new', 0)")
    connection.commit()
    connection.close()
    return path


def version_of(path: Path) -> list[Any]:
    with closing(sqlite3.connect(path)) as connection:
        return connection.execute("SELECT version FROM coinjar_schema").fetchall()


def test_records_of_an_earlier_version_are_raised_once(first_version: Path) -> None:
    for _ in range(2):
        store = RecordStore(NAMES, first_version)
        assert [(row.number, row.destination) for row in store.listed()] == [(7, "salt")]
        assert store.counts(store.listed()) == {7: {"new": 1}}
        store.close()
        assert version_of(first_version) == [(VERSION,)]


def test_records_of_a_later_version_are_refused(first_version: Path) -> None:
    RecordStore(NAMES, first_version).close()
    with closing(sqlite3.connect(first_version)) as connection, connection:
        connection.execute("UPDATE coinjar_schema SET version = ?", (VERSION + 1,))
    with pytest.raises(ExternalError, match="a newer Coin Jar made it"):
        RecordStore(NAMES, first_version)


def test_old_records_that_may_only_be_read_are_read(first_version: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    before = first_version.read_bytes()
    readonly = database.SqliteDatabase(str(first_version), readonly=True)
    monkeypatch.setattr("coinjar.records.store._sqlite", lambda _path: readonly)
    with closing(RecordStore(NAMES, first_version)) as store:
        assert [row.number for row in store.listed()] == [7]
    assert first_version.read_bytes() == before


def ask_everything(store: RecordStore) -> None:
    """Each question and each change, once."""
    number = store.begin("dev", "salt")
    store.begin_part(number, "web", "salt (web)", b"", [DeliveryChange("HOST", "new", None, "x", secret=False)])
    store.set_part(number, "web", state=DONE, restart="asked")
    store.remember(number, "dev", "salt", "web", {"HOST": LastApplied("f", "", in_effect=False)}, ["OLD"])
    store.took_effect("dev", "salt", "web")
    store.end(number, DONE)
    store.mark_interrupted("dev", "salt")
    assert store.last("dev", "salt", "web")
    assert store.every_last()
    assert store.counts(store.listed(20))
    assert store.newest(["dev", "prod"])
    assert store.delivery(number)
    assert store.of_variable(["HOST", "OLD"])
    assert store.unanswered("dev", "salt", "web")


def asked_of(store: RecordStore, monkeypatch: pytest.MonkeyPatch) -> list[tuple[str, dict[str, Any]]]:
    """Each statement that the questions and changes run, with its values."""
    asked: list[tuple[str, dict[str, Any]]] = []
    real = database.Transaction._run

    def told(transaction: database.Transaction, statement: str, values: database.Values) -> object:
        asked.append((statement, dict(values)))
        return real(transaction, statement, values)

    with monkeypatch.context() as patched:
        patched.setattr(database.Transaction, "_run", told)
        ask_everything(store)
    assert len(asked) > 10
    return asked


def test_no_question_reads_a_whole_table(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """By the databases' own plans of each statement; forgetting may read all."""
    store = RecordStore(NAMES, tmp_path / "records.sqlite")
    for statement, values in asked_of(store, monkeypatch):
        with store.connected() as transaction:
            plan = [row[3] for row in transaction.rows(f"EXPLAIN QUERY PLAN {statement}", values)]
        assert not [line for line in plan if line.startswith("SCAN coinjar") and "USING" not in line], statement
    store.close()
    with postgresql(tmp_path / "postgresql") as address:
        store = RecordStore(NAMES, address, password="made-up")
        for statement, values in asked_of(store, monkeypatch):
            with store.connected() as transaction:
                transaction.execute("SET LOCAL enable_seqscan = off")  # these tables are small
                plan = [row[0] for row in transaction.rows(f"EXPLAIN {statement}", values)]
            assert not [line for line in plan if "Seq Scan on coinjar" in line], statement
        assert store.forget(datetime(2100, 1, 1)) == 0
        store.close()


PLACES = st.tuples(st.sampled_from(["dev", "prod"]), st.sampled_from(["salt", "fish"]))


@given(st.lists(st.tuples(PLACES, st.integers(0, 1000)), max_size=12), st.integers(0, 1000))
def test_what_is_forgotten(made: list[tuple[tuple[str, str], int]], day: int) -> None:
    """All that ended before, but for the newest of each place; and nothing of another application."""
    store = RecordStore(NAMES, None)
    other = RecordStore(RecordedNames("other", {}, {}), None)
    other.close()
    other.database = store.database
    newest: dict[tuple[str, str], int] = {}
    ended: dict[int, datetime] = {}
    for place, at in made:
        number = store.begin(*place)
        store.begin_part(number, "web", "web", b"s", [DeliveryChange("HOST", "new", None, "x", secret=False)])
        store.end(number, DONE)
        ended[number] = LONG_AGO + timedelta(days=at)
        with store.connected() as transaction:
            transaction.execute(
                "UPDATE coinjar_deliveries SET ended = :ended WHERE number = :number",
                {"ended": ended[number], "number": number},
            )
        newest[place] = number
    for at, place in enumerate(newest):  # one that was killed, and one that is running: their ends are not known
        killed = store.begin(*place)
        ended[killed] = LONG_AGO + timedelta(days=at)
        newest[place] = store.begin(*place)
        ended[newest[place]] = LONG_AGO
        with store.connected() as transaction:
            transaction.execute(
                "UPDATE coinjar_deliveries SET started = :started WHERE number IN (:number, :other)",
                {"started": ended[killed], "number": killed, "other": newest[place]},
            )
    strange = other.begin("dev", "salt")
    other.end(strange, DONE)
    before = LONG_AGO + timedelta(days=day)
    kept = {number for number, when in ended.items() if when >= before or number in newest.values()}
    assert store.forget(before, only_count=True) == len(ended) - len(kept)
    assert {row.number for row in store.listed()} == {*ended}
    assert store.forget(before) == len(ended) - len(kept)
    assert {row.number for row in store.listed()} == kept
    assert {row.number for row in other.listed()} == {strange}
    assert store.forget(before) == 0
    for number in kept:
        _, parts, changes = store.delivery(number)
        assert len(parts) == len(changes)
    with store.connected() as transaction:
        left = {row[0] for row in transaction.rows("SELECT delivery FROM coinjar_changes")}
        assert left <= kept
    store.close()


JAR = """\
services: {{web: {{}}}}
stages: {{{stages}}}
variables: {{HOST: {{}}, TOKEN: {{secret: true}}}}
destinations:
  salt: {{type: platform, platform: saltmarsh, address: '{address}', app: 'web-{{stage}}', token: {{from_env: SALT}}}}
"""


def test_old_deliveries_are_forgotten_by_a_command(jar: Callable[..., Coinjar], tmp_path: Path) -> None:
    with standin("saltmarsh", tmp_path / "s", "web-dev") as salt:
        cj = jar(JAR.format(stages="dev: {}", address=salt.standin.address))
        cj.env |= {"SALT": salt.token}
        for number in range(3):
            cj("put", f"HOST=h{number}", "--stage", "dev")
            cj("deliver", "dev", "--restart")
        with closing(sqlite3.connect(cj.folder / "jar/.local/deliveries.sqlite")) as connection, connection:
            connection.execute("UPDATE coinjar_deliveries SET ended = '2024-01-01 00:00:00'")
        forget = ("deliveries", "forget", "--older", "180d")
        assert json.loads(cj(*forget, "--dry-run", "--json", code=1).out)["deliveries"] == 2
        assert "Forgot 2 deliveries." in cj(*forget, "--yes").err
        assert "0 deliveries ended before" in cj(*forget, "--yes").err
        assert [row["number"] for row in json.loads(cj("deliveries", "--json").out)] == [3]
        cj("drift", "dev")  # what is there is still known
        cj("deliveries", "undo", "3")
        assert salt.standin.state["apps"]["web-dev"]["settings"]["HOST"] == "h1"
        for words, fault in (
            (("deliveries", "forget"), "forget what?"),
            (("deliveries", "forget", "--older", "soon"), "'soon' is no span of time"),
            (("deliveries", "--older", "1y"), "--older and --yes require forget"),
            (("deliveries", "forget", "--older", "1y", "--restart"), "forget contacts nothing"),
            (("deliveries", "forget", "3", "--older", "1y"), "--older and --yes require forget"),
        ):
            assert fault in cj(*words, code=2).err


def test_ten_deliverers_at_once(jar: Callable[..., Coinjar], tmp_path: Path) -> None:
    """Ten people deliver ten stages at the same time with shared records: each has one, and what it changed."""
    stages = [f"team-{number}" for number in range(10)]
    with (
        standin("saltmarsh", tmp_path / "s", *(f"web-{stage}" for stage in stages)) as salt,
        postgresql(tmp_path / "postgresql") as address,
    ):
        records = f"records: {{address: '{address}', password: {{from_env: RECORDS}}}}\n"
        declared = ", ".join(f"{stage}: {{}}" for stage in stages)
        cj = jar(records + JAR.format(stages=declared, address=salt.standin.address))
        cj.env |= {"SALT": salt.token, "RECORDS": "made-up"}
        for stage in stages:
            cj("put", f"HOST={stage}.example", "--stage", stage)
        consent_to_all(cj.folder, (), cj.env)
        running = [
            subprocess.Popen(
                [PROGRAM, "deliver", stage, "--restart", "--wait", "300"],
                cwd=cj.folder,
                env=cj.env,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                text=True,
            )
            for stage in stages
            for _ in range(2)
        ]
        for process in running:
            out, _ = process.communicate()
            assert process.returncode == 0, out
        for stage in stages:
            assert salt.standin.state["apps"][f"web-{stage}"]["settings"]["HOST"] == f"{stage}.example"
            cj("drift", stage)  # by one naming key, which the first of them made for all
        rows = json.loads(cj("deliveries", "--most", "100", "--json").out)
        assert {row["state"] for row in rows} == {"done"}
        changed = [row["stage"] for row in rows if row["changes"].get("new")]
        assert sorted(changed) == sorted(stages)
