"""Compare live and desired values: the changes of a delivery, and the state of each variable. Pure."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from typing import NamedTuple

NEW, CHANGED, GONE, AGAIN = "new", "changed", "gone", "again"
"""Actions on a variable. `again`: its value cannot be read back, so it is written once more."""
UP_TO_DATE, CHANGED_THERE, MISSING, UNMANAGED, PENDING_RESTART, NOT_READABLE, NOT_DELIVERED, SUPPLIED = (
    "up to date",
    "changed there",
    "missing",
    "unmanaged",
    "pending restart",
    "not readable",
    "not delivered",
    "supplied",
)
"""States of a variable.

`not delivered`: the jar changed after the last delivery. `pending restart`: saved, but the running program still has
the previous value.
"""
CALM = frozenset({UP_TO_DATE, SUPPLIED, NOT_READABLE})
"""States that need no action, unless a note says otherwise."""


class DesiredValue(NamedTuple):
    """A value that a destination should have. `text` may be a Secret."""

    name: str
    text: str
    secret: bool = False


class LiveValue(NamedTuple):
    """A value that a destination has. `text` is None where the destination does not give the value back.

    `supplied`: the destination sets it itself. `version` changes when the value does. `inherited`: it comes from the
    enclosing level (the whole project) and is not changed here; `enclosing` is the value there that this one overrides.
    `handle` is what the destination's own requests need.
    """

    name: str
    text: str | None
    secret: bool = False
    supplied: bool = False
    version: str = ""
    inherited: bool = False
    handle: object = None
    enclosing: LiveValue | None = None


class LastApplied(NamedTuple):
    """The last delivered state from the records: the keyed fingerprint of the value, and the destination's version
    after it.
    """

    fingerprint: str
    version: str = ""
    in_effect: bool = True


class DeliveryChange(NamedTuple):
    """One variable to write or to remove.

    `old` and `new` are None where there is no value, or where `old` cannot be read.
    """

    name: str
    action: str
    old: str | None
    new: str | None
    secret: bool
    live: LiveValue | None = None
    renamed: str | None = None
    """The other name of a renamed variable: it is delivered under the new name and removed under the old one."""


class DeliveryPlan(NamedTuple):
    """The changes, and the names that are up to date, unmanaged, or assumed up to date without being read."""

    changes: list[DeliveryChange]
    same: list[str]
    extra: list[str]
    trusted: list[str]


class PlanContext(NamedTuple):
    """Input of a plan besides the two sets: which names are ours to remove, what was delivered last, and how values are
    fingerprinted.

    `owns_all`: the destination contains only our variables, so everything else is removed. `former_names` maps names to
    earlier names.
    """

    is_ours: Callable[[str], bool]
    last_applied: Mapping[str, LastApplied]
    fingerprint: Callable[[str, str], str]
    owns_all: bool = False
    former_names: Mapping[str, tuple[str, ...]] = {}


def plan(
    desired_values: Mapping[str, DesiredValue], live: Mapping[str, LiveValue], plan_context: PlanContext
) -> DeliveryPlan:
    """Return the smallest set of changes that brings the destination up to date."""
    changes: list[DeliveryChange] = []
    same: list[str] = []
    trusted: list[str] = []
    for name, desired in desired_values.items():
        current = live.get(name)
        secret = desired.secret or (current is not None and current.secret)
        if current is None or (current.inherited and current.text != desired.text):
            changes.append(DeliveryChange(name, NEW, None, desired.text, secret))
        elif current.text == desired.text:
            same.append(name)
        elif current.text is not None:
            changes.append(DeliveryChange(name, CHANGED, current.text, desired.text, secret, current))
        elif _is_as_delivered(desired, current, plan_context):
            trusted.append(name)
        else:
            changes.append(DeliveryChange(name, AGAIN, None, desired.text, secret, current))
    rest = [
        live_value
        for name, live_value in live.items()
        if name not in desired_values and not live_value.supplied and not live_value.inherited
    ]
    gone = [live_value for live_value in rest if plan_context.owns_all or plan_context.is_ours(live_value.name)]
    changes += [
        DeliveryChange(live_value.name, GONE, live_value.text, None, live_value.secret, live_value)
        for live_value in gone
    ]
    return DeliveryPlan(
        _with_renames(changes, plan_context.former_names),
        same,
        [live_value.name for live_value in rest if live_value not in gone],
        trusted,
    )


def _with_renames(changes: list[DeliveryChange], former: Mapping[str, tuple[str, ...]]) -> list[DeliveryChange]:
    """Return the changes with `renamed` set on each new name whose old name is removed, and on the old name."""
    gone = {change.name for change in changes if change.action == GONE}
    now = {
        old: change.name
        for change in changes
        if change.action == NEW
        for old in former.get(change.name, ())
        if old in gone
    }
    before = {new: old for old, new in now.items()}
    return [
        change._replace(renamed=before[change.name])
        if change.action == NEW and change.name in before
        else change._replace(renamed=now[change.name])
        if change.action == GONE and change.name in now
        else change
        for change in changes
    ]


def _is_as_delivered(desired: DesiredValue, live_value: LiveValue, plan_context: PlanContext) -> bool:
    last = plan_context.last_applied.get(desired.name)
    return (
        last is not None
        and last.fingerprint == plan_context.fingerprint(desired.name, desired.text)
        and last.version == live_value.version
    )


class VariableState(NamedTuple):
    """The state of one variable: what is live (None: nothing, or not readable), what is desired, and a note where it
    helps.
    """

    name: str
    state: str
    live: str | None
    desired: str | None
    secret: bool
    note: str = ""

    @property
    def is_settled(self) -> bool:
        """Return whether nothing is to be done."""
        return self.state in CALM and not self.note


def variable_states(
    desired_values: Mapping[str, DesiredValue],
    live: Mapping[str, LiveValue],
    plan_context: PlanContext,
    pending: Collection[str],
) -> list[VariableState]:
    """Return the state of every variable of either side. `pending`: names that are saved and not yet in use."""
    states = [
        _variable_state(desired, live.get(name), plan_context, name in pending)
        for name, desired in desired_values.items()
    ]
    for name, live_value in live.items():
        if name in desired_values:
            continue
        if live_value.supplied:
            states.append(VariableState(name, SUPPLIED, live_value.text, None, live_value.secret))
        elif not live_value.inherited:
            ours = plan_context.is_ours(name) or plan_context.owns_all
            states.append(
                VariableState(
                    name,
                    UNMANAGED,
                    live_value.text,
                    None,
                    live_value.secret,
                    "the next delivery removes it" if ours else "not in the jar",
                )
            )
    gone = [name for name in sorted(pending) if name not in desired_values and name not in live]
    return states + [
        VariableState(
            name, PENDING_RESTART, None, None, secret=False, note="removed, but still in use by the running program"
        )
        for name in gone
    ]


def _variable_state(
    desired: DesiredValue, live_value: LiveValue | None, plan_context: PlanContext, pending: bool
) -> VariableState:
    last = plan_context.last_applied.get(desired.name)
    now = plan_context.fingerprint(desired.name, desired.text)
    secret = desired.secret or (live_value is not None and live_value.secret)
    if (
        live_value is not None and live_value.inherited and live_value.text != desired.text
    ):  # the enclosing level has another value, so ours is missing
        live_value = None

    def state_of(state: str, note: str = "") -> VariableState:
        return VariableState(desired.name, state, live_value.text if live_value else None, desired.text, secret, note)

    if live_value is None:
        return state_of(MISSING) if last else state_of(NOT_DELIVERED, "never delivered")
    if live_value.text is None:
        state, note = _unread(last, live_value, now)
        return state_of(PENDING_RESTART if pending and state == NOT_READABLE and not note else state, note)
    if live_value.text == desired.text:
        return state_of(PENDING_RESTART if pending else UP_TO_DATE)
    if last is not None and last.fingerprint == plan_context.fingerprint(desired.name, live_value.text):
        return state_of(NOT_DELIVERED)
    return state_of(CHANGED_THERE, "" if last else "never delivered from here")


def _unread(last: LastApplied | None, live_value: LiveValue, now: str) -> tuple[str, str]:
    """Return state and note of a value that cannot be read back, from the last delivery and the version it had then."""
    if last is None:
        return NOT_READABLE, "never delivered from here"
    if last.version != live_value.version:
        return CHANGED_THERE, "written by somebody else since the last delivery"
    return (NOT_DELIVERED if last.fingerprint != now else NOT_READABLE), ""
