"""Restarts and pipeline runs of a platform: the request, and polling until its end."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from coinjar.core.errors import CoinJarError, InputError
from coinjar.destinations.live.base import unreadable
from coinjar.destinations.live.patience import RequestPatience
from coinjar.destinations.live.polling import AWAITS_APPROVAL, PASSED, PipelineRun, watched
from coinjar.documents.json_data import MISSING, Data, as_text, resolve_pointer
from coinjar.platforms.requests import RestartRequest, WaitCondition

if TYPE_CHECKING:
    from coinjar.destinations.live.platform_target import PlatformTarget


class PlatformRuns:
    """Restarts a target, and runs its pipelines."""

    def __init__(self, target: PlatformTarget) -> None:
        self.target = target

    async def start_run(self, pipeline: str) -> Data:
        """Start a pipeline once; return the response, by which `watch_run` finds the run.

        Raises ExternalError; InputError if the platform has none.
        """
        if self.target.description.run is None:
            raise InputError(
                f"{self.target.description.name} has no pipelines",
                hint="use another destination",
                location=self.target.origin,
                code="no-pipelines",
            )
        return await self.target.send(self.target.description.run.request, {"pipeline": pipeline})

    async def watch_run(self, pipeline: str, started: Data, patience: float) -> PipelineRun:
        """Watch a started run for at most `patience` seconds; for 0 until it ends or waits for approval.

        Raises ExternalError if it failed.
        """
        assert self.target.description.run
        waiting = self.target.description.run.wait
        if waiting is None:
            return PipelineRun(PASSED, "")
        most = patience or self.target.made.restart_timeout
        state, data = await self._watched(waiting, {"pipeline": pipeline}, started, most, to_approval=not patience)
        log = resolve_pointer(data, waiting.log) if waiting.log else ""
        return PipelineRun(
            state, "\n".join(map(as_text, log)) if isinstance(log, list) else as_text("" if log is MISSING else log)
        )

    async def carry_out(self, what: RestartRequest, more: Mapping[str, Any]) -> None:
        started = await self.target.send(what.request, more)
        if what.wait is None:
            return
        state, _ = await self._watched(what.wait, more, started, self.target.made.restart_timeout)
        if state != PASSED:
            message = (
                "it waits for approval there"
                if state == AWAITS_APPROVAL
                else f"it did not end in {self.target.made.restart_timeout:.0f} s"
            )
            hint = (
                "check it there; what was saved stays. For more time set restart_timeout of "
                f"{self.target.made.destination.name}"
            )
            raise unreadable(self.target, message, hint)

    async def wait_until_free(self, waiting: WaitCondition, found: Data, patience: float) -> None:
        """Wait for the end of what the platform is busy with, which its answer contains."""
        note = (self.target.made.render_context.patience or RequestPatience()).note
        note(f"{self.target.label}: busy; waiting for the end of what it does")
        await self._watched(waiting, {}, found, patience)

    async def finish_write(self, waiting: WaitCondition, more: Mapping[str, Any], answer: Data) -> None:
        """Wait for the end of a write that was only accepted. Raises ExternalError if it failed or did not end."""
        if not self.target.can_fill(waiting.request, answer):
            return  # it was done at once
        patience = self.target.made.restart_timeout
        state, _ = await self._watched(waiting, more, answer, patience)
        if state != PASSED:
            hint = f"run it again later; for more time set restart_timeout of {self.target.made.destination.name}"
            raise unreadable(self.target, f"the write did not end in {patience:.0f} s", hint)

    async def _watched(
        self,
        waiting: WaitCondition,
        more: Mapping[str, Any],
        started: Data,
        patience: float,
        *,
        to_approval: bool = False,
    ) -> tuple[str, Data]:
        async def ask() -> Data:
            return await self.target.send(waiting.request, more, started)

        def failed(words: str) -> CoinJarError:
            return unreadable(self.target, f"it failed there: {words}", "check it there; what was saved stays")

        return await watched(ask, waiting, patience, failed, to_approval=to_approval)
