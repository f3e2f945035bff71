"""The protocol of every live destination: identity, read, plan, write, read back, restart, and whether it has taken effect.

A destination is one or more targets: an app, a project's stage, a machine's file, a container. `deliver` and `drift` work on targets only, so a
new type is a `LiveDestination` that lists its targets, and a `Target` that does what is asked of it.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Mapping, Sequence
from typing import NamedTuple

from coinjar.core.delivery import DeliveryChange, DesiredValue, LiveValue
from coinjar.core.errors import CoinJarError, ExternalError, InputError, Location, raise_all
from coinjar.core.kinds import nanoseconds
from coinjar.core.layers import Resolver
from coinjar.core.masking import SHORTEST, StreamMasker
from coinjar.core.model import Destination
from coinjar.core.names import SHARED
from coinjar.core.secret import reveal
from coinjar.destinations.base import DestinationOptions, RenderContext, StageView, is_supplied
from coinjar.dialects.base import ReadItem, ReadRemark, ReadResult
from coinjar.documents.field_reader import FieldReader

COMMON = ("account", "restart_timeout")
"""Options that every live destination has: which account it was the first time, by target; and how long a restart may take."""
_RESTART_TIMEOUT = 600.0
"""Seconds that a restart or a rollout may take where `restart_timeout` is not set."""


class RestartState(NamedTuple):
    """Whether what is saved is what runs. `names` are those that are not in effect; None: it cannot be told which."""

    in_effect: bool
    names: frozenset[str] | None = frozenset()
    words: str = ""


NOW = RestartState(in_effect=True)
"""For what is in effect as soon as it is saved."""


class ResponseLost(ExternalError):
    """A request that must not be sent twice without a look: nobody knows whether it was carried out. `lost` says which."""

    def __init__(self, label: str, lost: str, location: Location) -> None:
        super().__init__(
            f"{lost}: it may have been carried out",
            hint="run it again: it looks first",
            location=location,
            code="answer-lost",
            of=label,
        )
        self.lost = lost


class TargetNotes:
    """What a target has to say besides success: a request that may have been carried out twice, a value that is covered elsewhere."""

    def __init__(self) -> None:
        self.lines: list[str] = []

    def add(self, line: str) -> None:
        if line not in self.lines:
            self.lines.append(line)


class Target(ABC):
    """One environment that is somewhere. `key` tells it from the others of its destination and stage, `label` is for people."""

    whole = False
    """Whether it holds nothing but ours."""
    needs_restart = True
    """Whether something must restart or be deployed before it reads what was saved."""

    stages_share = False
    """Whether one place holds several stages, each apart."""
    services_share = False
    """Whether one place holds several services of a stage, each apart."""

    def __init__(
        self,
        key: str,
        label: str,
        services: Sequence[str],
        desired_values: Mapping[str, DesiredValue],
        origin: Location,
    ) -> None:
        self.key = key
        self.label = label
        self.services = tuple(services)
        self.desired_values = dict(desired_values)
        self.origin = origin
        self.notes = TargetNotes()
        self.before_write: Callable[[], None] = lambda: None
        """Called before each request or file that `write` sends; raises where it must stop (the lock is lost)."""

    def unsupported_variables(self) -> list[CoinJarError]:
        """What it cannot carry, before anything is asked of it."""
        return []

    @abstractmethod
    async def identity(self) -> str:
        """Which account, project or machine this is, as it says itself; "" where the way to it proves that (a host's key)."""

    @abstractmethod
    async def read(self) -> dict[str, LiveValue]:
        """What it holds now, its own included. Raises ExternalError."""

    def enclosing(self) -> dict[str, LiveValue]:
        """After `read`: what the level around this one has (the whole project's), its own values over it or not."""
        return {}

    @abstractmethod
    def steps(self, changes: Sequence[DeliveryChange]) -> list[str]:
        """What `write` would do, a line each, every secret and token masked."""

    @abstractmethod
    async def write(self, changes: Sequence[DeliveryChange]) -> None:
        """Make these changes. Raises ResponseLost where it cannot be told whether they were made, ExternalError otherwise."""

    @abstractmethod
    def restart_words(self) -> str:
        """What `restart` does, in words: "redeploys sandling-ticketing"; "" if nothing can be done from here."""

    @abstractmethod
    async def restart(self) -> None:
        """Make what is saved take effect, and wait until it has. Raises ResponseLost, ExternalError."""

    async def effect(self) -> RestartState | None:
        """Whether what is saved is what runs; None if it does not say."""
        return NOW

    async def settle(self) -> None:  # noqa: B027 - most have nothing to do
        """Called when what was written is in effect: clear away what only the earlier state needed. Raises ExternalError."""

    async def close(self) -> None:  # noqa: B027 - many have none
        """Let go of connections."""


class LiveDestination(DestinationOptions, ABC):
    """A destination that is running systems. Subclasses list their targets."""

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        self.keys = (*self.keys, *COMMON)
        super().__init__(destination, render_context, fields)
        self.accounts: dict[str, str] = {}
        for key, _, node in fields.members(self.options["account"], "'account'") if "account" in self.options else ():
            self.accounts[key] = fields.text(node, f"account of {destination.name}")
        self.restart_timeout = self._seconds("restart_timeout", _RESTART_TIMEOUT)

    def _seconds(self, key: str, default: float) -> float:
        """An option that is a duration, in seconds."""
        try:
            return nanoseconds(self.text(key)) / 1e9 if key in self.options else default
        except ValueError as fault:
            self.fields.fault(
                self.options[key],
                f"{key} of {self.destination.name} {fault}",
                "write a duration such as 90s or 20m",
                "destination",
            )
            return default

    at_once = 10
    """Targets that are worked on at the same time."""

    @property
    def takes_shared(self) -> bool:
        """Whether it has a place for what holds on every stage."""
        return False

    @abstractmethod
    def targets(self, view: StageView) -> list[Target]:
        """Its targets on a stage. Raises every fault of their values at once."""

    def unsupported_variables(self, view: StageView) -> list[CoinJarError]:
        """What it could not carry on a stage, for `check`: nothing is asked of anybody."""
        return [fault for target in self.targets(view) for fault in target.unsupported_variables()]

    def account_key(self, stage: str, target: Target) -> str:
        """Under which name jar.yaml keeps whose a target is."""
        return f"{stage}/{target.key}" if target.key else stage

    def wanted_of(self, view: StageView, service: str) -> dict[str, DesiredValue]:
        """What a service should get here: all it sees but what this destination supplies itself."""
        entries = view.entries(service, lenient=view.lenient or view.stage == SHARED)
        kept = [
            entry
            for entry in entries
            if entry.text is not None and not (entry.variable and is_supplied(entry.variable, self.destination))
        ]
        return {entry.name: DesiredValue(entry.name, entry.text or "", entry.secret) for entry in kept}

    def wanted_together(self, view: StageView) -> dict[str, DesiredValue]:
        """What all its services get, for a place that does not tell them apart. Raises InputError where they differ."""
        result: dict[str, tuple[str, DesiredValue]] = {}
        faults: list[CoinJarError] = []
        for service in view.services():
            for name, desired in self.wanted_of(view, service).items():
                whose, other = result.setdefault(name, (service, desired))
                if other.text != desired.text:
                    words = f"{self.destination.name} holds one value of {name} for all services, and {whose} and {service} see different ones on {view.stage}"
                    hint = f"limit the destination to one of them (services:), or leave {name} out (without:)"
                    faults.append(
                        InputError(words, hint=hint, location=self.destination.location, code="services-differ")
                    )
        raise_all(faults)
        return {name: desired for name, (_, desired) in result.items()}

    def read_now(self, resolver: Resolver) -> ReadResult:
        """What is there now, for a source (`dest:NAME@STAGE`): every target's variables, by service where they are told apart."""
        import asyncio

        view = StageView(resolver, self.destination, lenient=True)  # what should be there does not matter here
        return asyncio.run(self._read_all(self.targets(view)))

    async def _read_all(self, targets: Sequence[Target]) -> ReadResult:
        items: list[ReadItem] = []
        remarks: list[ReadRemark] = []
        unread: set[str] = set()
        for target in targets:
            try:
                live = await target.read()
            finally:
                await target.close()
            for live_value in live.values():
                known = self.render_context.jar.variables.get(live_value.name)
                if live_value.supplied and not (known and is_supplied(known, self.destination)):
                    remarks.append(
                        ReadRemark(self.destination.location, f"left out: {live_value.name} is {target.label}'s own")
                    )
                    continue
                service = target.services[0] if len(target.services) == 1 else None
                if live_value.text is None:
                    unread.add(live_value.name)
                    remarks.append(
                        ReadRemark(
                            self.destination.location,
                            f"left out: {live_value.name} of {target.label} cannot be read back",
                            lost=True,
                        )
                    )
                    continue
                items.append(
                    ReadItem(
                        live_value.name,
                        live_value.text,
                        self.destination.location,
                        service=service,
                        secret=live_value.secret or None,
                    )
                )
        return ReadResult(items, remarks, frozenset(unread))


def last_lines(output: bytes, wanted: Collection[DesiredValue], most: int = 5) -> str:
    """The end of what a command printed, on one line, every secret of `wanted` masked in all its encodings."""
    masker = StreamMasker({desired.text: desired.name for desired in wanted if desired.secret})
    text = (masker.feed(output) + masker.rest()).decode(errors="replace")
    if any(desired.secret and 0 < len(desired.text) < SHORTEST and reveal(desired.text) in text for desired in wanted):
        return ""  # too short to be masked
    return " | ".join(line.strip()[:300] for line in text.strip().splitlines()[-most:] if line.strip())


def unreadable(target: Target, words: str, hint: str, *, code: str = "outside") -> ExternalError:
    """An error of an outside system, with the place of the declaration that led there."""
    return ExternalError(words, hint=hint, location=target.origin, code=code, of=target.label)
