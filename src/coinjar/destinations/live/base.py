"""The protocol of live destinations: identity, read, plan, write, read back, restart, and restart state.

A destination is one or more targets: an app, a project's stage, a machine's file, a container. `deliver` and `drift`
use targets only, so a new type is a `LiveDestination` that lists its targets, and a `Target` that implements the
operations.
"""

from __future__ import annotations

import os
from abc import ABC, abstractmethod
from collections.abc import Awaitable, Callable, Collection, Mapping, Sequence
from functools import wraps
from typing import Any, NamedTuple, Self

from coinjar.core.consent import CONTACTS, Act
from coinjar.core.delivery import DeliveryChange, DesiredValue, LiveValue
from coinjar.core.dispositions import NAME, RejectedValue
from coinjar.core.errors import CoinJarError, ExternalError, InputError, Location, raise_all
from coinjar.core.kinds import nanoseconds
from coinjar.core.layers import Resolver
from coinjar.core.masking import SHORTEST
from coinjar.core.model import Destination
from coinjar.core.names import SHARED, shell_can_set
from coinjar.core.placeholders import fill
from coinjar.core.secret import reveal
from coinjar.core.secret_detection import SURE, detect_secret
from coinjar.core.stream_masking import StreamMasker
from coinjar.destinations.base import DestinationOptions
from coinjar.destinations.live.names_there import NAMES_THERE, check_names_there, texts_of
from coinjar.destinations.options import TEXTS_BY_NAME, Option
from coinjar.destinations.stage_view import RenderContext, StageView, is_supplied
from coinjar.dialects.base import ReadItem, ReadRemark, ReadResult
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import one_line

COMMON = {
    "account": Option(
        "The account, by stage and service, recorded at the first delivery. A delivery to another account stops.",
        TEXTS_BY_NAME,
    ),
    **NAMES_THERE,
    "restart_timeout": Option("The longest time that --restart waits, as a duration; default: 600s."),
}
"""Options of every live destination."""
_RESTART_TIMEOUT = 600.0
"""Default of `restart_timeout`, in seconds."""


class RestartState(NamedTuple):
    """Whether the running program uses what is saved. `names` are those that it does not; None: unknown which."""

    in_effect: bool
    names: frozenset[str] | None = frozenset()
    words: str = ""


NOW = RestartState(in_effect=True)
"""For values in use as soon as they are saved."""


class ResponseLost(ExternalError):
    """A request that must not be repeated without checking: it is unknown whether it was carried out.

    `lost` names it.
    """

    def __init__(self, label: str, lost: str, location: Location) -> None:
        super().__init__(
            f"{lost}: it may have been carried out",
            hint="run it again: it checks first",
            location=location,
            code="answer-lost",
            of=label,
        )
        self.lost = lost


class TargetOutdated(ExternalError):
    """A request was refused because the target changed since it was read: read it, and plan again."""

    def __init__(self, label: str, words: str, location: Location) -> None:
        hint = "run it again when nobody else changes it; `coinjar drift` shows its present state"
        super().__init__(words, hint=hint, location=location, code="outdated", of=label)


class TargetNotes:
    """A target's remarks besides success: a request that may have been carried out twice, a value that is overridden
    elsewhere.
    """

    def __init__(self) -> None:
        self.lines: list[str] = []

    def add(self, line: str) -> None:
        if line not in self.lines:
            self.lines.append(line)


def _checked(method: Callable[..., Awaitable[Any]]) -> Callable[..., Awaitable[Any]]:
    """Return a method of a target that raises ExternalError where an answer has another form than expected."""

    @wraps(method)
    async def checked(self: Target, *arguments: object) -> Any:  # noqa: ANN401 - as the method itself
        try:
            return await method(self, *arguments)
        except _OTHER_FORM as fault:
            if os.environ.get("COINJAR_TRACEBACK"):
                raise  # it may be a fault of ours
            message = f"answered in another form than expected ({type(fault).__name__})"
            raise unreadable(self, message, "check the address and the version of the service", code="shape") from None

    return checked


_OTHER_FORM = (KeyError, IndexError, TypeError, AttributeError, ValueError, RecursionError)


class Target(ABC):
    """One environment at a destination.

    `key` identifies it within its destination and stage, `label` is for display.
    """

    whole = False
    """Whether it contains only our variables."""
    needs_restart = True
    """Whether something must restart or be deployed to read what was saved."""

    stages_share = False
    """Whether one place contains several stages, each separate."""
    services_share = False
    """Whether one place contains several services of a stage, each separate."""

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
        """Called before each request or file that `write` sends; raises if it must stop (the lock is lost)."""

    def unsupported_variables(self) -> list[CoinJarError]:
        """Yield what it does not support, without any request."""
        return []

    def __init_subclass__(cls, **arguments: object) -> None:
        """Let every conversation of a target end in an error of ours when the system answers in another form than it
        documents: whichever field is missing or of another type.
        """
        super().__init_subclass__(**arguments)
        for name in ("identity", "read", "write", "restart", "effect", "settle"):
            if name in cls.__dict__:
                setattr(cls, name, _checked(cls.__dict__[name]))

    @abstractmethod
    async def identity(self) -> str:
        """Return its account, project or machine, as it reports itself; "" where the connection proves it (a host
        key).
        """

    @abstractmethod
    async def read(self) -> dict[str, LiveValue]:
        """Return what it contains now, its own variables included. Raises ExternalError."""

    @abstractmethod
    def steps(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> list[str]:
        """Return what `write` would do, one line each, every secret and token masked. `live` is what was read."""

    @abstractmethod
    async def write(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> None:
        """Make these changes to `live`, which was read.

        Raises ResponseLost if it is unknown whether they were made, ExternalError otherwise.
        """

    @abstractmethod
    def restart_words(self) -> str:
        """Return what `restart` does, in words: "redeploys sandling-ticketing"; "" if it is not possible from here."""

    @abstractmethod
    async def restart(self) -> None:
        """Make the running program use what is saved, and wait until it does. Raises ResponseLost, ExternalError."""

    async def effect(self) -> RestartState | None:
        """Return whether the running program uses what is saved; None if unknown."""
        return NOW

    async def settle(self) -> None:  # noqa: B027 - most have nothing to do
        """Called once what was written is in use: remove what only the earlier state needed. Raises ExternalError."""

    reopens = False
    """Whether it can be used again after it was closed: then of many targets few are connected at a time."""

    async def close(self) -> None:  # noqa: B027 - many have none
        """Close connections."""

    async def __aenter__(self) -> Self:
        """Connections are opened when they are first needed."""
        return self

    async def __aexit__(self, *_raised: object) -> None:
        await self.close()


class LiveDestination(DestinationOptions, ABC):
    """A destination that is a running system. Subclasses list their targets."""

    folds_case = False
    """Whether names that differ only by case are the same there."""

    def rejection(self, name: str, value: str) -> RejectedValue | None:
        """Return why a migration cannot write a variable there; None if it can."""
        return rejected_by_shells(name, value)

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        self.declared = {**self.declared, **COMMON}
        super().__init__(destination, render_context, fields)
        self._refuse_credentials()
        self.accounts, self.stage_names, self.service_names = (
            texts_of(fields, self.options.get(key), f"{key} of {destination.name}")
            for key in ("account", "stage_names", "service_names")
        )
        check_names_there(fields, self.options, destination, render_context.jar)
        self.restart_timeout = self._seconds("restart_timeout", _RESTART_TIMEOUT)

    def fill_there(self, pattern: str, stage: str, service: str = "", **more: str) -> str:
        """Return an option with its placeholders replaced by the names there."""
        names = {"stage": self.stage_names.get(stage, stage), "service": self.service_names.get(service, service)}
        return fill(pattern, **names, **more)

    def _refuse_credentials(self) -> None:
        """Refuse an address with a password or a token in it: everybody with the repository reads jar.yaml."""
        address = one_line(self.options.get("address"))
        certainty, why = (detect_secret("ADDRESS", address) if address else None) or ("", "")
        if certainty == SURE:
            self.fields.fault(
                self.options["address"],
                f"the address of {self.destination.name} {why}, and others can read jar.yaml",
                "write the address alone, and the credential under token: or password:",
                "destination",
            )

    def _seconds(self, key: str, default: float) -> float:
        """Return an option that is a duration, in seconds."""
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

    def acts(self) -> list[Act]:
        """Return what it makes this machine do, on any stage: the servers it contacts and what it signs in with, the
        programs it runs, and the variables and outside files it reads. Here all that is declared, in one line.
        """
        options = ", ".join(f"{key}: {one_line(node)}" for key, node in self.options.items() if key != "account")
        what = f"the {self.destination.type} {self.destination.name} ({options})"
        return [Act(CONTACTS, what, self.destination.location), *super().acts()]

    at_once = 10
    """Maximum number of targets processed concurrently."""

    @property
    def takes_shared(self) -> bool:
        """Return whether it has a place for values of all stages."""
        return False

    @abstractmethod
    def targets(self, view: StageView) -> list[Target]:
        """Return its targets on a stage. Raises every fault of their values at once."""

    def unsupported_variables(self, view: StageView) -> list[CoinJarError]:
        """Yield what it would not support on a stage, for `check`: no requests are sent."""
        return [fault for target in self.targets(view) for fault in target.unsupported_variables()]

    def filled_places(self, view: StageView) -> list[tuple[object, Mapping[str, DesiredValue]]]:
        """Return the places of a stage that another destination may lead to as well, and what they should contain, for
        `check`: no requests are sent.
        """
        del view
        return []

    def account_key(self, stage: str, target: Target) -> str:
        """Return the name under which jar.yaml records a target's account."""
        return f"{stage}/{target.key}" if target.key else stage

    def wanted_of(self, view: StageView, service: str) -> dict[str, DesiredValue]:
        """Return what a service should get here: all its variables except those this destination supplies."""
        entries = view.entries(service, lenient=view.lenient or view.stage == SHARED)
        kept = [
            entry
            for entry in entries
            if entry.text is not None and not (entry.variable and is_supplied(entry.variable, self.destination))
        ]
        return {entry.name: DesiredValue(entry.name, entry.text or "", entry.secret) for entry in kept}

    def wanted_together(self, view: StageView) -> dict[str, DesiredValue]:
        """Return what all its services get, for a place without services. Raises InputError where they differ."""
        result: dict[str, tuple[str, DesiredValue]] = {}
        faults: list[CoinJarError] = []
        for service in view.services():
            for name, desired in self.wanted_of(view, service).items():
                whose, other = result.setdefault(name, (service, desired))
                if other.text != desired.text:
                    message = (
                        f"{self.destination.name} has one value of {name} for all services, but {whose} and "
                        f"{service} have different ones on {view.stage}"
                    )
                    hint = f"limit the destination to one of them (services:), or exclude {name} (without:)"
                    faults.append(
                        InputError(message, hint=hint, location=self.destination.location, code="services-differ")
                    )
        raise_all(faults)
        return {name: desired for name, (_, desired) in result.items()}

    def read_now(self, resolver: Resolver) -> ReadResult:
        """Return what is there now, for a source (`dest:NAME@STAGE`): every target's variables, by service where it has
        services.
        """
        import asyncio

        view = StageView(resolver, self.destination, lenient=True)  # the desired values do not matter here
        return asyncio.run(self._read_all(self.targets(view)))

    async def _read_all(self, targets: Sequence[Target]) -> ReadResult:
        items: list[ReadItem] = []
        remarks: list[ReadRemark] = []
        unread: set[str] = set()
        for target in targets:
            async with target:
                live = await target.read()
            for live_value in live.values():
                known = self.render_context.jar.variables.get(live_value.name)
                if live_value.supplied and not (known and is_supplied(known, self.destination)):
                    remarks.append(
                        ReadRemark(
                            self.destination.location, f"ignored: {live_value.name} is set by {target.label} itself"
                        )
                    )
                    continue
                service = target.services[0] if len(target.services) == 1 else None
                if live_value.text is None:
                    unread.add(live_value.name)
                    remarks.append(
                        ReadRemark(
                            self.destination.location,
                            f"ignored: {live_value.name} of {target.label} is not readable",
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


def rejected_by_shells(name: str, value: str) -> RejectedValue | None:
    """Return why a program's environment cannot be written with a variable; None if it can."""
    del value
    return None if shell_can_set(name) else RejectedValue(NAME, "shells cannot set this name")


def last_lines(output: bytes, wanted: Collection[DesiredValue], most: int = 5) -> str:
    """Return the end of a command's output, on one line, every secret of `wanted` masked in all its encodings."""
    masker = StreamMasker({desired.text: desired.name for desired in wanted if desired.secret})
    shown = (masker.feed(output) + masker.rest()).decode(errors="replace")
    if any(desired.secret and 0 < len(desired.text) < SHORTEST and reveal(desired.text) in shown for desired in wanted):
        return ""  # too short to be masked
    return " | ".join(line.strip()[:300] for line in shown.strip().splitlines()[-most:] if line.strip())


def unreadable(target: Target, message: str, hint: str, *, code: str = "outside") -> ExternalError:
    """Return an error of an external system, with the location of its declaration."""
    return ExternalError(message, hint=hint, location=target.origin, code=code, of=target.label)
