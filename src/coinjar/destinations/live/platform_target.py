"""One app, or one stage of a project, on a platform."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import unquote, urlencode

from coinjar.core.delivery import DeliveryChange, DesiredValue, LiveValue
from coinjar.core.errors import CoinJarError, InputError
from coinjar.core.names import SHARED
from coinjar.destinations.live.base import NOW, RestartState, Target, unreadable
from coinjar.destinations.live.http import HttpStatusError, Request, Response
from coinjar.destinations.live.patience import RequestPatience
from coinjar.destinations.live.platform_credentials import PlatformCredentials
from coinjar.destinations.live.platform_runs import PlatformRuns
from coinjar.destinations.live.platform_writing import MASK, PlatformWriter
from coinjar.destinations.stage_view import StageView
from coinjar.documents.json_data import MISSING, Data, as_text, resolve_pointer
from coinjar.platforms.conditions import all_hold
from coinjar.platforms.limits import is_reserved, unsupported_variables
from coinjar.platforms.requests import ListRequest, RequestTemplate
from coinjar.platforms.templating import MissingValue, fill_body, fill_path

if TYPE_CHECKING:
    from coinjar.destinations.live.platform import PlatformDestination

_MOST_PAGES = 1_000
"""Maximum number of pages of one list; a service that always names another one must not keep us."""


class ListedVariable(NamedTuple):
    """A listed variable: its name there, the item as its platform returned it, and the other stages that it is for."""

    name: str
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
        self.context: dict[str, Any] = {
            "stage": None if view.stage == SHARED else stage,
            "service": platform.service_names.get(own, own),
        }
        for key, value in platform.settings.items():
            self.context[key] = platform.fill_there(value, view.stage, own)
        own_settings = [self.context[key] for key in platform.settings if key != "address"]
        where = " / ".join(str(setting) for setting in own_settings)
        label = f"{platform.destination.name} ({where})" if where else platform.destination.name
        super().__init__(own, label, services, desired_values, platform.destination.location)
        self.stages_share = self.description.carried
        self.needs_restart = self.description.in_effect == "next-deploy"
        self.view = view
        self.sent: list[RequestTemplate] = []
        """The requests of the description that were answered, in order."""
        self.kept: dict[str, Any] = dict.fromkeys(self.description.kept)
        self.credentials = PlatformCredentials(self)
        self.runs = PlatformRuns(self)
        self.writer = PlatformWriter(self)

    @property
    def place(self) -> object:
        """What distinguishes this target from others of the platform: where its variables are listed, and for which
        stage. Two targets with the same would overwrite each other.
        """
        assert self.description.listing, "a description without it is refused"
        path = fill_path(self.description.listing.request.path, {**self.context, **self.kept, "next": None})
        return self.context["address"], path, self.context["stage"] if self.description.carried else None

    async def close(self) -> None:
        await self.credentials.close()

    def unsupported_variables(self) -> list[CoinJarError]:
        errors: list[CoinJarError] = []
        for unsupported in unsupported_variables(self.description, self.desired_values):
            variable = self.made.render_context.jar.variables.get(unsupported.name)
            message, code = (
                f"{unsupported.name + ': ' if unsupported.name else ''}{unsupported.reason}",
                "name-taken" if unsupported.taken else "over-the-limits",
            )
            errors.append(
                InputError(
                    message,
                    hint=unsupported.hint,
                    location=variable.location if variable else self.origin,
                    code=code,
                    of=self.label,
                )
            )
        return errors

    # -- requests

    def ask(self, sending: RequestTemplate, more: Mapping[str, Any] = {}, at_hand: Data = None) -> Request:
        """Return a request with its placeholders filled; headers whose placeholder is null are omitted."""
        context = {**self.context, **self.kept, **more}
        try:
            body = fill_body(sending.body, context, at_hand) if sending.body is not None else None
            headers = {name: fill_body(value, context, at_hand) for name, value in sending.headers.items()}
            path = fill_path(sending.path, context, at_hand)
            shown = fill_path(sending.path, {**context, "value": MASK}, at_hand) if context.get("secret") else ""
        except MissingValue as fault:
            message = f"the response has no {fault}, which {sending.location} requires"
            raise unreadable(self, message, "correct the description, or check the service's response") from None
        headers = {name: as_text(value) for name, value in headers.items() if value is not None}
        request = Request(
            sending.method, path, body, sending.repeat, headers, shown=unquote(shown), busy=self.description.busy
        )
        if not sending.form:
            return request
        fields = urlencode({name: as_text(value) for name, value in (body or {}).items() if value is not None})
        headers["Content-Type"] = "application/x-www-form-urlencoded"
        return request._replace(body=None, content=fields.encode(), headers=headers)

    async def exchange(self, sending: RequestTemplate, request: Request) -> Response:
        """Send a filled request, and keep what later ones need of its answer. While the platform is busy with something
        that has an ID, wait for the end of that, and send it again.
        """
        waiting = self.description.busy_wait
        if waiting is None or sending is waiting.request:
            return await self._exchange(sending, request)
        end = time.monotonic() + (self.made.render_context.patience or RequestPatience()).longest
        while True:
            try:
                return await self._exchange(sending, request._replace(busy=()))
            except HttpStatusError as fault:
                found = fault.data()
                if fault.status not in self.description.busy or time.monotonic() >= end:
                    raise
                if not self.can_fill(waiting.request, found):
                    return await self._exchange(sending, request)  # without an ID: tried again after a while
                await self.runs.wait_until_free(waiting, found, end - time.monotonic())

    def can_fill(self, sending: RequestTemplate, at_hand: Data) -> bool:
        """Return whether an answer has what a request needs of it."""
        try:
            fill_path(sending.path, {**self.context, **self.kept}, at_hand)
        except MissingValue:
            return False
        return True

    async def _exchange(self, sending: RequestTemplate, request: Request) -> Response:
        """Send a request within the limits of the platform."""
        client = await self.credentials.client()
        async with self.made.turn():
            response = await client.send(request)
        self.sent.append(sending)
        for name, kept in sending.keep.items():
            value = (
                response.headers.get(kept.header.lower())
                if kept.header
                else resolve_pointer(response.data, kept.pointer)
            )
            if value is not None and value is not MISSING:
                self.kept[name] = value
        return response

    async def send(self, sending: RequestTemplate, more: Mapping[str, Any] = {}, at_hand: Data = None) -> Data:
        """Send a request of the description; return the data of its answer."""
        return (await self.exchange(sending, self.ask(sending, more, at_hand))).data

    async def identity(self) -> str:
        assert self.description.account, "a description without it is refused"
        sending, words = self.description.account
        data = await self.send(sending)
        try:
            return as_text(fill_body(words, self.context, data))
        except MissingValue as fault:
            raise unreadable(
                self, f"the response has no {fault}, which identifies the account", "correct account in the description"
            ) from None

    # -- reading

    async def _pages(self, listing: ListRequest) -> AsyncIterator[Data]:
        following: Any = 1 if listing.next_page else 0 if listing.next_offset else None
        path: str | None = None
        for _ in range(_MOST_PAGES):
            ask = self.ask(listing.request, {"next": following})
            answer = await self.exchange(listing.request, ask._replace(path=path) if path else ask)
            yield answer.data
            if listing.next_link:
                path = answer.next
                if path is None:
                    return
            elif listing.next_page:
                if not resolve_pointer(answer.data, listing.items):
                    return
                following += 1
            elif listing.next_offset:
                count = len(resolve_pointer(answer.data, listing.items) or ())
                if not count:
                    return
                following += count
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
                message = f"the response has no {what} at '{listing.items}', which {listing.request.location} requires"
                raise unreadable(self, message, "correct the description, or check the service's response")
            if isinstance(there, dict):
                for name, value in there.items():
                    if value is not None:
                        handle = ListedVariable(name, value, [])
                        result[self.name_here(name)] = self._held(self.name_here(name), as_text(value), handle)
            else:
                for item in there:
                    self._take(listing, item, result)
        return result

    def _take(self, listing: ListRequest, item: Data, result: dict[str, LiveValue]) -> None:
        """Add one listed variable, if it is for our stage or for all; the narrower takes effect."""
        named_there = resolve_pointer(item, listing.name)
        stages = resolve_pointer(item, listing.stages) if listing.stages else MISSING
        named = [
            str(stage)
            for stage in (stages if isinstance(stages, list) else [stages])
            if stage not in (MISSING, None, "")
        ]
        own = self.context["stage"]
        wide = bool(listing.stages) and not named
        if not isinstance(named_there, str) or (listing.stages and not wide and own not in named):
            return
        name = self.name_here(named_there)
        is_ours = not wide or own is None
        hidden = all_hold(listing.hidden, item)
        value = resolve_pointer(item, listing.value)
        text = None if hidden or value in (MISSING, None) else as_text(value)
        current = self._held(name, text, item)
        secret = current.secret or hidden or all_hold(listing.secret, item)
        mark = resolve_pointer(item, listing.mark) if listing.mark else MISSING
        supplied = current.supplied or all_hold(listing.supplied, item)
        marked = "" if mark is MISSING else as_text(mark)
        live_value = current._replace(
            secret=secret,
            supplied=supplied,
            version=marked,
            inherited=not is_ours,
            handle=ListedVariable(named_there, item, [stage for stage in named if stage != own]),
        )
        other = result.get(name)
        if is_ours:
            result[name] = live_value._replace(enclosing=other if other and other.inherited else None)
        else:
            result[name] = other._replace(enclosing=live_value) if other else live_value

    def _held(self, name: str, value: str | None, handle: object) -> LiveValue:
        variable = self.made.render_context.jar.variables.get(name)
        secret = self.made.render_context.is_secret(name, value or "")
        there = self.description.spelling.there(name)
        taken = is_reserved(self.description, there, self.description.supplied) or (
            variable is not None and self.made.destination.name in variable.supplied_by
        )
        taken = taken or is_reserved(self.description, there, self.description.reserved)
        return LiveValue(name, value, secret, taken, handle=handle)

    def name_here(self, name: str) -> str:
        """Return the jar's name of a variable there; one that the jar cannot name keeps its name, marked."""
        return self.description.spelling.read_as(name)

    # -- writing

    def steps(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> list[str]:
        return self.writer.steps(changes, live)

    async def write(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> None:
        await self.writer.write(changes, live)

    # -- restarting

    async def effect(self) -> RestartState | None:
        state = self.description.state
        if state is None:
            return None if self.needs_restart else NOW
        data = await self.send(state.request)
        if state.pending:
            names = resolve_pointer(data, state.pending)
            waiting = frozenset(map(str, names)) if isinstance(names, list) else frozenset()
            return RestartState(not waiting, waiting)
        saved, running = resolve_pointer(data, state.saved), resolve_pointer(data, state.running)
        return RestartState(saved == running, None if saved != running else frozenset())

    def restart_words(self) -> str:
        return f"redeploys {self.label}" if self.description.restart else ""

    async def restart(self) -> None:
        if self.description.restart:
            await self.runs.carry_out(self.description.restart, {})
