"""Write the changes of a delivery to a platform, in the way that its description says."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import quote

from coinjar.core.delivery import GONE, DeliveryChange, LiveValue
from coinjar.core.errors import CoinJarError, ExternalError, raise_all
from coinjar.core.secret import reveal
from coinjar.destinations.live.base import TargetOutdated
from coinjar.destinations.live.http import HttpStatusError, Request
from coinjar.documents.json_data import MISSING, Data, as_text, resolve_pointer
from coinjar.platforms.conditions import all_hold
from coinjar.platforms.requests import BatchRequest, RequestTemplate
from coinjar.platforms.templating import fill_body

if TYPE_CHECKING:
    from coinjar.destinations.live.platform_target import PlatformTarget

MASK = "••••"


class _Step(NamedTuple):
    """A request that is filled when it is sent, since it may carry what the one before it returned."""

    sending: RequestTemplate
    more: Mapping[str, Any]
    at_hand: Data = None
    removes: bool = False
    batch: BatchRequest | None = None


class PlatformWriter:
    """Writes to one target."""

    def __init__(self, target: PlatformTarget) -> None:
        self.target = target
        self.how = target.description.writing

    # -- which requests

    def _groups(
        self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue], *, shown: bool = False
    ) -> Iterator[list[_Step]]:
        """Yield the requests, grouped where one must follow another; for display secrets are masked."""
        if self.how.changes:
            values = {self._there(change): self._new(change, shown=shown) for change in changes}
            yield [_Step(self.how.changes, {"changes": values})]
        elif self.how.whole:
            yield [_Step(self.how.whole, {"everything": self._everything(changes, live, shown=shown)})]
        elif self.how.batch:
            yield from self._batches(self.how.batch, changes, shown=shown)
        else:
            for change in changes:
                yield self._single(change, shown=shown)

    def _there(self, change: DeliveryChange) -> str:
        """Return the name there of a changed variable."""
        handle = change.live.handle if change.live is not None else None
        return str(getattr(handle, "name", None) or self.target.description.spelling.there(change.name))

    def _new(self, change: DeliveryChange, *, shown: bool) -> str | None:
        if change.action == GONE:
            return "" if self.how.remove_by == "empty" else None
        return _text(change.new, secret=change.secret, shown=shown) or ""

    def _everything(
        self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue], *, shown: bool
    ) -> dict[str, str]:
        """Return the whole new set by names there: the jar's, and what others have set there."""
        target = self.target
        gone = {change.name for change in changes if change.action == GONE}
        result = {}
        for name, live_value in live.items():
            if name not in target.desired_values and name not in gone and not live_value.supplied:
                named = str(getattr(live_value.handle, "name", None) or name)
                result[named] = _text(live_value.text, secret=live_value.secret, shown=shown) or ""
        for desired in target.desired_values.values():
            named = target.description.spelling.there(desired.name)
            result[named] = _text(desired.text, secret=desired.secret, shown=shown) or ""
        return result

    def _more(self, change: DeliveryChange, *, shown: bool) -> tuple[dict[str, Any], Data]:
        """Return the placeholders of one change, and the listed item."""
        handle = change.live.handle if change.live is not None else None
        at_hand, others = getattr(handle, "data", None), getattr(handle, "others", [])
        own = self.target.context["stage"]
        more = {
            "name": self._there(change),
            "value": _text(change.new, secret=change.secret, shown=shown),
            "secret": change.secret,
            "shown": not change.secret,
            "stages": [own] if own is not None else [],
            "others": others,
        }
        for name, (secret, plain) in self.target.description.by_secrecy.items():
            more[name] = secret if change.secret else plain
        return more, at_hand

    def _single(self, change: DeliveryChange, *, shown: bool) -> list[_Step]:
        more, at_hand = self._more(change, shown=shown)
        assert self.how.create
        assert self.how.remove
        create = [_Step(self.how.create, more)] if change.action != GONE else []
        if more["others"] and self.how.narrow:  # it stays for the other stages
            return [_Step(self.how.narrow, more, at_hand), *create]
        if change.action == GONE:
            return [_Step(self.how.remove, more, at_hand, removes=True)]
        if change.live is not None and self.how.change:
            return [_Step(self.how.change, more, at_hand)]
        return create

    def _batches(self, batch: BatchRequest, changes: Sequence[DeliveryChange], *, shown: bool) -> Iterator[list[_Step]]:
        """Yield lists of at most `at_most` changes: first what is removed, since its name may be needed again."""
        ordered = sorted(changes, key=lambda change: change.action != GONE)
        size = batch.at_most or len(ordered)
        for start in range(0, len(ordered), size):
            items = []
            for change in ordered[start : start + size]:
                more, at_hand = self._more(change, shown=shown)
                template = batch.remove_item if change.action == GONE else batch.set_item
                items.append(fill_body(template, {**self.target.context, **self.target.kept, **more}, at_hand))
            yield [_Step(batch.request, {"items": items}, batch=batch)]

    # -- showing and sending

    def steps(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> list[str]:
        """Return the requests for display, secrets and tokens masked."""
        target, description = self.target, self.target.description
        has_token = target.made.token is not None and description.token_header
        token = f"   {description.token_header}: {description.token_text.replace('{token}', MASK)}" if has_token else ""
        lines = []
        for step in [step for group in self._groups(changes, live, shown=True) for step in group]:
            ask = target.ask(step.sending, step.more, step.at_hand)
            headers = "".join(f"   {name}: {ask.headers[name]}" for name in step.sending.headers if name in ask.headers)
            body = f"   {json.dumps(ask.body, ensure_ascii=False)}" if ask.body is not None else ""
            form = f"   {ask.content.decode().replace(quote(MASK), MASK)}" if ask.content is not None else ""
            address = target.context["address"].rstrip("/")
            lines.append(f"{ask.method} {address}{ask.shown_path}{token}{headers}{body}{form}")
        return lines

    async def write(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> None:
        """Send the requests.

        Raises TargetOutdated if somebody changed the target since it was read, ResponseLost, ExternalError.
        """
        if not changes:
            return
        groups = list(self._groups(changes, live))
        if any(step.sending.keep for group in groups for step in group):  # each carries what the one before it returned
            for group in groups:
                await self._send(group)
            return
        done = await asyncio.gather(*(self._send(group) for group in groups), return_exceptions=True)
        failed = [item for item in done if isinstance(item, BaseException)]
        if others := [error for error in failed if not isinstance(error, CoinJarError)]:
            raise others[0]
        raise_all([error for error in failed[:1] if isinstance(error, CoinJarError)])

    async def _send(self, group: Sequence[_Step]) -> None:
        target = self.target
        for step in group:
            target.before_write()
            request = target.ask(step.sending, step.more, step.at_hand)
            if step.removes:
                request = request._replace(absent=target.description.gone)
            try:
                response = await target.exchange(step.sending, request)
            except HttpStatusError as fault:
                if fault.status in target.description.outdated:
                    raise TargetOutdated(target.label, fault.message, target.origin) from None
                raise
            if self.how.wait:
                await target.runs.finish_write(self.how.wait, {}, response.data)
            if step.batch:
                self._require_all(step.batch, request, response.data)

    def _require_all(self, batch: BatchRequest, request: Request, data: Data) -> None:
        """Raise ExternalError with the items of a batch that were refused, and why."""
        outcomes = resolve_pointer(data, batch.results) if batch.failed else []
        if not isinstance(outcomes, list):
            words = (
                f"the response has no list of outcomes at '{batch.results}', which {batch.request.location} requires"
            )
            raise ExternalError(
                words, hint="correct the description", location=self.target.origin, code="shape", of=self.target.label
            )
        failed = []
        for outcome in outcomes:
            if all_hold(batch.failed, outcome):
                name, message = (resolve_pointer(outcome, pointer) for pointer in (batch.name, batch.message))
                named = as_text(name) if name is not MISSING else "an item"
                why = f" ({as_text(message)})" if batch.message and message is not MISSING else ""
                failed.append(named + why)
        if failed:
            shown = self.target.credentials.redacted("; ".join(failed))
            named = f"{request.method} {request.shown_path}"
            words = f"{named} refused {len(failed)} of {len(outcomes)} changes: {shown}"
            raise ExternalError(
                words,
                hint="correct these; the others were made",
                location=self.target.origin,
                code="refused",
                of=self.target.label,
            )


def _text(value: str | None, *, secret: bool, shown: bool) -> str | None:
    return value if value is None else MASK if shown and secret and value else reveal(value)
