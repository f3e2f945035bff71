"""Compare what is live with what the jar says, and whether it is in use. Changes nothing."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

from coinjar.actions.delivery.live_stage import (
    LiveStage,
    OpenDestination,
    SuppliedValue,
    TargetInspection,
    as_fault,
    bounded,
)
from coinjar.core.delivery import DesiredValue, LiveValue, VariableState, variable_states
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError
from coinjar.core.progress import Progress
from coinjar.destinations.live.base import Target


class TargetDrift(NamedTuple):
    """The state of a target: every variable, whether it uses what is saved, remarks; or why it could not be read."""

    destination: str
    key: str
    label: str
    rows: list[VariableState]
    in_effect: bool
    restart_words: str = ""
    notes: Sequence[str] = ()
    fault: CoinJarError | None = None

    @property
    def is_settled(self) -> bool:
        """Return whether everything is as it should be."""
        return self.fault is None and self.in_effect and all(row.is_settled for row in self.rows)


async def drift(opened: LiveStage, progress: Progress | None = None) -> list[TargetDrift]:
    """Return every target of the chosen destinations.

    A target that cannot be read is reported, and does not stop others.
    """
    faults = await opened.take_supplied()
    places, more = opened.places([destination for destination in opened.chosen if destination.name not in faults])
    pairs = [(open_destination, target) for open_destination in places for target in open_destination.targets]
    done = 0

    async def one(open_destination: OpenDestination, target: Target) -> TargetDrift:
        nonlocal done
        try:
            async with target:
                drift = _of(opened, open_destination, target, await opened.inspect(open_destination, target))
        except (CoinJarError, OSError) as raised:
            drift = TargetDrift(
                open_destination.destination.name, target.key, target.label, [], in_effect=True, fault=as_fault(raised)
            )
        done += 1
        if progress:
            progress("reading", done, len(pairs))
        return drift

    drifts = [
        TargetDrift(name, "", name, [], in_effect=True, fault=fault) for name, fault in {**faults, **more}.items()
    ]
    for group in await asyncio.gather(
        *(
            bounded(
                open_destination.instance.at_once,
                [one(open_destination, target) for target in open_destination.targets],
            )
            for open_destination in places
        )
    ):
        for item in group:
            if isinstance(item, BaseException):
                raise item
            drifts.append(item)
    order = [destination.name for destination in opened.chosen]
    return sorted(drifts, key=lambda drift: order.index(drift.destination))


def _changed_since(target: Target, inspection: TargetInspection) -> set[str]:
    """Return the names whose saved values are others than those of the last delivery: these wait for a restart."""
    context, changed = inspection.plan_context, set()
    for name in target.desired_values:
        last, live_value = context.last_applied.get(name), inspection.live.get(name)
        if last is None or live_value is None:
            continue
        if live_value.text is None:
            is_other = live_value.version != last.version
        else:
            is_other = context.fingerprint(name, live_value.text) != last.fingerprint
        if is_other:
            changed.add(name)
    return changed


def _of(
    opened: LiveStage, open_destination: OpenDestination, target: Target, inspection: TargetInspection
) -> TargetDrift:
    pending: set[str] = set()
    if not inspection.effect.in_effect:
        names = inspection.effect.names
        pending = set(names) if names is not None else _changed_since(target, inspection) or set(target.desired_values)
    rows = variable_states(target.desired_values, inspection.live, inspection.plan_context, pending)
    moved = {
        supplied.name: supplied
        for supplied in opened.supplied
        if supplied.destination == open_destination.destination.name
        and supplied.service in target.services
        and supplied.is_new
    }
    rows = [
        row._replace(note=_moved(moved[row.name])) if row.name in moved and row.desired is None else row for row in rows
    ]
    notes = [
        *_wider(target, inspection.live, lambda name: name in opened.jar.variables, opened.masker),
        *([inspection.effect.words] if inspection.effect.words and not inspection.effect.in_effect else []),
    ]
    return TargetDrift(
        open_destination.destination.name,
        target.key,
        target.label,
        rows,
        inspection.effect.in_effect,
        target.restart_words(),
        notes,
    )


def _moved(supplied: SuppliedValue) -> str:
    return (
        "not in the jar yet: `coinjar deliver` reads it"
        if supplied.before is None
        else "it changed since it was read into the jar: `coinjar deliver` updates it"
    )


def _wider(target: Target, live: Mapping[str, LiveValue], declared: Callable[[str], bool], masker: Masker) -> list[str]:
    """Return notes on values without a stage: where they differ, with both, and where the jar has none on this
    stage.
    """
    wide = {name: value if value.inherited else value.enclosing for name, value in live.items()}
    names = [
        f"{name} ({_both(value, target.desired_values[name], masker)})"
        for name, value in wide.items()
        if value and name in target.desired_values and value.text != target.desired_values[name].text
    ]
    alone = [
        name
        for name, value in live.items()
        if value.inherited and not value.supplied and name not in target.desired_values and declared(name)
    ]
    return [
        *([f"a job without a stage gets a different value of {_listed(names)}: the whole project's"] if names else []),
        *([f"{_listed(alone)}: set for the whole project there, but not for this stage in the jar"] if alone else []),
    ]


def _both(wide: LiveValue, here: DesiredValue, masker: Masker) -> str:
    secret = wide.secret or here.secret
    there = "a value that it does not return" if wide.text is None else masker.show(wide.text, secret=secret)
    return f"{there}, not {masker.show(here.text, secret=secret)}"


def _listed(names: Sequence[str]) -> str:
    return ", ".join(sorted(names)[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")
