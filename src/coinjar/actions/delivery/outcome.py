"""The result of a delivery, target by target."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from coinjar.actions.delivery.live_stage import (
    OpenDestination,
    TargetInspection,
)
from coinjar.core.delivery import GONE, DeliveryChange, LiveValue
from coinjar.core.errors import CoinJarError
from coinjar.destinations.live.base import Target

UP_TO_DATE, DELIVERED, PLANNED, FAILED_STATE = "up to date", "delivered", "to deliver", "failed"


class DeliveryOutcome(NamedTuple):
    """The result for a target.

    `restart` is "" (nothing to do), waits, asked or done; `state` is up to date, delivered, to deliver or failed.
    """

    destination: str
    key: str
    label: str
    state: str
    changes: list[DeliveryChange]
    same: int
    trusted: int
    extra: list[str]
    restart: str = ""
    restart_words: str = ""
    notes: Sequence[str] = ()
    fault: CoinJarError | None = None
    number: int | None = None


class InspectedTarget(NamedTuple):
    """One target before anything is written."""

    open_destination: OpenDestination
    target: Target
    inspection: TargetInspection | None
    fault: CoinJarError | None


def took(change: DeliveryChange, live_value: LiveValue | None) -> bool:
    """Return whether a change is there, as far as it can be read."""
    if change.action == GONE:
        return live_value is None or live_value.inherited or live_value.supplied
    return live_value is not None and (live_value.text is None or live_value.text == change.new)


def _outcome(
    inspected: InspectedTarget, inspection: TargetInspection | None, state: str, *, restart: str = ""
) -> DeliveryOutcome:
    plan = inspection.plan if inspection else None
    return DeliveryOutcome(
        inspected.open_destination.destination.name,
        inspected.target.key,
        inspected.target.label,
        state,
        plan.changes if plan else [],
        len(plan.same) if plan else 0,
        len(plan.trusted) if plan else 0,
        plan.extra if plan else [],
        restart,
        inspected.target.restart_words(),
        inspected.target.notes.lines,
    )


def _failed(
    inspected: InspectedTarget, fault: CoinJarError, inspection: TargetInspection | None = None
) -> DeliveryOutcome:
    return _outcome(inspected, inspection, FAILED_STATE)._replace(fault=fault)


def exit_code(outcomes: Sequence[DeliveryOutcome]) -> int:
    """Return 0 if all went well, else the code of the first failure."""
    return next((outcome.fault.exit_code for outcome in outcomes if outcome.fault), 0)
