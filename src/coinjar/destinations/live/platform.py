"""`type: platform`: any HTTP service with a description (platforms/NAME.yaml beside jar.yaml, or a shipped one)."""

from __future__ import annotations

import asyncio
import json
import os
from collections.abc import AsyncIterator, Iterator, Mapping, Sequence
from importlib.resources import files
from pathlib import Path
from typing import Any, NamedTuple

from yaml.nodes import MappingNode

from coinjar.core.delivery import GONE, DeliveryChange, DesiredValue, LiveValue, matches
from coinjar.core.errors import CoinJarError, InputError, raise_all
from coinjar.core.model import Destination
from coinjar.core.names import SHARED, suggestion
from coinjar.core.secret import reveal
from coinjar.destinations.base import RenderContext, StageView
from coinjar.destinations.live.base import NOW, LiveDestination, RestartState, Target, unreadable
from coinjar.destinations.live.http import HttpClient, Request, Response
from coinjar.destinations.live.polling import AWAITS_APPROVAL, PASSED, PipelineRun, watched
from coinjar.destinations.live.tokens import read_token
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.json_data import NOTHING, Data, as_text, look
from coinjar.jarfile.load import read_bytes
from coinjar.platforms.description import (
    ListRequest,
    PlatformDescription,
    RequestTemplate,
    RestartRequest,
    WaitCondition,
    read_description,
)
from coinjar.platforms.limits import unsupported_variables
from coinjar.platforms.templating import MissingValue, fill, fill_path
from coinjar.system.files import display_path

_MASK = "••••"


def known_platforms(folder: Path) -> list[str]:
    """Return the available descriptions: the jar's, and the shipped ones."""
    own = sorted(path.stem for path in (folder / "platforms").glob("*.yaml"))
    shipped = sorted(
        file.name[:-5] for file in (files("coinjar.platforms") / "shipped").iterdir() if file.name.endswith(".yaml")
    )
    return list(dict.fromkeys([*own, *shipped]))


def load_description(folder: Path, name: str) -> PlatformDescription:
    """Return a platform's description; the jar's own takes precedence over a shipped one. Raises InputError."""
    path = folder / "platforms" / f"{name}.yaml"
    if path.exists():
        return read_description(read_bytes(path), display_path(path), name)
    known = known_platforms(folder)
    if name not in known:
        hint = suggestion(
            name, known, f"the descriptions are {', '.join(known)}; docs/platforms.md explains how to write one"
        )
        raise InputError(f"there is no platform description '{name}'", hint=hint, code="unknown-platform")
    return read_description(
        (files("coinjar.platforms") / "shipped" / f"{name}.yaml").read_bytes(), f"(shipped) {name}.yaml", name
    )


class PlatformDestination(LiveDestination):
    """`platform` (the description), `token`, `stage_names` (the names of our stages there), and the description's own
    settings.
    """

    needed = ("platform", "address")

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        named = fields.text(destination.options.get("platform"), "platform")
        self.description = (
            load_description(render_context.folder, named)
            if named
            else PlatformDescription(name="", location=destination.location)
        )
        self.keys = ("platform", "token", "stage_names", *self.description.settings)
        super().__init__(destination, render_context, fields)
        self.at_once = self.description.at_once
        self.token = read_token(self)
        self.unset: list[str] = []
        self.settings = {key: self._setting(key) for key in self.description.settings}
        for key in self.description.settings:
            if key not in self.options and named:
                fault = InputError(
                    f"the destination {destination.name} has no '{key}': {self.description.settings[key]}",
                    hint=f"add {key}: …",
                )
                fault.location = destination.location
                fields.faults.append(fault)
        self.stage_names = {
            key: fields.text(node, key)
            for key, _, node in (
                fields.members(self.options["stage_names"], "'stage_names'") if "stage_names" in self.options else ()
            )
        }

        self._refuse_one_name_for_two(render_context)

    def _refuse_one_name_for_two(self, render_context: RenderContext) -> None:
        """Refuse two stages with one name there: they would overwrite each other."""
        own = self.destination.stages
        first: dict[str, str] = {}
        for stage in (
            [stage for stage in render_context.jar.stages if "*" not in stage and (own is None or stage in own)]
            if self.stage_names
            else ()
        ):
            there = self.stage_names.get(stage, stage)
            if (other := first.setdefault(there, stage)) != stage:
                words = (
                    f"{self.destination.name} has the same name, {there}, for {other} and {stage}, which would "
                    "overwrite each other"
                )
                hint = "give each its own under stage_names, or limit the destination (stages:)"
                self.fields.faults.append(
                    InputError(words, hint=hint, location=self.destination.location, code="destination")
                )

    def _setting(self, key: str) -> str:
        """Return a setting's text, or the value of a variable of the caller's environment: an address may differ from
        person to person.
        """
        node = self.options.get(key)
        if not isinstance(node, MappingNode):
            return self.pattern(key)
        own = self.fields.fields(node, f"'{key}'", ("from_env",))
        name = self.fields.text(own.get("from_env"), "from_env")
        if name and name not in os.environ:
            self.unset.append(name)
        return os.environ.get(name, f"({name} is not set)")

    @property
    def takes_shared(self) -> bool:
        return self.description.whole

    def targets(self, view: StageView) -> list[Target]:
        services = view.services()
        if self.description.one_for == "stage":
            return [PlatformTarget(self, view, services, self.wanted_together(view))]
        for key in ("app", "project"):
            if len(services) > 1 and key in self.settings and "{service}" not in self.settings[key]:
                words = f"{self.destination.name} has {len(services)} services, but a {key} for one"
                raise InputError(
                    words,
                    hint=f"add {{service}} to {key}, or name one under services",
                    location=self.destination.location,
                    code="destination",
                )
        return [PlatformTarget(self, view, [service], self.wanted_of(view, service)) for service in services]


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
        fill_in = {"{stage}": platform.stage_names.get(view.stage, view.stage), "{service}": own}
        self.context: dict[str, Any] = {"stage": None if view.stage == SHARED else fill_in["{stage}"], "service": own}
        for key, text in platform.settings.items():
            self.context[key] = text.replace("{stage}", fill_in["{stage}"]).replace("{service}", own)
        where = self.context.get("app") or self.context.get("project") or ""
        label = f"{platform.destination.name} ({where})" if where else platform.destination.name
        super().__init__(own, label, services, desired_values, platform.destination.location)
        self.stages_share = self.description.carried
        self.needs_restart = self.description.in_effect == "next-deploy"
        self.view = view
        self._there: dict[str, LiveValue] = {}
        self._around: dict[str, LiveValue] = {}
        self._client: HttpClient | None = None

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
        return HttpClient(self.context["address"], headers, self.label, self.origin, hidden=hidden)

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

    def _ask(self, sending: RequestTemplate, more: Mapping[str, Any] = {}, at_hand: Data = None) -> Request:
        context = {**self.context, **more}
        try:
            return Request(
                sending.method,
                fill_path(sending.path, context, at_hand),
                fill(sending.body, context, at_hand) if sending.body is not None else None,
                sending.repeat,
            )
        except MissingValue as fault:
            words = f"the response has no {fault}, which {sending.location} requires"
            raise unreadable(self, words, "correct the description, or check the service's response") from None

    async def _send(self, sending: RequestTemplate, at_hand: Data = None) -> Data:
        return (await self.client.send(self._ask(sending, at_hand=at_hand))).data

    async def identity(self) -> str:
        assert self.description.account, "a description without it is refused"
        sending, words = self.description.account
        data = await self._send(sending)
        try:
            return as_text(fill(words, self.context, data))
        except MissingValue as fault:
            raise unreadable(
                self, f"the response has no {fault}, which identifies the account", "correct account in the description"
            ) from None

    # -- reading

    async def _pages(self, listing: ListRequest) -> AsyncIterator[Data]:
        following: Any = 1 if listing.next_page else None
        path: str | None = None
        while True:
            ask = self._ask(listing.request, {"next": following})
            answer: Response = await self.client.send(ask._replace(path=path) if path else ask)
            yield answer.data
            if listing.next_link:
                path = answer.next
                if path is None:
                    return
            elif listing.next_page:
                if not look(answer.data, listing.items):
                    return
                following += 1
            else:
                following = look(answer.data, listing.next_at) if listing.next_at else None
                if following is NOTHING or following in (None, "", False):
                    return

    async def read(self) -> dict[str, LiveValue]:
        listing = self.description.listing
        assert listing, "a description without it is refused"
        result: dict[str, LiveValue] = {}
        self._there, self._around = result, {}
        async for page in self._pages(listing):
            there = look(page, listing.items)
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

    def enclosing(self) -> dict[str, LiveValue]:
        return self._around

    def _take(self, listing: ListRequest, item: Data, result: dict[str, LiveValue]) -> None:
        """Add one listed variable, if it is for our stage or for all; the narrower takes effect."""
        name = look(item, listing.name)
        stages = look(item, listing.stages) if listing.stages else NOTHING
        named = [
            str(stage)
            for stage in (stages if isinstance(stages, list) else [stages])
            if stage not in (NOTHING, None, "")
        ]
        own = self.context["stage"]
        wide = bool(listing.stages) and not named
        if not isinstance(name, str) or (listing.stages and not wide and own not in named):
            return
        is_ours = not wide or own is None
        hidden = look(item, listing.hidden) is True if listing.hidden else False
        value = look(item, listing.value)
        text = None if hidden or value in (NOTHING, None) else as_text(value)
        current = self._held(name, text, item)
        secret = current.secret or hidden or (look(item, listing.secret) is True if listing.secret else False)
        mark = look(item, listing.mark) if listing.mark else NOTHING
        supplied = current.supplied or (bool(listing.supplied) and look(item, listing.supplied) is True)
        marked = "" if mark is NOTHING else as_text(mark)
        live_value = current._replace(
            secret=secret,
            supplied=supplied,
            version=marked,
            inherited=not is_ours,
            handle=_ListedVariable(item, [stage for stage in named if stage != own]),
        )
        if not is_ours:
            self._around[name] = live_value
        if is_ours or name not in result:
            result[name] = live_value

    def _held(self, name: str, text: str | None, handle: object) -> LiveValue:
        variable = self.made.render_context.jar.variables.get(name)
        secret = self.made.render_context.is_secret(name, text or "")
        taken = matches(name, self.description.supplied) or (
            variable is not None and self.made.destination.name in variable.supplied_by
        )
        return LiveValue(name, text, secret, taken or matches(name, self.description.reserved), handle=handle)

    # -- writing

    def _asks(self, changes: Sequence[DeliveryChange], *, shown: bool) -> Iterator[list[Request]]:
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
            yield [self._ask(how.changes, {"changes": values})]
            return
        if how.whole:
            gone = {change.name for change in changes if change.action == GONE}
            kept = [
                live_value
                for name, live_value in self._there.items()
                if name not in self.desired_values and name not in gone and not live_value.supplied
            ]
            everything = {
                live_value.name: reveal(text(live_value.text, secret=live_value.secret) or "") for live_value in kept
            }
            everything |= {
                desired.name: reveal(text(desired.text, secret=desired.secret) or "")
                for desired in self.desired_values.values()
            }
            yield [self._ask(how.whole, {"everything": everything})]
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
                "stages": [own] if own is not None else [],
                "others": others,
            }
            create = [self._ask(how.create, more)] if change.action != GONE else []
            if others and how.narrow:  # it stays for the other stages
                yield [self._ask(how.narrow, more, at_hand), *create]
            elif change.action == GONE:
                yield [self._ask(how.remove, more, at_hand)]
            elif change.live is not None and how.change:
                yield [self._ask(how.change, more, at_hand)]
            else:
                yield create

    def steps(self, changes: Sequence[DeliveryChange]) -> list[str]:
        head = (
            f"   {self.description.token_header}: {self.description.token_text.replace('{token}', _MASK)}"
            if self.made.token
            else ""
        )
        lines = []
        for ask in [request for group in self._asks(changes, shown=True) for request in group]:
            body = f"   {json.dumps(ask.body, ensure_ascii=False)}" if ask.body is not None else ""
            lines.append(f"{ask.method} {self.client.address}{ask.path}{head}{body}")
        return lines

    async def write(self, changes: Sequence[DeliveryChange]) -> None:
        if not changes:
            return
        bound = asyncio.Semaphore(self.description.at_once)

        async def send(group: list[Request]) -> None:
            async with bound:
                for ask in group:
                    self.before_write()
                    await self.client.send(ask)

        done = await asyncio.gather(
            *(send(group) for group in self._asks(changes, shown=False)), return_exceptions=True
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
            names = look(data, state.pending)
            waiting = frozenset(map(str, names)) if isinstance(names, list) else frozenset()
            return RestartState(not waiting, waiting)
        saved, running = look(data, state.saved), look(data, state.running)
        return RestartState(saved == running, None if saved != running else frozenset())

    def restart_words(self) -> str:
        return f"redeploys {self.context.get('app') or self.label}" if self.description.restart else ""

    async def restart(self) -> None:
        if self.description.restart:
            await self._carry_out(self.description.restart, {})

    async def start_run(self, pipeline: str) -> Data:
        """Start a pipeline once; return the response, by which `watch_run` finds the run.

        Raises ExternalError; InputError if the platform has none.
        """
        if self.description.run is None:
            raise InputError(
                f"{self.description.name} has no pipelines",
                hint="use another destination",
                location=self.origin,
                code="no-pipelines",
            )
        return (await self.client.send(self._ask(self.description.run.request, {"pipeline": pipeline}))).data

    async def watch_run(self, pipeline: str, started: Data, patience: float) -> PipelineRun:
        """Watch a started run for at most `patience` seconds; for 0 until it ends or waits for approval.

        Raises ExternalError if it failed.
        """
        assert self.description.run
        waiting = self.description.run.wait
        if waiting is None:
            return PipelineRun(PASSED, "")
        most = patience or self.made.restart_timeout
        state, data = await self._watched(waiting, {"pipeline": pipeline}, started, most, to_approval=not patience)
        log = look(data, waiting.log) if waiting.log else ""
        return PipelineRun(
            state, "\n".join(map(as_text, log)) if isinstance(log, list) else as_text("" if log is NOTHING else log)
        )

    async def _carry_out(self, what: RestartRequest, more: Mapping[str, Any]) -> None:
        started = (await self.client.send(self._ask(what.request, more))).data
        if what.wait is None:
            return
        state, _ = await self._watched(what.wait, more, started, self.made.restart_timeout)
        if state != PASSED:
            words = (
                "it waits for approval there"
                if state == AWAITS_APPROVAL
                else f"it did not end in {self.made.restart_timeout:.0f} s"
            )
            hint = (
                "check it there; what was saved stays. For more time set restart_timeout of "
                f"{self.made.destination.name}"
            )
            raise unreadable(self, words, hint)

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
            return (await self.client.send(self._ask(waiting.request, more, started))).data

        def failed(words: str) -> CoinJarError:
            return unreadable(self, f"it failed there: {words}", "check it there; what was saved stays")

        return await watched(ask, waiting, patience, failed, to_approval=to_approval)
