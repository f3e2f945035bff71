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
from coinjar.core.delivery import DesiredValue, LastApplied, LiveValue, PlanContext, plan, standings
from coinjar.core.errors import Location
from coinjar.core.proofs import judge
from coinjar.core.secret import Secret
from coinjar.documents.json_data import NOTHING, look
from coinjar.platforms.description import PlatformDescription
from coinjar.platforms.limits import refusals
from coinjar.platforms.templating import MissingValue, fill, fill_path, holders

NAMES = st.sampled_from("ABCDEFGH")
TEXTS = st.text(max_size=5)


def fingerprint(name: str, text: str) -> str:
    return f"{name}={text}"


@st.composite
def worlds(draw: Any) -> tuple[dict[str, DesiredValue], dict[str, LiveValue], PlanContext]:
    """What is wanted, what is there (some of it unreadable, supplied, or from the level around), and what was delivered last."""
    wanted = {name: DesiredValue(name, text) for name, text in draw(st.dictionaries(NAMES, TEXTS)).items()}
    held = {}
    for name, text in draw(st.dictionaries(NAMES, st.one_of(TEXTS, st.none()))).items():
        kind = draw(st.sampled_from(["own", "own", "own", "supplied", "wide"]))
        if kind == "supplied" and name in wanted:
            kind = "own"  # what is supplied is never wanted
        held[name] = LiveValue(
            name, text, supplied=kind == "supplied", wide=kind == "wide", mark=draw(st.sampled_from(["", "1", "2"]))
        )
    last = {
        name: LastApplied(fingerprint(name, text), draw(st.sampled_from(["", "1", "2"])))
        for name, text in draw(st.dictionaries(NAMES, TEXTS)).items()
    }
    ours = draw(st.sets(NAMES))
    return wanted, held, PlanContext(lambda name: name in ours or name in last, last, fingerprint, draw(st.booleans()))


def carried_out(held: dict[str, LiveValue], changes: list[d.DeliveryChange]) -> dict[str, LiveValue]:
    """What is there after the changes, on a platform that does what it is told."""
    after = dict(held)
    for change in changes:
        if change.action == d.GONE:
            del after[change.name]
        else:
            old = held.get(change.name)
            unreadable = old is not None and old.text is None and not old.wide
            after[change.name] = LiveValue(change.name, None if unreadable else change.new, mark="new")
    return after


@given(worlds())
def test_a_plan_brings_what_is_there_in_step_and_touches_nothing_else(
    world: tuple[dict[str, DesiredValue], dict[str, LiveValue], PlanContext],
) -> None:
    wanted, held, known = world
    planned = plan(wanted, held, known)
    after = carried_out(held, planned.changes)
    for name, desired in wanted.items():
        assert after[name].text in (desired.text, None)
    for name, live_value in held.items():
        if name not in wanted and (live_value.supplied or live_value.wide or not (known.whole or known.ours(name))):
            assert after[name] is live_value
    # once more there is nothing to do, if the records say what was delivered
    remembered = known._replace(
        last={name: LastApplied(fingerprint(name, desired.text), after[name].mark) for name, desired in wanted.items()}
    )
    again = plan(wanted, after, remembered)
    assert again.changes == []
    assert {*again.same, *again.trusted} == set(wanted)
    assert all(state.calm for state in standings(wanted, after, remembered, ()) if state.name in wanted)
    assert len({change.name for change in planned.changes}) == len(planned.changes)


@given(worlds())
def test_drift_finds_all_that_a_delivery_would_change(
    world: tuple[dict[str, DesiredValue], dict[str, LiveValue], PlanContext],
) -> None:
    wanted, held, known = world
    changed = {change.name for change in plan(wanted, held, known).changes}
    restless = {state.name for state in standings(wanted, held, known, ()) if not state.calm}
    assert changed <= restless


HERE, BLIND = LiveValue("A", "is"), LiveValue("A", None, mark="3")


@pytest.mark.parametrize(
    ("wanted", "live_value", "last", "pending", "state", "calm"),
    [
        ("is", HERE, None, False, d.IN_STEP, True),
        ("is", HERE, LastApplied("A=is"), True, d.PENDING, False),
        ("new", HERE, LastApplied("A=is"), False, d.BEHIND, False),
        ("new", HERE, LastApplied("A=old"), False, d.OUTSIDE, False),
        ("new", HERE, None, False, d.OUTSIDE, False),
        ("new", None, None, False, d.BEHIND, False),
        ("new", None, LastApplied("A=new"), False, d.MISSING, False),
        ("is", BLIND, LastApplied("A=is", "3"), False, d.UNREAD, True),
        ("is", BLIND, LastApplied("A=is", "3"), True, d.PENDING, False),
        ("is", BLIND, LastApplied("A=is", "2"), False, d.OUTSIDE, False),
        ("new", BLIND, LastApplied("A=is", "3"), False, d.BEHIND, False),
        ("is", BLIND, None, False, d.UNREAD, False),
        ("is", HERE._replace(wide=True), None, False, d.IN_STEP, True),
        ("new", HERE._replace(wide=True), LastApplied("A=new"), False, d.MISSING, False),
        ("new", BLIND._replace(wide=True, mark=""), LastApplied("A=new"), False, d.MISSING, False),
        (None, HERE, None, False, d.EXTRA, False),
        (None, HERE._replace(supplied=True), None, False, d.SUPPLIED, True),
    ],
)
def test_how_a_variable_stands(
    wanted: str | None, live_value: LiveValue | None, last: LastApplied | None, pending: bool, state: str, calm: bool
) -> None:
    known = PlanContext(lambda _: False, {"A": last} if last else {}, fingerprint)
    (variable_state,) = standings(
        {"A": DesiredValue("A", wanted)} if wanted is not None else {},
        {"A": live_value} if live_value else {},
        known,
        {"A"} if pending else (),
    )
    assert (variable_state.state, variable_state.calm) == (state, calm)


def test_a_removed_variable_that_still_runs_is_told() -> None:
    (state,) = standings({}, {}, PlanContext(lambda _: True, {}, fingerprint), ["GONE"])
    assert (state.name, state.state, state.calm) == ("GONE", d.PENDING, False)


LIMITED = PlatformDescription(
    name="x",
    place=Location("x"),
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
        ({"X_A": "x", "PORT": "1"}, ["keeps this name for itself", "supplies this itself"]),
        ({"a": "x", "TOOLONG": "x"}, ["takes only names like", "over the 5 characters"]),
        ({"A": "ééé", "B": "", "C": "a\nb"}, ["has 6 bytes", "takes an empty value for none", "has a line break"]),
        ({chr(65 + number): "x" for number in range(10)}, ["10 variables are more than the 9"]),
    ],
)
def test_limits(names: dict[str, str], expected: list[str]) -> None:
    found = list(refusals(LIMITED, {name: DesiredValue(name, text) for name, text in names.items()}))
    assert len(found) == len(expected)
    assert all(words in unsupported.words for words, unsupported in zip(expected, found, strict=True))
    assert all(text not in unsupported.words for unsupported in found for text in names.values() if len(text) > 2)


def test_names_that_differ_by_case_are_one_where_case_is_ignored() -> None:
    found = list(
        refusals(
            PlatformDescription(name="x", place=Location("x"), folds_case=True),
            {name: DesiredValue(name, "x") for name in ("Mode", "MODE")},
        )
    )
    assert [unsupported.words for unsupported in found] == ["it and Mode are one name to x, which ignores case"]


@given(st.text(), st.text(), st.lists(st.text()))
def test_what_is_filled_in_arrives_as_it_is(name: str, value: str, stages: list[str]) -> None:
    """Whatever a value holds, braces and percent signs included: a path's parts come out of a server's parser as they went in, a body is exact."""
    context = {"name": name, "value": Secret(value), "stages": stages, "secret": True, "nothing": None}
    path = fill_path("/v/{name}?a={value}&b={nothing}&c=1", context)
    parts = urlsplit(path)
    assert unquote(parts.path.removeprefix("/v/")) == name
    assert parse_qs(parts.query, keep_blank_values=True) == {"a": [value], "c": ["1"]}
    body = fill(
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
        "/items/2": NOTHING,
        "/nope": NOTHING,
        "/items/x": NOTHING,
    }.items():
        assert look(answer, pointer) == result
    assert fill_path("/v/{/items/0/id}", {}, answer) == "/v/7"
    assert list(holders({"a": ["{x}", "{/y/z}"], "b": 1})) == ["x", "/y/z"]
    with pytest.raises(MissingValue):
        fill("{/nope}", {}, answer)


KEYED = hmac.new(b"key", b"text", hashlib.sha256).hexdigest()


@pytest.mark.parametrize(
    ("form", "expected", "value", "holds"),
    [
        ("is", "a", "a", True), ("is", "a", "b", False), ("is", "a", None, False), ("is", "", "", True),
        ("not", "a", "b", True), ("not", "a", "a", False),
        ("matches", "^a+$", "aa", True), ("matches", "^a+$", "ab", False), ("matches", "a", None, False),
        ("present", "", "", True), ("present", "", None, False), ("absent", "", None, True), ("absent", "", "", False),
        ("digest", "text", KEYED, True), ("digest", "text", KEYED[:16].upper() + "\n", True), ("digest", "text", KEYED[:15], False), ("digest", "text", "0" * 64, False),
        ("digest", "text", "", False), ("digest", "text", None, False),
    ],
)  # fmt: skip
def test_verdicts(form: str, expected: str, value: str | None, holds: bool) -> None:
    assert judge(form, expected, value, secret=False, key="key").holds is holds
    hidden = judge(form, "made-up-secret", "made-up-secret", secret=True, key="key")
    assert "made-up" not in hidden.found + hidden.expected or form == "matches"
