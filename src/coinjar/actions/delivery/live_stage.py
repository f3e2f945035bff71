"""The live destinations of a stage: open them, check their accounts, read their values; and read supplied values into
the jar.
"""

from __future__ import annotations

import asyncio
import gc
import time
from collections.abc import Awaitable, Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple, Self, TypeVar

from coinjar.actions.delivery.records import fingerprint, open_records
from coinjar.actions.delivery.selection import chosen
from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import UNSET, Definition
from coinjar.core.delivery import DeliveryPlan, LastApplied, LiveValue, PlanContext, plan
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError, ErrorGroup, ExternalError, InputError
from coinjar.core.layers import Resolver
from coinjar.core.model import Destination, Jar
from coinjar.core.names import SHARED
from coinjar.core.secret import Secret
from coinjar.destinations import connected
from coinjar.destinations.live.base import LiveDestination, RestartState, Target
from coinjar.destinations.live.patience import RequestPatience
from coinjar.destinations.stage_view import RenderContext, StageView, gets, is_supplied, services_for
from coinjar.jarfile.layout import JarLayout

if TYPE_CHECKING:
    from coinjar.destinations.live.connections import Transport

T = TypeVar("T")


class TargetInspection(NamedTuple):
    """What was read from a target: its account, its values, the changes, and whether its values are in use. `read_at`:
    when, by the monotonic clock.
    """

    account: str
    live: dict[str, LiveValue]
    plan: DeliveryPlan
    plan_context: PlanContext
    effect: RestartState
    read_at: float


class SuppliedValue(NamedTuple):
    """A value that a destination supplies, and the jar's previous value of it (None: none)."""

    destination: str
    service: str
    name: str
    text: str
    before: str | None

    @property
    def is_new(self) -> bool:
        """Return whether the jar has a different value."""
        return self.text != self.before


class OpenDestination(NamedTuple):
    """A destination that is ready to use, and its targets."""

    destination: Destination
    instance: LiveDestination
    targets: list[Target]


class LiveStage:
    """The live destinations of one stage, and what is needed to use them.

    `instead` are values by service and name to use instead of the jar's (None: unset), for undoing. Without `writes` no
    records and no naming key are created where there are none. `patience`: how long a request may wait. `transport`
    sends HTTP requests instead of a network connection, for example in a test.
    """

    def __init__(
        self,
        opened: OpenJar,
        stage: str,
        names: Sequence[str],
        masker: Masker,
        *,
        instead: Mapping[str, Mapping[str, str | None]] | None = None,
        writes: bool = False,
        transport: Transport | None = None,
        patience: RequestPatience | None = None,
    ) -> None:
        self.opened = opened
        self.stage = stage
        self.masker = masker
        self.jar = opened.load([stage] if stage != SHARED else [])
        if instead:
            self.jar = _with_values(self.jar, stage, instead, "(as before that delivery)")
        self.chosen = [destination for _, destination in chosen(self.jar, [stage], names, live=True)]
        self.render_context = RenderContext(
            self.jar,
            opened.folder,
            masker,
            opened.ring,
            opened.gate,
            writes=writes,
            transport=transport,
            patience=patience,
        )
        self.supplied: list[SuppliedValue] = []
        self.records = open_records(opened, self.jar, make=writes)
        self._key: bytes | None = None

    def __enter__(self) -> Self:
        """Return the stage, whose records are closed at the end."""
        return self

    def __exit__(self, *_raised: object) -> None:
        self.records.close()

    @property
    def is_guarded(self) -> bool:
        """Return whether deliveries to the stage ask first."""
        return self.stage != SHARED and self.jar.stage(self.stage).guarded

    def resolver(self) -> Resolver:
        """Return the stage, supplied values included. A person's own values are excluded."""
        return self.opened.resolver(self.stage, jar=self.jar)

    def records_key(self) -> bytes:
        """Return the key of what the records contain about the stage: its naming key."""
        if self._key is None:
            self._key = self.render_context.naming_key(self.stage)
        return self._key

    def fingerprint(self, destination: str, target: str) -> Callable[[str, str], str]:
        """Return the fingerprint of a text for the records, keyed with the stage's naming key."""
        key = self.records_key()

        def of(name: str, value: str) -> str:
            return fingerprint(key, self.jar.recorded, (self.stage, destination, target), name, value)

        return of

    def places(self, destinations: Iterable[Destination]) -> tuple[list[OpenDestination], dict[str, CoinJarError]]:
        """Return the destinations with their targets; and why some have none."""
        resolver = self.resolver()
        opened: list[OpenDestination] = []
        faults: dict[str, CoinJarError] = {}
        for destination in destinations:
            try:
                instance = connected(destination, self.render_context)
                if self.stage == SHARED and not instance.takes_shared:
                    message = f"{destination.name} has no place for values of all stages"
                    raise InputError(
                        message, hint="deliver to a stage", location=destination.location, code="not-for-stage"
                    )
                targets = instance.targets(StageView(resolver, destination))
                if refused := [fault for target in targets for fault in target.unsupported_variables()]:
                    raise ErrorGroup(refused)
                opened.append(OpenDestination(destination, instance, targets))
            except CoinJarError as fault:
                faults[destination.name] = fault
        return opened, faults

    async def inspect(self, open_destination: OpenDestination, target: Target) -> TargetInspection:
        """Inspect a target. Raises InputError if its account is not the recorded one, ExternalError."""
        account = await self.account(open_destination.instance, target)
        live = await target.read()
        read_at = time.monotonic()
        plan_context = self.known(open_destination.destination, target)
        effect = await self.effect(target, plan_context.last_applied)
        changes = plan(target.desired_values, live, plan_context)
        return TargetInspection(account, live, changes, plan_context, effect, read_at)

    async def account(self, instance: LiveDestination, target: Target) -> str:
        """Return a target's account, checked before anything else is read.

        Raises InputError if it differs from the record, or is another stage's.
        """
        account = await target.identity()
        recorded = instance.accounts.get(instance.account_key(self.stage, target))
        if recorded is not None and recorded != account:
            message = f"this is {account}, but the jar was delivered to {recorded}"
            hint = (
                "check the token and the address; if it has moved, remove its line from account: of "
                f"{instance.destination.name} in jar.yaml"
            )
            raise InputError(
                message, hint=hint, location=instance.destination.location, code="another-account", of=target.label
            )
        if account and not target.stages_share:
            self._refuse_other_stage(instance, target, account)
        return account

    def _refuse_other_stage(self, instance: LiveDestination, target: Target, account: str) -> None:
        own = instance.account_key(self.stage, target)
        for key, other in instance.accounts.items():
            shared = target.services_share and key.partition("/")[0] == self.stage
            if other == account and key != own and not shared:
                message = f"{account} is already the account of {key}, and the two would overwrite each other"
                hint = f"add {{stage}} to the settings of {instance.destination.name}, or limit it (stages:)"
                raise InputError(
                    message, hint=hint, location=instance.destination.location, code="same-place", of=target.label
                )

    def known(self, destination: Destination, target: Target) -> PlanContext:
        """Return the input of a plan for the target."""
        last = self.records.last(self.stage, destination.name, target.key)
        services = list(target.services) or services_for(destination, self.jar)

        def ours(name: str) -> bool:
            variable = self.jar.variables.get(name)
            if variable is None or not gets(destination, name) or (variable.secret and destination.plain_only):
                return name in last  # it does not belong to this destination any more, if it ever did
            return not is_supplied(variable, destination) and any(variable.applies_to(service) for service in services)

        former = {
            str(variable.name): variable.formerly for variable in self.jar.variables.values() if variable.formerly
        }
        return PlanContext(ours, last, self.fingerprint(destination.name, target.key), target.whole, former)

    async def effect(self, target: Target, last: Mapping[str, LastApplied]) -> RestartState:
        """Return whether the running program uses what is saved: by the target, else by the records."""
        effect = await target.effect()
        waiting = frozenset(name for name, last_applied in last.items() if not last_applied.in_effect)
        if effect is None:
            return RestartState(not waiting, waiting, "from the records: the target does not report it")
        if effect.in_effect or effect.names is not None:
            return effect
        return RestartState(in_effect=False, names=waiting or None, words=effect.words)

    # -- supplied values

    def suppliers(self) -> list[Destination]:
        """Return the chosen destinations that supply variables; supplied values belong to a stage."""
        return (
            []
            if self.stage == SHARED
            else [
                destination
                for destination in self.chosen
                if any(is_supplied(variable, destination) for variable in self.jar.variables.values())
            ]
        )

    async def take_supplied(self) -> dict[str, CoinJarError]:
        """Read the suppliers' values, and add them to the jar in memory. Failures are returned."""
        faults: dict[str, CoinJarError] = {}
        resolver = self.resolver()
        for destination in self.suppliers():
            try:
                instance = connected(destination, self.render_context)
                for target in instance.targets(StageView(resolver, destination, lenient=True)):
                    async with target:
                        await self.account(instance, target)
                        live = await target.read()
                    self._take(destination, target, live)
            except CoinJarError as fault:
                faults[destination.name] = fault
        if any(supplied.is_new for supplied in self.supplied):
            values: dict[str, dict[str, str | None]] = {}
            for supplied in self.supplied:
                values.setdefault(supplied.service, {})[supplied.name] = supplied.text
            self.jar = _with_values(self.jar, self.stage, values, "(supplied)")
            self.render_context.jar = self.jar
        return faults

    def _take(self, destination: Destination, target: Target, live: Mapping[str, LiveValue]) -> None:
        for variable in self.jar.variables.values():
            live_value = live.get(variable.name)
            if live_value is None or live_value.text is None or not is_supplied(variable, destination):
                continue
            for service in target.services:
                if variable.applies_to(service):
                    own = self.jar.plain.get(self.stage, {}).get(service, {}).get(variable.name)
                    before = own.content if own is not None and isinstance(own.content, str) else None
                    self.supplied.append(
                        SuppliedValue(destination.name, service, variable.name, live_value.text, before)
                    )

    def record_supplied(self) -> list[SuppliedValue]:
        """Write new supplied values into the jar: secrets encrypted, the rest plain. Return the new ones."""
        from coinjar.actions.editing.value_changes import ValueChanges
        from coinjar.jarfile.local_folder import locked

        new = [supplied for supplied in self.supplied if supplied.is_new]
        if new:
            with locked(self.opened.folder):
                change = ValueChanges(self.opened, self.opened.load([self.stage]))
                for supplied in new:
                    change.put(
                        self.stage,
                        supplied.service,
                        supplied.name,
                        Secret(supplied.text) if self.jar.variables[supplied.name].secret else supplied.text,
                    )
                change.commit()
        return new

    def record_accounts(self, result: Mapping[tuple[str, str], str]) -> list[str]:
        """Record the accounts of destinations in jar.yaml, where missing: (destination, key) to account.

        Return the new ones.
        """
        from coinjar.actions.editing.value_changes import edit_file
        from coinjar.documents.edit import Edit
        from coinjar.jarfile.local_folder import locked

        new = {where: account for where, account in result.items() if account}
        if new:
            with locked(self.opened.folder):
                edits = [
                    Edit(("destinations", destination, "account", key), account)
                    for (destination, key), account in new.items()
                ]
                edit_file(JarLayout(self.opened.folder).declarations, edits)
        return [destination for destination, _ in new]


def _with_values(jar: Jar, stage: str, values: Mapping[str, Mapping[str, str | None]], source: str) -> Jar:
    """Return the jar as if these values, by service, were set on the stage."""
    gone = {name for texts in values.values() for name, value in texts.items() if value is None}
    jar = jar._replace(
        variables={**jar.variables} | {name: jar.variables[name]._replace(required=False) for name in gone}
    )
    plain = {
        layer: {scope: dict(definitions) for scope, definitions in scopes.items()}
        for layer, scopes in jar.plain.items()
    }
    for service, texts in values.items():
        for name, value in texts.items():
            content = UNSET if value is None else Secret(value) if jar.variables[name].secret else value
            plain.setdefault(stage, {}).setdefault(service, {})[name] = Definition(content, source, 0, 0)
    return jar._replace(plain=plain)


async def bounded(number: int, work: Iterable[Awaitable[T]]) -> list[T | BaseException]:
    """Await all of it, with limited concurrency; an exception of one does not stop others."""
    # Connections are full of cycles, and a run that has thousands of them lasts long enough to look for garbage.
    if not gc.isenabled():
        gc.freeze()
        gc.enable()
    limit = asyncio.Semaphore(number)

    async def one(task: Awaitable[T]) -> T:
        async with limit:
            return await task

    return await asyncio.gather(*(one(task) for task in work), return_exceptions=True)


def as_fault(raised: BaseException) -> CoinJarError:
    """Return the exception of a target's work as our error; a bug is raised."""
    if isinstance(raised, CoinJarError):
        return raised
    if isinstance(raised, OSError):
        return ExternalError(
            f"{type(raised).__name__}: {raised.strerror or 'no answer'}", hint="check the network", code="outside"
        )
    raise raised
