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
from coinjar.records.queries import WAITS

UP_TO_DATE, DELIVERED, PLANNED, FAILED_STATE = "up to date", "delivered", "to deliver", "failed"


class DeliveryOptions(NamedTuple):
    """How to deliver. `patience`: seconds to wait for a lock; `undoes`: the number of the delivery to undo."""

    restart: bool = False
    patience: float = 0
    undoes: int | None = None
    remove_extra: bool = False


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

    def has_work(self, options: DeliveryOptions) -> bool:
        """Return whether a delivery would write or restart anything."""
        assert self.inspection
        return bool(self.inspection.plan.changes) or (options.restart and not self.inspection.effect.in_effect)

    @property
    def pending_restart(self) -> str:
        """Return the state of the restart before a delivery."""
        assert self.inspection
        return "" if self.inspection.effect.in_effect else WAITS


def with_unmanaged(inspection: TargetInspection, options: DeliveryOptions) -> TargetInspection:
    """Return the inspection, with the removal of unmanaged variables in its plan if that was requested."""
    if not options.remove_extra:
        return inspection
    changes = list(inspection.plan.changes)
    for name in inspection.plan.extra:
        live = inspection.live[name]
        changes.append(DeliveryChange(name, GONE, live.text, None, live.secret, live))
    return inspection._replace(plan=inspection.plan._replace(changes=changes, extra=[]))


def took(change: DeliveryChange, live_value: LiveValue | None) -> bool:
    """Return whether a change is there, as far as it can be read."""
    if change.action == GONE:
        return live_value is None or live_value.inherited or live_value.supplied
    return live_value is not None and (live_value.text is None or live_value.text == change.new)


def outcome_of(
    inspected: InspectedTarget, inspection: TargetInspection | None, state: str, *, restart: str = ""
) -> DeliveryOutcome:
    """Return the outcome of a target; without an inspection it has no changes."""
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


def failed_outcome(
    inspected: InspectedTarget, fault: CoinJarError, inspection: TargetInspection | None = None
) -> DeliveryOutcome:
    """Return the outcome of a target that failed."""
    return outcome_of(inspected, inspection, FAILED_STATE)._replace(fault=fault)


def exit_code(outcomes: Sequence[DeliveryOutcome]) -> int:
    """Return 0 if all went well, else the code of the first failure."""
    return next((outcome.fault.exit_code for outcome in outcomes if outcome.fault), 0)
