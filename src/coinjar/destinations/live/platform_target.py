"""One app, or one stage of a project, on a platform."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from coinjar.core.delivery import GONE, DeliveryChange, DesiredValue, LiveValue
from coinjar.core.errors import CoinJarError, InputError, raise_all
from coinjar.core.names import SHARED, matches
from coinjar.core.placeholders import fill
from coinjar.core.secret import reveal
from coinjar.destinations.live.base import NOW, RestartState, Target, unreadable
from coinjar.destinations.live.http import HttpClient, Request, Response
from coinjar.destinations.live.platform_runs import PlatformRuns
from coinjar.destinations.stage_view import StageView
from coinjar.documents.json_data import MISSING, Data, as_text, resolve_pointer
from coinjar.platforms.limits import unsupported_variables
from coinjar.platforms.requests import ListRequest, RequestTemplate
from coinjar.platforms.templating import MissingValue, fill_body, fill_path

if TYPE_CHECKING:
    from coinjar.destinations.live.platform import PlatformDestination

_MASK = "••••"

_MOST_PAGES = 1_000
"""Maximum number of pages of one list; a service that always names another one must not keep us."""


class _ListedVariable(NamedTuple):
    """A listed variable as its platform returned it, and the other stages that it is for."""

    data: Data
    others: list[str]


class PlatformTarget(Target):
    """One app, or one stage of a project."""

    def __init__(
        self,
        platform: PlatformDestination,
        view: StageView,
        services: Sequence[str],
        desired_values: Mapping[str, DesiredValue],
    ) -> None:
        self.made = platform
        self.description = platform.description
        own = services[0] if self.description.one_for == "service" and services else ""
        stage = platform.stage_names.get(view.stage, view.stage)
        self.context: dict[str, Any] = {"stage": None if view.stage == SHARED else stage, "service": own}
        for key, value in platform.settings.items():
            self.context[key] = fill(value, stage=stage, service=own)
        where = self.context.get("app") or self.context.get("project") or ""
        label = f"{platform.destination.name} ({where})" if where else platform.destination.name
        super().__init__(own, label, services, desired_values, platform.destination.location)
        self.stages_share = self.description.carried
        self.needs_restart = self.description.in_effect == "next-deploy"
        self.view = view
        self._client: HttpClient | None = None
        self.runs = PlatformRuns(self)

    @property
    def client(self) -> HttpClient:
        """The client with the token; created with the first request."""
        if self._client is None:
            self._client = self._new_client()
        return self._client

    def _new_client(self) -> HttpClient:
        for name in self.made.unset:
            raise InputError(
                f"{self.label}: the environment has no {name}",
                hint=f"set {name} where coinjar runs",
                location=self.origin,
                code="unset",
            )
        token = self.made.token.text(self.view.resolver) if self.made.token else None
        hidden = [desired.text for desired in self.desired_values.values() if desired.secret] + (
            [token] if token else []
        )
        headers = (
            {self.description.token_header: self.description.token_text.replace("{token}", reveal(token))}
            if token
            else {}
        )
        return HttpClient(
            self.context["address"],
            headers,
            self.label,
            self.origin,
            hidden=hidden,
            transport=self.made.render_context.transport,
        )

    async def close(self) -> None:
        if self._client is not None:
            await self._client.close()

    def unsupported_variables(self) -> list[CoinJarError]:
        errors: list[CoinJarError] = []
        for unsupported in unsupported_variables(self.description, self.desired_values):
            variable = self.made.render_context.jar.variables.get(unsupported.name)
            words, code = (
                f"{unsupported.name + ': ' if unsupported.name else ''}{unsupported.reason}",
                "name-taken" if unsupported.taken else "over-the-limits",
            )
            errors.append(
                InputError(
                    words,
                    hint=unsupported.hint,
                    location=variable.location if variable else self.origin,
                    code=code,
                    of=self.label,
                )
            )
        return errors

    # -- requests

    def ask(self, sending: RequestTemplate, more: Mapping[str, Any] = {}, at_hand: Data = None) -> Request:
        context = {**self.context, **more}
        try:
            return Request(
                sending.method,
                fill_path(sending.path, context, at_hand),
                fill_body(sending.body, context, at_hand) if sending.body is not None else None,
                sending.repeat,
            )
        except MissingValue as fault:
            words = f"the response has no {fault}, which {sending.location} requires"
            raise unreadable(self, words, "correct the description, or check the service's response") from None

    async def _send(self, sending: RequestTemplate, at_hand: Data = None) -> Data:
        return (await self.client.send(self.ask(sending, at_hand=at_hand))).data

    async def identity(self) -> str:
        assert self.description.account, "a description without it is refused"
        sending, words = self.description.account
        data = await self._send(sending)
        try:
            return as_text(fill_body(words, self.context, data))
        except MissingValue as fault:
            raise unreadable(
                self, f"the response has no {fault}, which identifies the account", "correct account in the description"
            ) from None

    # -- reading

    async def _pages(self, listing: ListRequest) -> AsyncIterator[Data]:
        following: Any = 1 if listing.next_page else None
        path: str | None = None
        for _ in range(_MOST_PAGES):
            ask = self.ask(listing.request, {"next": following})
            answer: Response = await self.client.send(ask._replace(path=path) if path else ask)
            yield answer.data
            if listing.next_link:
                path = answer.next
                if path is None:
                    return
            elif listing.next_page:
                if not resolve_pointer(answer.data, listing.items):
                    return
                following += 1
            else:
                following = resolve_pointer(answer.data, listing.next_at) if listing.next_at else None
                if following is MISSING or following in (None, "", False):
                    return
        raise unreadable(self, f"the list has more than {_MOST_PAGES:,} pages", "check the paging of the service")

    async def read(self) -> dict[str, LiveValue]:
        listing = self.description.listing
        assert listing, "a description without it is refused"
        result: dict[str, LiveValue] = {}
        async for page in self._pages(listing):
            there = resolve_pointer(page, listing.items)
            if not isinstance(there, dict if listing.form == "map" else list):  # an empty list is not the same as none
                what = "object" if listing.form == "map" else "list"
                words = f"the response has no {what} at '{listing.items}', which {listing.request.location} requires"
                raise unreadable(self, words, "correct the description, or check the service's response")
            if isinstance(there, dict):
                result |= {
                    name: self._held(name, as_text(value), None) for name, value in there.items() if value is not None
                }
            else:
                for item in there:
                    self._take(listing, item, result)
        return result

    def _take(self, listing: ListRequest, item: Data, result: dict[str, LiveValue]) -> None:
        """Add one listed variable, if it is for our stage or for all; the narrower takes effect."""
        name = resolve_pointer(item, listing.name)
        stages = resolve_pointer(item, listing.stages) if listing.stages else MISSING
        named = [
            str(stage)
            for stage in (stages if isinstance(stages, list) else [stages])
            if stage not in (MISSING, None, "")
        ]
        own = self.context["stage"]
        wide = bool(listing.stages) and not named
        if not isinstance(name, str) or (listing.stages and not wide and own not in named):
            return
        is_ours = not wide or own is None
        hidden = bool(listing.hidden) and resolve_pointer(item, listing.hidden) is True
        hidden = hidden or (bool(listing.shown) and resolve_pointer(item, listing.shown) is False)
        value = resolve_pointer(item, listing.value)
        text = None if hidden or value in (MISSING, None) else as_text(value)
        current = self._held(name, text, item)
        secret = (
            current.secret or hidden or (resolve_pointer(item, listing.secret) is True if listing.secret else False)
        )
        mark = resolve_pointer(item, listing.mark) if listing.mark else MISSING
        supplied = current.supplied or (bool(listing.supplied) and resolve_pointer(item, listing.supplied) is True)
        marked = "" if mark is MISSING else as_text(mark)
        live_value = current._replace(
            secret=secret,
            supplied=supplied,
            version=marked,
            inherited=not is_ours,
            handle=_ListedVariable(item, [stage for stage in named if stage != own]),
        )
        other = result.get(name)
        if is_ours:
            result[name] = live_value._replace(enclosing=other if other and other.inherited else None)
        else:
            result[name] = other._replace(enclosing=live_value) if other else live_value

    def _held(self, name: str, value: str | None, handle: object) -> LiveValue:
        variable = self.made.render_context.jar.variables.get(name)
        secret = self.made.render_context.is_secret(name, value or "")
        taken = matches(name, self.description.supplied) or (
            variable is not None and self.made.destination.name in variable.supplied_by
        )
        return LiveValue(name, value, secret, taken or matches(name, self.description.reserved), handle=handle)

    # -- writing

    def _asks(
        self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue], *, shown: bool
    ) -> Iterator[list[Request]]:
        """Return the requests, grouped where one must follow another; for display secrets are masked."""

        def text(value: str | None, *, secret: bool) -> str | None:
            return value if value is None or not (shown and secret and value) else _MASK

        how = self.description.writing
        nothing = "" if how.remove_by == "empty" else None
        own = self.context["stage"]
        if how.changes:
            values = {
                change.name: nothing if change.action == GONE else reveal(text(change.new, secret=change.secret) or "")
                for change in changes
            }
            yield [self.ask(how.changes, {"changes": values})]
            return
        if how.whole:
            gone = {change.name for change in changes if change.action == GONE}
            kept = [
                live_value
                for name, live_value in live.items()
                if name not in self.desired_values and name not in gone and not live_value.supplied
            ]
            everything = {
                live_value.name: reveal(text(live_value.text, secret=live_value.secret) or "") for live_value in kept
            }
            everything |= {
                desired.name: reveal(text(desired.text, secret=desired.secret) or "")
                for desired in self.desired_values.values()
            }
            yield [self.ask(how.whole, {"everything": everything})]
            return
        assert how.create
        assert how.remove
        for change in changes:
            item = change.live.handle if change.live is not None else None
            at_hand, others = (item.data, item.others) if isinstance(item, _ListedVariable) else (None, [])
            more = {
                "name": change.name,
                "value": text(change.new, secret=change.secret),
                "secret": change.secret,
                "shown": not change.secret,
                "stages": [own] if own is not None else [],
                "others": others,
            }
            create = [self.ask(how.create, more)] if change.action != GONE else []
            if others and how.narrow:  # it stays for the other stages
                yield [self.ask(how.narrow, more, at_hand), *create]
            elif change.action == GONE:
                yield [self.ask(how.remove, more, at_hand)]
            elif change.live is not None and how.change:
                yield [self.ask(how.change, more, at_hand)]
            else:
                yield create

    def steps(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> list[str]:
        head = (
            f"   {self.description.token_header}: {self.description.token_text.replace('{token}', _MASK)}"
            if self.made.token
            else ""
        )
        lines = []
        for ask in [request for group in self._asks(changes, live, shown=True) for request in group]:
            body = f"   {json.dumps(ask.body, ensure_ascii=False)}" if ask.body is not None else ""
            lines.append(f"{ask.method} {self.client.address}{ask.path}{head}{body}")
        return lines

    async def write(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> None:
        if not changes:
            return
        bound = asyncio.Semaphore(self.description.at_once)

        async def send(group: list[Request]) -> None:
            async with bound:
                for ask in group:
                    self.before_write()
                    await self.client.send(ask)

        done = await asyncio.gather(
            *(send(group) for group in self._asks(changes, live, shown=False)), return_exceptions=True
        )
        failed = [item for item in done if isinstance(item, BaseException)]
        if others := [error for error in failed if not isinstance(error, CoinJarError)]:
            raise others[0]
        raise_all([error for error in failed[:1] if isinstance(error, CoinJarError)])

    # -- restarting

    async def effect(self) -> RestartState | None:
        state = self.description.state
        if state is None:
            return None if self.needs_restart else NOW
        data = await self._send(state.request)
        if state.pending:
            names = resolve_pointer(data, state.pending)
            waiting = frozenset(map(str, names)) if isinstance(names, list) else frozenset()
            return RestartState(not waiting, waiting)
        saved, running = resolve_pointer(data, state.saved), resolve_pointer(data, state.running)
        return RestartState(saved == running, None if saved != running else frozenset())

    def restart_words(self) -> str:
        return f"redeploys {self.context.get('app') or self.label}" if self.description.restart else ""

    async def restart(self) -> None:
        if self.description.restart:
            await self.runs.carry_out(self.description.restart, {})
