"""Deliver to live destinations: inspect, show, lock, inspect again if it was a while ago, write only what differs,
read back, record, restart.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import TypeVar

from coinjar.actions.delivery import snapshots
from coinjar.actions.delivery.live_stage import (
    LiveStage,
    OpenDestination,
    SuppliedValue,
    as_fault,
    bounded,
)
from coinjar.actions.delivery.outcome import (
    DELIVERED,
    FAILED_STATE,
    PLANNED,
    UP_TO_DATE,
    DeliveryOptions,
    DeliveryOutcome,
    InspectedTarget,
    failed_outcome,
    outcome_of,
    with_unmanaged,
)
from coinjar.actions.delivery.target_delivery import TargetDelivery
from coinjar.core.delivery import LastApplied
from coinjar.core.errors import CoinJarError
from coinjar.core.model import Destination
from coinjar.core.progress import Progress
from coinjar.destinations.live.base import Target
from coinjar.records.locks import DeliveryLock, clear_dead, held
from coinjar.records.queries import WAITS
from coinjar.records.store import DONE, FAILED

T = TypeVar("T")
_KEPT_OPEN = 256
"""Targets up to which connections are kept from reading to writing: a process has some 1,000 file handles."""


class Delivery:
    """One delivery to a stage; `run` does all of it."""

    def __init__(self, opened: LiveStage, options: DeliveryOptions, progress: Progress | None = None) -> None:
        self.opened = opened
        self.options = options
        self.progress = progress or (lambda _what, _done, _all: None)
        self.faults: dict[str, CoinJarError] = {}
        self.inspected: list[InspectedTarget] = []
        self._to: list[str] | None = None
        self._done = self._all = 0
        self.taken: list[SuppliedValue] = []
        self.recorded: list[str] = []

    async def run(
        self,
        ask: Callable[[], None] = lambda: None,
        report: Callable[[list[DeliveryOutcome]], None] = lambda _planned: None,
        *,
        dry_run: bool = False,
    ) -> list[DeliveryOutcome]:
        """Inspect, `report` what would change, `ask` before anything is written, deliver; close all connections.

        `ask` raises if the answer is no. With `dry_run` the reported outcomes are returned, and nothing is written.
        """
        with self.opened:
            try:
                await self.inspect()
                planned = self.planned()
                report(planned)
                if dry_run:
                    return planned
                if self.differs or self.options.restart:
                    ask()
                return await self.deliver()
            finally:
                for inspected in self.inspected:
                    await inspected.target.close()

    # -- inspecting

    async def inspect(self) -> list[InspectedTarget]:
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
                inspection = with_unmanaged(await self.opened.inspect(open_destination, target), self.options)
                inspected = InspectedTarget(open_destination, target, inspection, None)
            except (CoinJarError, OSError) as fault:
                inspected = InspectedTarget(open_destination, target, None, as_fault(fault))
            if len(pairs) > _KEPT_OPEN and target.reopens:
                await target.close()
            done += 1
            self.progress("reading", done, len(pairs))
            return inspected

        groups = [
            bounded(
                open_destination.instance.at_once,
                [one(open_destination, target) for target in open_destination.targets],
            )
            for open_destination in places
        ]
        for group in await asyncio.gather(*groups):
            self.inspected += [_unraised(item) for item in group]
        return self.inspected

    @property
    def differs(self) -> bool:
        """Return whether anything would be written."""
        return any(inspected.inspection and inspected.inspection.plan.changes for inspected in self.inspected)

    def planned(self) -> list[DeliveryOutcome]:
        """Return the outcomes of a dry run."""
        outcomes = [self._failed_destination(name, fault) for name, fault in self.faults.items()]
        for inspected in self.inspected:
            if inspected.inspection is None:
                assert inspected.fault
                outcomes.append(failed_outcome(inspected, inspected.fault))
            else:
                state = PLANNED if inspected.inspection.plan.changes else UP_TO_DATE
                waits = (
                    inspected.inspection.plan.changes and inspected.target.needs_restart
                ) or not inspected.inspection.effect.in_effect
                outcomes.append(outcome_of(inspected, inspected.inspection, state, restart=WAITS if waits else ""))
        return outcomes

    def _failed_destination(self, name: str, fault: CoinJarError) -> DeliveryOutcome:
        return DeliveryOutcome(name, "", name, FAILED_STATE, [], 0, 0, [], fault=fault)

    # -- writing

    async def deliver(self) -> list[DeliveryOutcome]:
        """Deliver to every target that could be inspected. A failure of one does not stop others."""
        outcomes = [self._failed_destination(name, fault) for name, fault in self.faults.items()]
        self.taken = self.opened.record_supplied()
        work = [inspected for inspected in self.inspected if inspected.inspection is not None]
        outcomes += [
            failed_outcome(inspected, inspected.fault) for inspected in self.inspected if inspected.fault is not None
        ]
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

    def _lock_name(self, destination: str) -> str:
        """Return the name of the lock of a destination: the same before and after a rename of the stage."""
        return f"{destination}/{self.opened.jar.recorded.stage(self.opened.stage)}"

    async def _to_destination(self, seen: list[InspectedTarget]) -> list[DeliveryOutcome]:
        """Deliver to all targets of one destination, under its lock."""
        open_destination = seen[0].open_destination
        destination = open_destination.destination
        if not any(inspected.has_work(self.options) for inspected in seen):
            if dead := clear_dead(self.opened.records, self._lock_name(destination.name)):
                self.opened.records.mark_interrupted(self.opened.stage, destination.name)
                seen[0].target.notes.add(f"the delivery of {dead} was interrupted, but is complete")
            for inspected in seen:
                self._remember_what_is_right(destination, inspected)
            return [
                outcome_of(inspected, inspected.inspection, UP_TO_DATE, restart=inspected.pending_restart)
                for inspected in seen
                if inspected.inspection
            ]
        try:
            async with held(self.opened.records, self._lock_name(destination.name), self.options.patience) as lock:
                number = self.opened.records.begin(self.opened.stage, destination.name, self.options.undoes)
                if lock.taken_from:
                    seen[0].target.notes.add(
                        f"took over the lock of {lock.taken_from}, whose process has ended: that delivery was "
                        "interrupted"
                    )
                done = [
                    _unraised(item)
                    for item in await bounded(
                        open_destination.instance.at_once,
                        [self._to_target(number, inspected, lock) for inspected in seen],
                    )
                ]
                failed = any(outcome.state == FAILED_STATE for outcome in done)
                self.opened.records.end(number, FAILED if failed else DONE)
                return done
        except CoinJarError as fault:
            return [failed_outcome(inspected, fault) for inspected in seen]

    async def _to_target(self, number: int, inspected: InspectedTarget, lock: DeliveryLock) -> DeliveryOutcome:
        outcome = await TargetDelivery(self.opened, self.options, inspected, number, lock, self._recipients).run()
        if len(self.inspected) > _KEPT_OPEN and inspected.target.reopens:
            await inspected.target.close()
        self._done += 1
        self.progress("delivering", self._done, self._all)
        return outcome

    def _recipients(self) -> list[str]:
        if self._to is None:
            self._to = snapshots.recipients(self.opened.opened, self.opened.jar, self.opened.stage)
        return self._to

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


def _unraised(item: T | BaseException) -> T:
    """Return a result; an unexpected exception is raised."""
    if isinstance(item, BaseException):
        raise item
    return item
