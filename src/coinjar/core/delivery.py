"""What is live against what should be: the changes of a delivery, and how each variable stands. Pure: facts in, facts out."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from fnmatch import fnmatchcase
from typing import NamedTuple

NEW, CHANGED, GONE, AGAIN = "new", "changed", "gone", "again"
"""What is done with a variable; `again`: it cannot be read back, so it is written once more."""
IN_STEP, OUTSIDE, MISSING, EXTRA, PENDING, UNREAD, BEHIND, SUPPLIED = (
    "in step",
    "changed outside",
    "missing",
    "extra",
    "not in effect",
    "cannot be read back",
    "not delivered",
    "supplied",
)
"""How a variable stands. `not delivered`: the jar has moved on since the last delivery; `not in effect`: saved, and the running thing has not read it."""
CALM = frozenset({IN_STEP, SUPPLIED, UNREAD})
"""States in which there is nothing to do, unless a note says otherwise."""


class DesiredValue(NamedTuple):
    """What a destination should have. `text` may be a Secret."""

    name: str
    text: str
    secret: bool = False


class LiveValue(NamedTuple):
    """What a destination has. `text` is None where it gives the value to nobody any more.

    `supplied`: it sets this itself. `mark` changes when the value does. `wide`: it comes from the level around (the whole project), and is not
    ours to change here. `handle` is what the destination's own requests need of it.
    """

    name: str
    text: str | None
    secret: bool = False
    supplied: bool = False
    mark: str = ""
    wide: bool = False
    handle: object = None


class LastApplied(NamedTuple):
    """What the records say was delivered last: the keyed fingerprint of the value, and the destination's mark after it."""

    fingerprint: str
    mark: str = ""
    in_effect: bool = True


class DeliveryChange(NamedTuple):
    """One variable to write or to remove. `old` and `new` are None where there is no value (or `old` cannot be read)."""

    name: str
    action: str
    old: str | None
    new: str | None
    secret: bool
    held: LiveValue | None = None
    renamed: str | None = None
    """The other name, where one variable goes out under a new name and the old one is removed."""


class DeliveryPlan(NamedTuple):
    """The changes, and the names that are right, that nobody here knows, and that are taken to be right without being read."""

    changes: list[DeliveryChange]
    same: list[str]
    extra: list[str]
    trusted: list[str]


class PlanContext(NamedTuple):
    """What a plan is made of besides the two sets: who is ours to remove, what was delivered last, and how texts are fingerprinted.

    `whole`: the destination holds nothing but ours, so what is not wanted goes. `former` maps names to what they were called before.
    """

    ours: Callable[[str], bool]
    last: Mapping[str, LastApplied]
    fingerprint: Callable[[str, str], str]
    whole: bool = False
    former: Mapping[str, tuple[str, ...]] = {}


def plan(wanted: Mapping[str, DesiredValue], held: Mapping[str, LiveValue], known: PlanContext) -> DeliveryPlan:
    """The fewest changes that bring what is there in step."""
    changes: list[DeliveryChange] = []
    same: list[str] = []
    trusted: list[str] = []
    for name, desired in wanted.items():
        current = held.get(name)
        secret = desired.secret or (current is not None and current.secret)
        if current is None or (current.wide and current.text != desired.text):
            changes.append(DeliveryChange(name, NEW, None, desired.text, secret))
        elif current.text == desired.text:
            same.append(name)
        elif current.text is not None:
            changes.append(DeliveryChange(name, CHANGED, current.text, desired.text, secret, current))
        elif _is_as_delivered(desired, current, known):
            trusted.append(name)
        else:
            changes.append(DeliveryChange(name, AGAIN, None, desired.text, secret, current))
    rest = [
        live_value
        for name, live_value in held.items()
        if name not in wanted and not live_value.supplied and not live_value.wide
    ]
    gone = [live_value for live_value in rest if known.whole or known.ours(live_value.name)]
    changes += [
        DeliveryChange(live_value.name, GONE, live_value.text, None, live_value.secret, live_value)
        for live_value in gone
    ]
    return DeliveryPlan(
        _with_renames(changes, known.former),
        same,
        [live_value.name for live_value in rest if live_value not in gone],
        trusted,
    )


def _with_renames(changes: list[DeliveryChange], former: Mapping[str, tuple[str, ...]]) -> list[DeliveryChange]:
    """The same changes; a new name whose old one goes says so, and the old one too."""
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


def _is_as_delivered(desired: DesiredValue, live_value: LiveValue, known: PlanContext) -> bool:
    last = known.last.get(desired.name)
    return (
        last is not None
        and last.fingerprint == known.fingerprint(desired.name, desired.text)
        and last.mark == live_value.mark
    )


class VariableState(NamedTuple):
    """How one variable stands: a state, what is live (None: nothing, or not readable), what should be, and words where they help."""

    name: str
    state: str
    live: str | None
    wanted: str | None
    secret: bool
    note: str = ""

    @property
    def calm(self) -> bool:
        """Whether there is nothing to do."""
        return self.state in CALM and not self.note


def standings(
    wanted: Mapping[str, DesiredValue], held: Mapping[str, LiveValue], known: PlanContext, pending: Collection[str]
) -> list[VariableState]:
    """How every variable of either side stands; `pending` are the names that are saved and not in effect."""
    states = [_standing(desired, held.get(name), known, name in pending) for name, desired in wanted.items()]
    for name, live_value in held.items():
        if name in wanted:
            continue
        if live_value.supplied:
            states.append(VariableState(name, SUPPLIED, live_value.text, None, live_value.secret))
        elif not live_value.wide:
            ours = known.ours(name) or known.whole
            states.append(
                VariableState(
                    name,
                    EXTRA,
                    live_value.text,
                    None,
                    live_value.secret,
                    "the next delivery removes it" if ours else "the jar does not know it here",
                )
            )
    gone = [name for name in sorted(pending) if name not in wanted and name not in held]
    return states + [
        VariableState(name, PENDING, None, None, secret=False, note="removed, and what runs still has it")
        for name in gone
    ]


def _standing(desired: DesiredValue, live_value: LiveValue | None, known: PlanContext, pending: bool) -> VariableState:
    last = known.last.get(desired.name)
    now = known.fingerprint(desired.name, desired.text)
    secret = desired.secret or (live_value is not None and live_value.secret)
    if (
        live_value is not None and live_value.wide and live_value.text != desired.text
    ):  # the level around has another, so ours is not there
        live_value = None

    def stands(state: str, note: str = "") -> VariableState:
        return VariableState(desired.name, state, live_value.text if live_value else None, desired.text, secret, note)

    if live_value is None:
        return stands(MISSING) if last else stands(BEHIND, "never delivered")
    if live_value.text is None:
        state, note = _unread(last, live_value, now)
        return stands(PENDING if pending and state == UNREAD and not note else state, note)
    if live_value.text == desired.text:
        return stands(PENDING if pending else IN_STEP)
    if last is not None and last.fingerprint == known.fingerprint(desired.name, live_value.text):
        return stands(BEHIND)
    return stands(OUTSIDE, "" if last else "never delivered from here")


def _unread(last: LastApplied | None, live_value: LiveValue, now: str) -> tuple[str, str]:
    """How something stands that cannot be read back: by what was delivered last, and the mark it had then."""
    if last is None:
        return UNREAD, "and was never delivered from here"
    if last.mark != live_value.mark:
        return OUTSIDE, "written by somebody since the last delivery"
    return (BEHIND if last.fingerprint != now else UNREAD), ""


def matches(name: str, shapes: Iterable[str]) -> bool:
    """Whether a name is of one of these shapes (`MAIL_*`)."""
    return any(fnmatchcase(name, shape) for shape in shapes)
