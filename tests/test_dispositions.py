"""What a migration proposes for each variable: its disposition, names and orders."""

from __future__ import annotations

import re
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from coinjar.core import dispositions
from coinjar.core.dispositions import (
    EMPTY,
    GIVES,
    KEPT,
    NAME,
    VALUE,
    MigrationContext,
    RejectedValue,
    SourceValue,
    entries,
    in_order,
    proposed_name,
)

pytestmark = pytest.mark.unit

REFUSED = {"GIVEN_THERE": GIVES, "SALT_X": KEPT, "lower": NAME, "HUGE": VALUE, "BLANK": EMPTY}


def context(**more: Any) -> MigrationContext:
    def rejection(name: str, _: str) -> RejectedValue | None:
        return RejectedValue(REFUSED[name], f"no: {REFUSED[name]}") if name in REFUSED else None

    base = MigrationContext(
        "old", "new", rejection, lambda _: None, lambda _: (False, None), lambda _value, _name: None
    )
    return base._replace(**more)


DISPOSITIONS: list[tuple[SourceValue, dict[str, Any], str, str]] = [
    (SourceValue("A", "prod", "web", "x"), {}, "carried", "not in the jar: it will be declared"),
    (SourceValue("A", "prod", "web", "x"), {"jar": lambda _: (True, "x")}, "carried", "as in the jar"),
    (SourceValue("A", "prod", "web", "x"), {"jar": lambda _: (True, None)}, "carried", "the jar takes the value over"),
    (SourceValue("A", "prod", "web", "x"), {"jar": lambda _: (True, "y")}, "replaced",
        "the jar's value differs from that of old: the jar's is used"),
    (SourceValue("A", "prod", "web", "x"), {"existing": lambda _value, _name: "z"}, "carried",
        "not in the jar: it will be declared; new has a different value, which is overwritten"),
    (SourceValue("A", "prod", "web", None), {}, "to_be_given",
        "old does not return its value, and the jar does not have it"),
    (SourceValue("A", "prod", "web", None), {"jar": lambda _: (True, "x")}, "replaced",
        "old does not return its value: the jar's is used"),
    (SourceValue("A", "prod", "web", "x"), {"mentioned": {}}, "left_behind",
        "no code uses it; to keep it, move this line to carried"),
    (SourceValue("A", "prod", "web", "x"), {"mentioned": {}, "jar": lambda _: (True, "x")}, "carried", "as in the jar"),
    (SourceValue("A", "prod", "web", "x"), {"takes": lambda _: "new is not for web"}, "left_behind",
        "new is not for web"),
    (SourceValue("A", "prod", "web", "x", supplied=True), {}, "left_behind",
        "old set it itself, and nothing else uses it"),
    (SourceValue("A", "prod", "web", "x", supplied=True), {"mentioned": {"A": ["a.py:1:1"]}}, "to_be_given",
        "old set it itself, but new does not"),
    (SourceValue("GIVEN_THERE", "prod", "web", "x", supplied=True), {}, "supplied", "new sets it itself, as old did"),
    (SourceValue("GIVEN_THERE", "prod", "web", "x"), {}, "supplied", "new sets it itself"),
    (SourceValue("SALT_X", "prod", "web", "x"), {}, "left_behind", "no: reserved"),
    (SourceValue("lower", "prod", "web", "x"), {"mentioned": {"lower": ["a.py:1:1"]}}, "renamed",
        "no: name; used in a.py:1:1"),
    (SourceValue("HUGE", "prod", "web", "x"), {}, "to_be_given", "no: value"),
    (SourceValue("BLANK", "prod", "web", ""), {}, "to_be_given", "no: empty"),
]  # fmt: skip


@pytest.mark.parametrize(("source_value", "more", "group", "why"), DISPOSITIONS)
def test_dispositions(source_value: SourceValue, more: dict[str, Any], group: str, why: str) -> None:
    (line,) = entries([source_value, source_value._replace(stage="dev")], context(**more))
    assert (line.group, line.why, line.where) == (group, why, ("prod/web", "dev/web"))


def test_a_name_and_a_value_may_both_be_refused_or_replaced() -> None:
    """One line renames and replaces, or renames and asks for a value."""

    def rejection(name: str, value: str) -> RejectedValue | None:
        if not name.isupper():
            return RejectedValue(NAME, "no: name")
        return RejectedValue(VALUE, "no: value") if len(value) > 9 else None

    in_jar = context(rejection=rejection, jar=lambda _: (True, "other"))
    for value, facts, expected in (
        ("x", context(rejection=rejection), ("renamed", "LOWER", "no: name")),
        ("x" * 10, context(rejection=rejection), ("to_be_given", "LOWER", "no: name; no: value")),
        ("x", in_jar, ("replaced", "LOWER", "no: name; the jar's value differs from that of old, and is used")),
    ):
        (line,) = entries([SourceValue("lower", "prod", "web", value)], facts)
        assert (line.group, line.new_name, line.why) == expected
    (line,) = entries(
        [SourceValue("lower", "prod", "web", "x")], context(rejection=lambda *_: RejectedValue(NAME, "no"))
    )
    assert (line.group, line.new_name) == ("left_behind", "lower")


@given(
    st.lists(st.text("aB1_-. é", min_size=1, max_size=12), unique=True, max_size=12),
    st.sampled_from(["[A-Z][A-Z0-9_]*", "[a-z][a-z0-9-]{0,9}", "[a-z.0-9]{1,20}"]),
    st.booleans(),
)
def test_every_proposed_name_is_accepted_and_differs_from_all_others(
    names: list[str], pattern: str, folds: bool
) -> None:
    facts = context(
        rejection=lambda name, _: None if re.fullmatch(pattern, name) else RejectedValue(NAME, "no"), folds_case=folds
    )
    lines = entries([SourceValue(name, "dev", "web", "x") for name in names], facts)
    kept = [line.new_name for line in lines if line.group in dispositions.MOVED]
    assert all(re.fullmatch(pattern, name) for name in kept)
    assert len({name.casefold() if folds else name for name in kept}) == len(kept) == len(names)


def test_proposed_names_and_orders() -> None:
    both = [SourceValue(name, "prod", "web", "x") for name in ("PIER", "pier", "BOAT")]
    result = {entry.variable: (entry.group, entry.new_name) for entry in entries(both, context(folds_case=True))}
    assert result == {"PIER": ("carried", "PIER"), "BOAT": ("carried", "BOAT"), "pier": ("renamed", "PIER_2")}
    assert {entry.group for entry in entries(both, context())} == {"carried"}
    capitals = context(
        rejection=lambda name, _: (
            None if name.isupper() and name[0].isalpha() and len(name) <= 32 else RejectedValue(NAME, "")
        ),
        known_names=["LOG_LEVEL"],
    )
    for old, new in (
        ("fareTable", "FARE_TABLE"),
        ("fare-table.v2", "FARE_TABLE_V2"),
        ("2nd", "V_2ND"),
        ("loglevel", "LOG_LEVEL"),
        ("a" * 99, "A" * 32),
    ):
        assert proposed_name(old, capitals) == new
    assert in_order(["a", "b", "c"], {"a": {"b"}, "b": {"c", "x"}, "c": {"a"}}) == ["c", "b", "a"]
    assert set(dispositions.DISPOSITIONS) == {
        "carried",
        "renamed",
        "replaced",
        "left_behind",
        "supplied",
        "to_be_given",
    }
