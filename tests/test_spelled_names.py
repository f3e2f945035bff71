"""Files whose consumers write names in another way: dots, lower case, a prefix, single names by a table."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from coinjar.core.name_spelling import NameSpelling
from coinjar.dialects import get
from coinjar.dialects.base import Entry, FileHeader
from coinjar.dialects.spelled import SpelledDialect
from tests.conftest import Coinjar

JAR = """
services: {web: {}}
stages: {dev: {}, prod: {}}
variables:
  TICKET_DB_HOST: {default: db.example}
  JDBC_URL: {default: made-up}
destinations:
  props: {type: file, as: properties, path: "out/{stage}.properties", NAMES}
"""
SPELLED = 'names: {case: lower, separator: ".", prefix: pier., exact: {JDBC_URL: spring.jdbcUrl}}'


@pytest.mark.unit
@given(
    st.dictionaries(st.from_regex(r"[A-Z][A-Z0-9_]{0,12}", fullmatch=True), st.text("ab .#@:%$'", max_size=6)),
    st.sampled_from(["-", ".", "_"]),
    st.sampled_from(["", "app.", "pier_"]),
    st.booleans(),
    st.sampled_from(["properties", "json", "yaml"]),
)
def test_what_is_written_under_other_names_is_read_as_the_jars(
    values: dict[str, str], separator: str, prefix: str, lower: bool, dialect: str
) -> None:
    """Whatever the spelling, a file leads back to the variables that it was written from."""
    spelled = SpelledDialect(get(dialect), NameSpelling(lower, separator, prefix, {"TICKET": "x.Y"}))
    entries = [Entry(name, value) for name, value in values.items() if spelled.unsupported_reason(name, value) is None]
    data = spelled.write(entries, FileHeader("pier", "dev", "web"))
    read = {item.name: item.text for item in spelled.read(data, "x").items}
    assert read == {entry.name: entry.text for entry in entries}


def test_a_file_with_dotted_names(jar: Callable[..., Coinjar]) -> None:
    """Written, compared, moved, renamed and dropped under the jar's names; a foreign name is never taken for one."""
    cj = jar(JAR.replace("NAMES", SPELLED))
    cj("render", "dev")
    file = cj.folder / "out/dev.properties"
    assert file.read_text().splitlines()[1:] == ["pier.ticket.db.host=db.example", "spring.jdbcUrl=made-up"]
    assert cj("render", "dev").out.startswith("0 files written")
    cj("compare", "dev", "dest:props@dev", code=0)
    with file.open("a") as more:
        more.write("TICKET_DB_HOST=other\npier.fare.limit=3\n")
    compared = cj("compare", "dev", "dest:props@dev", code=1)
    assert "TICKET_DB_HOST (not a name of the jar)" in compared.out
    assert "FARE_LIMIT" in compared.out
    assert "not written like a name of the jar: TICKET_DB_HOST" in compared.err
    refused = cj("drop", "JDBC_URL", "--everywhere", "--yes", code=3)
    assert "'names' of props still refers to JDBC_URL" in refused.err
    cj("rename", "JDBC_URL", "DATABASE_URL", "--yes")
    cj("render", "dev")
    assert file.read_text().splitlines()[1:] == ["pier.ticket.db.host=db.example", "spring.jdbcUrl=made-up"]
    cj("check", code=0)


@pytest.mark.parametrize(
    ("names", "words"),
    [
        ("as: settings, names: {case: lower}", "'names' cannot be combined with as: settings"),
        ("names: {case: upper}", "'case' is not valid as 'upper'"),
        ("names: {separator: '+'}", "'+' cannot separate words"),
        ("names: {exact: {JDBC_ULR: x}}", "did you mean 'JDBC_URL'?"),
        ("names: {exact: {JDBC_URL: x, TICKET_DB_HOST: x}}", "two variables are written as x"),
        ("names: {case: lower, exact: {JDBC_URL: ticket_db_host}}", "TICKET_DB_HOST would be written as"),
        ("names: {dots: true}", "unknown key 'dots'"),
    ],
)
def test_names_that_do_not_lead_back_are_faults(jar: Callable[..., Coinjar], names: str, words: str) -> None:
    """Found by `check`, with their place, before a file is written."""
    text = JAR.replace("NAMES", names)
    cj = jar(text.replace("as: properties, ", "") if "as: settings" in names else text)
    assert words in (found := cj("check", code=1)).out
    assert "jar/jar.yaml:1" in found.out
    assert words in cj("render", "dev", code=3).err
