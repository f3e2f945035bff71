"""What a delivery is made of, by itself: plans, how variables stand, limits, requests filled in, verdicts of proofs."""

from __future__ import annotations

import hashlib
import hmac
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

import pytest
from hypothesis import given
from hypothesis import strategies as st

from coinjar.core import delivery as d
from coinjar.core.delivery import DesiredValue, LastApplied, LiveValue, PlanContext, plan, variable_states
from coinjar.core.errors import Location
from coinjar.core.proofs import judge
from coinjar.core.secret import Secret
from coinjar.documents.json_data import MISSING, resolve_pointer
from coinjar.platforms.description import PlatformDescription
from coinjar.platforms.limits import unsupported_variables
from coinjar.platforms.templating import MissingValue, fill_body, fill_path, request_placeholders

NAMES = st.sampled_from("ABCDEFGH")
TEXTS = st.text(max_size=5)


def fingerprint(name: str, text: str) -> str:
    return f"{name}={text}"


@st.composite
def worlds(draw: Any) -> tuple[dict[str, DesiredValue], dict[str, LiveValue], PlanContext]:
    """What is wanted, what is there (some of it unreadable, supplied, or from the level around), and what was delivered
    last.
    """
    wanted = {name: DesiredValue(name, text) for name, text in draw(st.dictionaries(NAMES, TEXTS)).items()}
    held = {}
    for name, text in draw(st.dictionaries(NAMES, st.one_of(TEXTS, st.none()))).items():
        kind = draw(st.sampled_from(["own", "own", "own", "supplied", "wide"]))
        if kind == "supplied" and name in wanted:
            kind = "own"  # what is supplied is never wanted
        held[name] = LiveValue(
            name,
            text,
            supplied=kind == "supplied",
            inherited=kind == "wide",
            version=draw(st.sampled_from(["", "1", "2"])),
        )
    last = {
        name: LastApplied(fingerprint(name, text), draw(st.sampled_from(["", "1", "2"])))
        for name, text in draw(st.dictionaries(NAMES, TEXTS)).items()
    }
    ours = draw(st.sets(NAMES))
    return wanted, held, PlanContext(lambda name: name in ours or name in last, last, fingerprint, draw(st.booleans()))


def carried_out(live: dict[str, LiveValue], changes: list[d.DeliveryChange]) -> dict[str, LiveValue]:
    """What is there after the changes, on a platform that does what it is told."""
    after = dict(live)
    for change in changes:
        if change.action == d.GONE:
            del after[change.name]
        else:
            old = live.get(change.name)
            unreadable = old is not None and old.text is None and not old.inherited
            after[change.name] = LiveValue(change.name, None if unreadable else change.new, version="new")
    return after


@given(worlds())
def test_a_plan_brings_what_is_there_in_step_and_touches_nothing_else(
    world: tuple[dict[str, DesiredValue], dict[str, LiveValue], PlanContext],
) -> None:
    desired_values, live, plan_context = world
    planned = plan(desired_values, live, plan_context)
    after = carried_out(live, planned.changes)
    for name, desired in desired_values.items():
        assert after[name].text in (desired.text, None)
    for name, live_value in live.items():
        if name not in desired_values and (
            live_value.supplied or live_value.inherited or not (plan_context.owns_all or plan_context.is_ours(name))
        ):
            assert after[name] is live_value
    # once more there is nothing to do, if the records say what was delivered
    remembered = plan_context._replace(
        last_applied={
            name: LastApplied(fingerprint(name, desired.text), after[name].version)
            for name, desired in desired_values.items()
        }
    )
    again = plan(desired_values, after, remembered)
    assert again.changes == []
    assert {*again.same, *again.trusted} == set(desired_values)
    assert all(
        state.is_settled
        for state in variable_states(desired_values, after, remembered, ())
        if state.name in desired_values
    )
    assert len({change.name for change in planned.changes}) == len(planned.changes)


@given(worlds())
def test_drift_finds_all_that_a_delivery_would_change(
    world: tuple[dict[str, DesiredValue], dict[str, LiveValue], PlanContext],
) -> None:
    desired_values, live, plan_context = world
    changed = {change.name for change in plan(desired_values, live, plan_context).changes}
    restless = {state.name for state in variable_states(desired_values, live, plan_context, ()) if not state.is_settled}
    assert changed <= restless


HERE, BLIND = LiveValue("A", "is"), LiveValue("A", None, version="3")


@pytest.mark.parametrize(
    ("wanted", "live_value", "last", "pending", "state", "is_settled"),
    [
        ("is", HERE, None, False, d.UP_TO_DATE, True),
        ("is", HERE, LastApplied("A=is"), True, d.PENDING_RESTART, False),
        ("new", HERE, LastApplied("A=is"), False, d.NOT_DELIVERED, False),
        ("new", HERE, LastApplied("A=old"), False, d.CHANGED_THERE, False),
        ("new", HERE, None, False, d.CHANGED_THERE, False),
        ("new", None, None, False, d.NOT_DELIVERED, False),
        ("new", None, LastApplied("A=new"), False, d.MISSING, False),
        ("is", BLIND, LastApplied("A=is", "3"), False, d.NOT_READABLE, True),
        ("is", BLIND, LastApplied("A=is", "3"), True, d.PENDING_RESTART, False),
        ("is", BLIND, LastApplied("A=is", "2"), False, d.CHANGED_THERE, False),
        ("new", BLIND, LastApplied("A=is", "3"), False, d.NOT_DELIVERED, False),
        ("is", BLIND, None, False, d.NOT_READABLE, False),
        ("is", HERE._replace(inherited=True), None, False, d.UP_TO_DATE, True),
        ("new", HERE._replace(inherited=True), LastApplied("A=new"), False, d.MISSING, False),
        ("new", BLIND._replace(inherited=True, version=""), LastApplied("A=new"), False, d.MISSING, False),
        (None, HERE, None, False, d.UNMANAGED, False),
        (None, HERE._replace(supplied=True), None, False, d.SUPPLIED, True),
    ],
)
def test_how_a_variable_stands(
    wanted: str | None,
    live_value: LiveValue | None,
    last: LastApplied | None,
    pending: bool,
    state: str,
    is_settled: bool,
) -> None:
    plan_context = PlanContext(lambda _: False, {"A": last} if last else {}, fingerprint)
    (variable_state,) = variable_states(
        {"A": DesiredValue("A", wanted)} if wanted is not None else {},
        {"A": live_value} if live_value else {},
        plan_context,
        {"A"} if pending else (),
    )
    assert (variable_state.state, variable_state.is_settled) == (state, is_settled)


def test_a_removed_variable_that_still_runs_is_told() -> None:
    (state,) = variable_states({}, {}, PlanContext(lambda _: True, {}, fingerprint), ["GONE"])
    assert (state.name, state.state, state.is_settled) == ("GONE", d.PENDING_RESTART, False)


LIMITED = PlatformDescription(
    name="x",
    location=Location("x"),
    shape="[A-Z_]+",
    longest_name=5,
    folds_case=True,
    largest=4,
    empty="removes",
    line_breaks=False,
    most=9,
    reserved=("X_*",),
    supplied=("PORT",),
)


@pytest.mark.parametrize(
    ("names", "expected"),
    [
        ({"A": "x"}, []),
        ({"X_A": "x", "PORT": "1"}, ["reserves this name", "supplies this itself"]),
        ({"a": "x", "TOOLONG": "x"}, ["accepts only names that match", "longer than the 5 characters"]),
        ({"A": "ééé", "B": "", "C": "a\nb"}, ["has 6 bytes", "treats an empty value as none", "has a line break"]),
        ({chr(65 + number): "x" for number in range(10)}, ["10 variables exceed the 9"]),
    ],
)
def test_limits(names: dict[str, str], expected: list[str]) -> None:
    found = list(unsupported_variables(LIMITED, {name: DesiredValue(name, text) for name, text in names.items()}))
    assert len(found) == len(expected)
    assert all(words in unsupported.reason for words, unsupported in zip(expected, found, strict=True))
    assert all(text not in unsupported.reason for unsupported in found for text in names.values() if len(text) > 2)


def test_names_that_differ_by_case_are_one_where_case_is_ignored() -> None:
    found = list(
        unsupported_variables(
            PlatformDescription(name="x", location=Location("x"), folds_case=True),
            {name: DesiredValue(name, "x") for name in ("Mode", "MODE")},
        )
    )
    assert [unsupported.reason for unsupported in found] == ["x ignores case: this and Mode are the same name there"]


@given(st.text(), st.text(), st.lists(st.text()))
def test_what_is_filled_in_arrives_as_it_is(name: str, value: str, stages: list[str]) -> None:
    """Whatever a value holds, braces and percent signs included: a path's parts come out of a server's parser as they
    went in, a body is exact.
    """
    context = {"name": name, "value": Secret(value), "stages": stages, "secret": True, "nothing": None}
    path = fill_path("/v/{name}?a={value}&b={nothing}&c=1", context)
    parts = urlsplit(path)
    assert unquote(parts.path.removeprefix("/v/")) == name
    assert parse_qs(parts.query, keep_blank_values=True) == {"a": [value], "c": ["1"]}
    body = fill_body(
        {"n": "{name}", "v": "{value}", "s": "{stages}", "b": "{secret}", "t": "<{value}>", "keep": [1, None, True]},
        context,
    )
    assert body == {"n": name, "v": value, "s": stages, "b": True, "t": f"<{value}>", "keep": [1, None, True]}
    assert type(body["v"]) is str  # not one that hides itself from the one it is for


def test_pointers_into_answers() -> None:
    answer = {"items": [{"id": 7, "a/b": {"~": [None, "x"]}}, {"id": 8}], "next": None}
    for pointer, result in {
        "": answer,
        "/items/0/a~1b/~0/1": "x",
        "/items/*/id": [7, 8],
        "/next": None,
        "/items/2": MISSING,
        "/nope": MISSING,
        "/items/x": MISSING,
    }.items():
        assert resolve_pointer(answer, pointer) == result
    assert fill_path("/v/{/items/0/id}", {}, answer) == "/v/7"
    assert list(request_placeholders({"a": ["{x}", "{/y/z}"], "b": 1})) == ["x", "/y/z"]
    with pytest.raises(MissingValue):
        fill_body("{/nope}", {}, answer)


KEYED = hmac.new(b"key", b"text", hashlib.sha256).hexdigest()


@pytest.mark.parametrize(
    ("form", "expected", "value", "holds"),
    [
        ("is", "a", "a", True), ("is", "a", "b", False), ("is", "a", None, False), ("is", "", "", True),
        ("not", "a", "b", True), ("not", "a", "a", False),
        ("matches", "^a+$", "aa", True), ("matches", "^a+$", "ab", False), ("matches", "a", None, False),
        ("present", "", "", True), ("present", "", None, False), ("absent", "", None, True), ("absent", "", "", False),
        ("digest", "text", KEYED, True), ("digest", "text", KEYED[:16].upper() + "\n", True),
        ("digest", "text", KEYED[:15], False), ("digest", "text", "0" * 64, False),
        ("digest", "text", "", False), ("digest", "text", None, False),
    ],
)  # fmt: skip
def test_verdicts(form: str, expected: str, value: str | None, holds: bool) -> None:
    assert judge(form, expected, value, secret=False, key="key").holds is holds
    hidden = judge(form, "made-up-secret", "made-up-secret", secret=True, key="key")
    assert "made-up" not in hidden.actual + hidden.expected or form == "matches"
