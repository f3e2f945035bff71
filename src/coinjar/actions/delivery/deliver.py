"""Deliver to live destinations: inspect, show, lock, inspect again, write only what differs, read back, record,
restart.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import NamedTuple, TypeVar

from coinjar.actions.delivery import snapshots
from coinjar.actions.delivery.live_stage import (
    LiveStage,
    OpenDestination,
    SuppliedValue,
    TargetInspection,
    as_fault,
    bounded,
)
from coinjar.actions.delivery.outcome import (
    DELIVERED,
    FAILED_STATE,
    PLANNED,
    UP_TO_DATE,
    DeliveryOutcome,
    InspectedTarget,
    _failed,
    _outcome,
    took,
)
from coinjar.core.delivery import GONE, DeliveryChange, LastApplied, plan
from coinjar.core.errors import CoinJarError, ExternalError, raise_all
from coinjar.core.model import Destination
from coinjar.destinations.live.base import ResponseLost, Target
from coinjar.records.locks import DeliveryLock, clear_dead, held
from coinjar.records.store import ASKED, DONE, FAILED, RESTARTED, WAITS

T = TypeVar("T")
Progress = Callable[[str, int, int], None]
"""Called with the present step, and how many of how many targets are finished."""


class DeliveryOptions(NamedTuple):
    """How to deliver. `patience`: seconds to wait for a lock; `undoes`: the number of the delivery to undo."""

    restart: bool = False
    patience: float = 0
    undoes: int | None = None
    remove_extra: bool = False


class Delivery:
    """One run of `deliver`: `look` first, then `carry_out` (or nothing, for a dry run)."""

    def __init__(self, opened: LiveStage, options: DeliveryOptions, progress: Progress | None = None) -> None:
        self.opened = opened
        self.options = options
        self.progress = progress or (lambda _what, _done, _all: None)
        self.faults: dict[str, CoinJarError] = {}
        self.seen: list[InspectedTarget] = []
        self._to: list[str] | None = None
        self._done = self._all = 0
        self.taken: list[SuppliedValue] = []
        self.recorded: list[str] = []

    async def run(
        self,
        ask: Callable[[], None],
        report: Callable[[list[DeliveryOutcome]], None],
        *,
        dry_run: bool = False,
    ) -> list[DeliveryOutcome]:
        """Inspect, `report` what would change, `ask` before anything is written, deliver; close all connections.

        `ask` raises if the answer is no. With `dry_run` the reported outcomes are returned, and nothing is written.
        """
        try:
            await self.look()
            planned = self.planned()
            report(planned)
            if dry_run:
                return planned
            if self.differs or self.options.restart:
                ask()
            return await self.carry_out()
        finally:
            await self.close()

    # -- inspecting

    async def look(self) -> list[InspectedTarget]:
        """Read all targets, and compute their changes."""
        self.faults |= await self.opened.take_supplied()
        places, faults = self.opened.places(
            [destination for destination in self.opened.chosen if destination.name not in self.faults]
        )
        self.faults |= faults
        pairs = [(open_destination, target) for open_destination in places for target in open_destination.targets]
        done = 0

        async def one(open_destination: OpenDestination, target: Target) -> InspectedTarget:
            nonlocal done
            try:
                inspected = InspectedTarget(
                    open_destination, target, self._with_extra(await self.opened.look(open_destination, target)), None
                )
            except (CoinJarError, OSError) as fault:
                inspected = InspectedTarget(open_destination, target, None, as_fault(fault))
            done += 1
            self.progress("looking", done, len(pairs))
            return inspected

        groups = [
            bounded(
                open_destination.instance.at_once,
                [one(open_destination, target) for target in open_destination.targets],
            )
            for open_destination in places
        ]
        for group in await asyncio.gather(*groups):
            self.seen += [_unraised(item) for item in group]
        return self.seen

    def _with_extra(self, inspection: TargetInspection) -> TargetInspection:
        """Return the plan, including the removal of unmanaged variables if requested."""
        if self.options.remove_extra:
            changes = list(inspection.plan.changes)
            changes += [
                DeliveryChange(
                    name, GONE, inspection.live[name].text, None, inspection.live[name].secret, inspection.live[name]
                )
                for name in inspection.plan.extra
            ]
            return inspection._replace(plan=inspection.plan._replace(changes=changes, extra=[]))
        return inspection

    @property
    def differs(self) -> bool:
        """Return whether anything would be written."""
        return any(inspected.inspection and inspected.inspection.plan.changes for inspected in self.seen)

    def planned(self) -> list[DeliveryOutcome]:
        """Return the outcomes of a dry run."""
        outcomes = [self._failed_destination(name, fault) for name, fault in self.faults.items()]
        for inspected in self.seen:
            if inspected.inspection is None:
                assert inspected.fault
                outcomes.append(_failed(inspected, inspected.fault))
            else:
                state = PLANNED if inspected.inspection.plan.changes else UP_TO_DATE
                waits = (
                    inspected.inspection.plan.changes and inspected.target.needs_restart
                ) or not inspected.inspection.effect.in_effect
                outcomes.append(_outcome(inspected, inspected.inspection, state, restart=WAITS if waits else ""))
        return outcomes

    def _failed_destination(self, name: str, fault: CoinJarError) -> DeliveryOutcome:
        return DeliveryOutcome(name, "", name, FAILED_STATE, [], 0, 0, [], fault=fault)

    # -- writing

    async def carry_out(self) -> list[DeliveryOutcome]:
        """Deliver to every target that could be inspected. A failure of one does not stop others."""
        outcomes = [self._failed_destination(name, fault) for name, fault in self.faults.items()]
        self.taken = self.opened.record_supplied()
        work = [inspected for inspected in self.seen if inspected.inspection is not None]
        outcomes += [_failed(inspected, inspected.fault) for inspected in self.seen if inspected.fault is not None]
        by_place: dict[str, list[InspectedTarget]] = {}
        for inspected in work:
            by_place.setdefault(inspected.open_destination.destination.name, []).append(inspected)
        self._done, self._all = 0, len(work)
        for group in await asyncio.gather(*(self._to_destination(inspected) for inspected in by_place.values())):
            outcomes += group
        order = [destination.name for destination in self.opened.chosen]
        good = {(outcome.destination, outcome.key) for outcome in outcomes if outcome.state in (DELIVERED, UP_TO_DATE)}
        accounts = {
            (inspected.open_destination.destination.name, key): inspected.inspection.account
            for inspected in work
            if inspected.inspection
            and (inspected.open_destination.destination.name, inspected.target.key) in good
            and (key := inspected.open_destination.instance.account_key(self.opened.stage, inspected.target))
            not in inspected.open_destination.instance.accounts
        }
        self.recorded = self.opened.record_accounts(accounts)
        return sorted(outcomes, key=lambda outcome: order.index(outcome.destination))

    async def close(self) -> None:
        """Close all connections."""
        for inspected in self.seen:
            await inspected.target.close()
        self.opened.records.close()

    async def _to_destination(self, seen: list[InspectedTarget]) -> list[DeliveryOutcome]:
        """Deliver to all targets of one destination, under its lock."""
        open_destination = seen[0].open_destination
        destination = open_destination.destination
        if not any(self._has_work(inspected) for inspected in seen):
            if dead := clear_dead(self.opened.records, f"{destination.name}/{self.opened.stage}"):
                self.opened.records.mark_interrupted(self.opened.stage, destination.name)
                seen[0].target.notes.add(f"the delivery of {dead} was interrupted, but is complete")
            for inspected in seen:
                self._remember_what_is_right(destination, inspected)
            return [
                _outcome(inspected, inspected.inspection, UP_TO_DATE, restart=self._waits(inspected))
                for inspected in seen
                if inspected.inspection
            ]
        try:
            async with held(
                self.opened.records, f"{destination.name}/{self.opened.stage}", self.options.patience
            ) as lock:
                number = self.opened.records.begin(self.opened.stage, destination.name, self.options.undoes)
                if lock.taken_from:
                    seen[0].target.notes.add(
                        f"took over the lock of {lock.taken_from}, whose process has ended: that delivery was "
                        "interrupted"
                    )
                done = [
                    _unraised(item)
                    for item in await bounded(
                        open_destination.instance.at_once, [self._one(number, inspected, lock) for inspected in seen]
                    )
                ]
                failed = any(outcome.state == FAILED_STATE for outcome in done)
                self.opened.records.end(number, FAILED if failed else DONE)
                return done
        except CoinJarError as fault:
            return [_failed(inspected, fault) for inspected in seen]

    def _has_work(self, inspected: InspectedTarget) -> bool:
        assert inspected.inspection
        return bool(inspected.inspection.plan.changes) or (
            self.options.restart and not inspected.inspection.effect.in_effect
        )

    def _waits(self, inspected: InspectedTarget) -> str:
        assert inspected.inspection
        return WAITS if not inspected.inspection.effect.in_effect else ""

    async def _one(self, number: int, inspected: InspectedTarget, lock: DeliveryLock) -> DeliveryOutcome:
        """Deliver to one target, which may have changed since it was inspected."""
        open_destination, target = inspected.open_destination, inspected.target
        began = False
        inspection = inspected.inspection
        assert inspection
        try:
            lock.renew()
            target.before_write = lock.check
            if self._has_work(inspected):
                inspection = self._unless_moved(
                    target, inspection, self._with_extra(await self.opened.look(open_destination, target))
                )
                began = self._begin(number, inspected, inspection)
                if inspection.plan.changes:
                    await self._write(inspected, inspection, lock)
                    await self._read_back(number, inspected, inspection)
            state = await self._restart(number, inspected)
            did = inspection.plan.changes or state == RESTARTED
            outcome = _outcome(inspected, inspection, DELIVERED if did else UP_TO_DATE, restart=state)._replace(
                number=number
            )
        except (CoinJarError, OSError) as raised:
            outcome = _failed(inspected, as_fault(raised), inspection)._replace(number=number)
        if began:
            message = "\n".join([*target.notes.lines, *([outcome.fault.message] if outcome.fault else [])])
            self.opened.records.set_part(number, target.key, state=FAILED if outcome.fault else DONE, notes=message)
        self._done += 1
        self.progress("delivering", self._done, self._all)
        return outcome

    def _unless_moved(self, target: Target, shown: TargetInspection, now: TargetInspection) -> TargetInspection:
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
                of=target.label,
            )
        target.notes.add(f"{words}: the present differences are written")
        return now

    def _begin(self, number: int, inspected: InspectedTarget, inspection: TargetInspection) -> bool:
        """Record the changes and the previous values; from here on an interruption can be detected."""
        opened, target = self.opened, inspected.target
        if opened.records.unanswered(opened.stage, inspected.open_destination.destination.name, target.key):
            target.notes.add("an earlier delivery requested its restart and was interrupted: it may happen twice")
        snapshot = (
            snapshots.take(self._recipients(), inspection.live, target.desired_values)
            if inspection.plan.changes
            else None
        )
        opened.records.begin_part(number, target.key, target.label, snapshot, inspection.plan.changes)
        if target.needs_restart:  # so that an interruption from here on is not forgotten
            waiting = {
                change.name: LastApplied("", change.live.version if change.live else "", in_effect=False)
                for change in inspection.plan.changes
            }
            opened.records.remember(
                number, opened.stage, inspected.open_destination.destination.name, target.key, waiting, []
            )
        return True

    def _recipients(self) -> list[str]:
        if self._to is None:
            self._to = snapshots.recipients(self.opened.opened, self.opened.jar, self.opened.stage)
        return self._to

    async def _write(self, inspected: InspectedTarget, inspection: TargetInspection, lock: DeliveryLock) -> None:
        target = inspected.target
        try:
            await target.write(inspection.plan.changes)
        except ResponseLost as fault:
            lock.renew()
            held_now = await target.read()
            left = self._with_extra(
                inspection._replace(live=held_now, plan=plan(target.desired_values, held_now, inspection.plan_context))
            ).plan.changes
            left = [change for change in left if any(change.name == other.name for other in inspection.plan.changes)]
            target.notes.add(
                f"a response was lost ({fault.lost}); {len(left)} of {len(inspection.plan.changes)} changes were "
                "made again"
            )
            if left:
                await target.write(left)

    async def _read_back(self, number: int, inspected: InspectedTarget, inspection: TargetInspection) -> None:
        """Check that what was written is there, and record it."""
        target, destination, stage = inspected.target, inspected.open_destination.destination, self.opened.stage
        held_now = await target.read()
        wrong = [change for change in inspection.plan.changes if not took(change, held_now.get(change.name))]
        written = {change.name for change in inspection.plan.changes} - {change.name for change in wrong}
        known: dict[str, LastApplied] = {}
        for name, desired in target.desired_values.items():
            if name in held_now and all(change.name != name for change in wrong):
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
        self.opened.records.remember(number, stage, destination.name, target.key, known, gone)
        names = ", ".join(change.name for change in wrong)
        words, hint = (
            f"it did not keep {names}: the value read back differs from the value written",
            "check whether something else writes there; `coinjar drift` shows the present values",
        )
        raise_all([ExternalError(words, hint=hint, code="read-back", of=target.label)] if wrong else [])

    def _remember_what_is_right(self, destination: Destination, inspected: InspectedTarget) -> None:
        """Record values that are up to date without a delivery of ours as delivered, so that a later change there is
        detected.
        """
        assert inspected.inspection
        plan_context = inspected.inspection.plan_context
        new = {
            name: LastApplied(
                plan_context.fingerprint(name, inspected.target.desired_values[name].text),
                inspected.inspection.live[name].version,
            )
            for name in inspected.inspection.plan.same
            if name not in plan_context.last_applied
        }
        if new:
            self.opened.records.remember(0, self.opened.stage, destination.name, inspected.target.key, new, [])

    async def _restart(self, number: int, inspected: InspectedTarget) -> str:
        """Restart if requested and needed; return the state."""
        opened, target, destination = self.opened, inspected.target, inspected.open_destination.destination
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
            await target.restart()
        except ResponseLost as fault:
            target.notes.add(
                f"a response was lost ({fault.lost}); the restart was requested again, and may happen twice"
            )
            await target.restart()
        after = await target.effect()
        if after is not None and not after.in_effect:
            words = "it restarted, but still does not use what was saved"
            raise ExternalError(words, hint="check its log", code="not-in-effect", of=target.label)
        opened.records.took_effect(opened.stage, destination.name, target.key)
        opened.records.set_part(number, target.key, restart=RESTARTED)
        await target.settle()
        return RESTARTED


def _unraised(item: T | BaseException) -> T:
    """Return a result; an unexpected exception is raised."""
    if isinstance(item, BaseException):
        raise item
    return item
