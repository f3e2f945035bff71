"""Deliver to one target, under the lock of its destination: inspect again, write, read back, record, restart."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Mapping

from coinjar.actions.delivery import snapshots
from coinjar.actions.delivery.live_stage import LiveStage, TargetInspection, as_fault
from coinjar.actions.delivery.outcome import (
    DELIVERED,
    UP_TO_DATE,
    DeliveryOptions,
    DeliveryOutcome,
    InspectedTarget,
    failed_outcome,
    outcome_of,
    took,
    with_unmanaged,
)
from coinjar.core.delivery import GONE, DeliveryChange, LastApplied, LiveValue, plan
from coinjar.core.errors import CoinJarError, ExternalError, raise_all
from coinjar.destinations.live.base import ResponseLost, TargetOutdated
from coinjar.records.locks import DeliveryLock
from coinjar.records.queries import ASKED, RESTARTED, WAITS
from coinjar.records.store import DONE, FAILED

MOST_ATTEMPTS = 4
"""How often one delivery writes to a target that others change at the same time."""
RECENT = 2.0
"""Seconds for which a target's inspection is used without reading it again."""
PAUSES = (0.5, 1.5, 3.0)
"""Seconds between the questions whether a restart has happened."""

_FASTER = "somebody else changed it at the same time, and it was read again"


class TargetDelivery:
    """The delivery to one inspected target. `number` is that of the delivery in the records."""

    def __init__(
        self,
        opened: LiveStage,
        options: DeliveryOptions,
        inspected: InspectedTarget,
        number: int,
        lock: DeliveryLock,
        recipients: Callable[[], list[str]],
    ) -> None:
        self.opened = opened
        self.options = options
        self.inspected = inspected
        self.target = inspected.target
        self.destination = inspected.open_destination.destination
        self.number = number
        self.lock = lock
        self.recipients = recipients

    async def run(self) -> DeliveryOutcome:
        """Deliver to the target, which may have changed since it was inspected; return the outcome.

        Failures are returned, not raised.
        """
        target, number, records = self.target, self.number, self.opened.records
        began = False
        inspection = self.inspected.inspection
        assert inspection
        try:
            self.lock.renew()
            target.before_write = self.lock.check
            if self.inspected.has_work(self.options):
                if not self._still_stands(inspection):
                    now = await self.opened.inspect(self.inspected.open_destination, target)
                    inspection = self._unless_moved(inspection, with_unmanaged(now, self.options))
                self._begin(inspection)
                began = True
                if inspection.plan.changes:
                    await self._write(inspection)
                    await self._read_back(inspection)
            state = await self._restart()
            did = inspection.plan.changes or state == RESTARTED
            outcome = outcome_of(self.inspected, inspection, DELIVERED if did else UP_TO_DATE, restart=state)
        except (CoinJarError, OSError) as raised:
            outcome = failed_outcome(self.inspected, as_fault(raised), inspection)
        if began:
            message = "\n".join([*target.notes.lines, *([outcome.fault.message] if outcome.fault else [])])
            records.set_part(number, target.key, state=FAILED if outcome.fault else DONE, notes=message)
        return outcome._replace(number=number)

    def _still_stands(self, inspection: TargetInspection) -> bool:
        """Return whether the inspection can be used as it is: made moments ago, and no delivery of ours since. What
        others change in these moments is seen at reading back, or by the platform's own condition. On a guarded stage
        nothing is written but what was shown.
        """
        recorded = self.opened.records.last(self.opened.stage, self.destination.name, self.target.key)
        is_recent = time.monotonic() - inspection.read_at <= RECENT
        return is_recent and not self.opened.is_guarded and recorded == inspection.plan_context.last_applied

    def _unless_moved(self, shown: TargetInspection, now: TargetInspection) -> TargetInspection:
        """Read the target again under the lock; it may have changed since it was shown.

        Raises ExternalError on a guarded stage.
        """
        if [(change.name, change.action, change.new) for change in shown.plan.changes] == [
            (change.name, change.action, change.new) for change in now.plan.changes
        ]:
            return now
        words = "it changed there after the change was shown"
        if self.opened.is_guarded:
            raise ExternalError(
                f"{words}, and nothing was written",
                hint="run it again, and review the change",
                code="moved",
                of=self.target.label,
            )
        self.target.notes.add(f"{words}: the present differences are written")
        return now

    def _begin(self, inspection: TargetInspection) -> None:
        """Record the changes and the previous values; from here on an interruption can be detected."""
        opened, target, destination = self.opened, self.target, self.destination
        if opened.records.unanswered(opened.stage, destination.name, target.key):
            target.notes.add("an earlier delivery requested its restart and was interrupted: it may happen twice")
        snapshot = None
        if inspection.plan.changes:
            place = snapshots.SnapshotPlace(
                opened.jar.recorded, opened.stage, destination.name, target.key, self.number
            )
            taken = snapshots.take(self.recipients(), inspection.live, target.desired_values)
            snapshot = snapshots.signed(opened.records_key(), place, taken)
        opened.records.begin_part(self.number, target.key, target.label, snapshot, inspection.plan.changes)
        if target.needs_restart:  # so that an interruption from here on is not forgotten
            waiting = {
                change.name: LastApplied("", change.live.version if change.live else "", in_effect=False)
                for change in inspection.plan.changes
            }
            opened.records.remember(self.number, opened.stage, destination.name, target.key, waiting, [])

    async def _write(self, inspection: TargetInspection) -> None:
        """Make the changes. After a lost response, and where somebody else was faster, read the target again and make
        those that are left; the latter at most MOST_ATTEMPTS times.
        """
        target, changes, live = self.target, inspection.plan.changes, inspection.live
        for attempt in range(1, MOST_ATTEMPTS + 1):
            try:
                await target.write(changes, live)
                return
            except (ResponseLost, TargetOutdated) as fault:
                is_lost = isinstance(fault, ResponseLost)
                if attempt == MOST_ATTEMPTS or (self.opened.is_guarded and not is_lost):
                    raise
                reason = f"a response was lost ({fault.lost})" if isinstance(fault, ResponseLost) else _FASTER
            self.lock.renew()
            live = await target.read()
            changes = self._left(inspection, live)
            target.notes.add(
                f"{reason}; {len(changes)} of {len(inspection.plan.changes)} changes were "
                f"{'made again' if is_lost else 'left'}"
            )
            if not changes:
                return

    def _left(self, inspection: TargetInspection, live: Mapping[str, LiveValue]) -> list[DeliveryChange]:
        """Return those of the changes that the target still needs."""
        context = inspection.plan_context
        again = inspection._replace(live=dict(live), plan=plan(self.target.desired_values, live, context))
        names = {change.name for change in inspection.plan.changes}
        return [change for change in with_unmanaged(again, self.options).plan.changes if change.name in names]

    async def _read_back(self, inspection: TargetInspection) -> None:
        """Check that everything that the jar wants there is there, and record what was written and read back."""
        target = self.target
        held_now = await target.read()
        wrong = [change for change in inspection.plan.changes if not took(change, held_now.get(change.name))]
        written = {change.name for change in inspection.plan.changes} - {change.name for change in wrong}
        moved = [name for name in inspection.plan.same + inspection.plan.trusted if _moved(inspection, held_now, name)]
        known: dict[str, LastApplied] = {}
        for name, desired in target.desired_values.items():
            if name in held_now and name not in moved and all(change.name != name for change in wrong):
                ran = (
                    name not in inspection.plan_context.last_applied
                    or inspection.plan_context.last_applied[name].in_effect
                )
                fingerprint = inspection.plan_context.fingerprint(name, desired.text)
                known[name] = LastApplied(
                    fingerprint,
                    held_now[name].version,
                    in_effect=not target.needs_restart or (ran and name not in written),
                )
        gone = [change.name for change in inspection.plan.changes if change.action == GONE and change.name in written]
        if target.needs_restart:  # the running program still has it
            known |= {name: LastApplied("", in_effect=False) for name in gone}
        self.opened.records.remember(self.number, self.opened.stage, self.destination.name, target.key, known, gone)
        names = ", ".join(change.name for change in wrong)
        message, hint = (
            f"it did not keep {names}: the value read back differs from the value written",
            "check whether something else writes there; `coinjar drift` shows the present values",
        )
        faults: list[CoinJarError] = (
            [ExternalError(message, hint=hint, code="read-back", of=target.label)] if wrong else []
        )
        if moved:
            message = f"somebody else changed {', '.join(moved)} there during the delivery"
            faults.append(ExternalError(message, hint="run it again", code="moved", of=target.label))
        raise_all(faults)

    async def _restart(self) -> str:
        """Restart if requested and needed; return the state."""
        opened, target, destination, number = self.opened, self.target, self.destination, self.number
        effect = await opened.effect(target, opened.records.last(opened.stage, destination.name, target.key))
        if effect.in_effect:
            opened.records.took_effect(opened.stage, destination.name, target.key)
            await target.settle()
            return ""
        if not self.options.restart or not target.restart_words():
            opened.records.set_part(number, target.key, restart=WAITS)
            return WAITS
        opened.records.set_part(number, target.key, restart=ASKED)
        try:
            await self._restart_once()
            after = await target.effect()
            if after is not None and not after.in_effect:
                message = "it restarted, but still does not use what was saved"
                raise ExternalError(message, hint="check its log", code="not-in-effect", of=target.label)
        except CoinJarError:
            opened.records.set_part(number, target.key, restart=WAITS)  # it failed, and was not interrupted
            raise
        opened.records.took_effect(opened.stage, destination.name, target.key)
        opened.records.set_part(number, target.key, restart=RESTARTED)
        await target.settle()
        return RESTARTED

    async def _restart_once(self) -> None:
        """Restart. Whether a restart happened whose response was lost is found out, for a while, before another one."""
        target = self.target
        try:
            await target.restart()
            return
        except ResponseLost as fault:
            lost = fault
        for pause in PAUSES:
            await asyncio.sleep(pause)
            state = await target.effect()
            if state is None:
                raise ExternalError(
                    f"a response was lost ({lost.lost}), and it does not report whether it restarted",
                    hint="check it there; then run it again, if it did not",
                    code="answer-lost",
                    of=target.label,
                )
            if state.in_effect:
                target.notes.add(f"a response was lost ({lost.lost}); it had restarted")
                return
        target.notes.add(f"a response was lost ({lost.lost}); it had not restarted, and was restarted again")
        await target.restart()


def _moved(inspection: TargetInspection, now: Mapping[str, LiveValue], name: str) -> bool:
    """Return whether a variable that we did not write is another one than when the target was inspected."""
    before, after = inspection.live.get(name), now.get(name)
    if before is None or after is None:
        return before is not after
    return before.text != after.text if after.text is not None else before.version != after.version
