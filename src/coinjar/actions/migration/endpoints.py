"""The two endpoints of a migration: where variables are read, and where they go."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.delivery.selection import is_for
from coinjar.actions.open_jar import OpenJar
from coinjar.core.delivery import LiveValue
from coinjar.core.display import Masker
from coinjar.core.dispositions import NAME, VALUE, RejectedValue, SourceValue
from coinjar.core.errors import CoinJarError, UsageError
from coinjar.core.model import Destination, Jar
from coinjar.core.names import shell_can_set
from coinjar.destinations import connected, is_live, make
from coinjar.destinations.live.base import LiveDestination, Target, rejected_by_shells
from coinjar.destinations.stage_view import RenderContext, StageView, gets, services_for
from coinjar.dialects import get
from coinjar.dialects.base import ReadItem
from coinjar.sources import read_source
from coinjar.sources.base import SET_BY_EVERYBODY, SourceContext

_FILE = re.compile(r"file\+([a-z-]+):(.+)", re.DOTALL)


class Endpoint(NamedTuple):
    """One endpoint: a destination of the jar, or a source or file. `stage` is "" for all stages."""

    text: str
    destination: Destination | None
    stage: str

    @property
    def label(self) -> str:
        return self.destination.name if self.destination else self.text


def where(jar: Jar | None, word: str) -> Endpoint:
    """Parse an endpoint: dest:NAME, dest:NAME@STAGE, or a source. Raises UsageError."""
    if not word.startswith("dest:"):
        return Endpoint(word, None, "")
    name, _, stage = word[5:].partition("@")
    if jar is None:
        raise UsageError(
            "a destination requires a jar",
            hint="run it where there is a jar, or name one with --jar",
            code="no-jar",
        )
    if stage:
        jar.stage(stage)
    return Endpoint(word, jar.destination(name), stage)


def stages_of(jar: Jar, endpoint: Endpoint) -> list[str]:
    """Return the stages that a destination names; stages that only follow one are moved on request."""
    assert endpoint.destination
    if endpoint.stage:
        return [endpoint.stage]
    named = endpoint.destination.stages
    return [stage for stage in jar.stage_names() if named is None or stage in named or jar.stage(stage).name in named]


class EndpointReader:
    """Reads both endpoints."""

    def __init__(self, opened: OpenJar | None, jar: Jar | None) -> None:
        self.opened = opened
        self.jar = jar

    # -- the old place

    async def read_old(self, old: Endpoint, stages: Sequence[str]) -> list[SourceValue]:
        """Return every variable there. Raises ExternalError, InputError, UsageError."""
        if old.destination is not None and is_live(old.destination):
            return [value for stage in stages for value in await self._read_live(old.destination, stage)]
        source_values = []
        for stage in stages or [""]:
            text = f"dest:{old.destination.name}@{stage}" if old.destination else old.text
            source = read_source(
                text,
                self.opened.source_context(self.jar, stage or None)
                if self.opened and self.jar
                else SourceContext(stage=stage or None),
            )
            source_values += [
                SourceValue(
                    item.name,
                    stage,
                    item.service,
                    item.text,
                    self._is_secret(item.name, item.text or "", given=bool(item.secret)),
                )
                for item in source.reading.items
                if item.name not in SET_BY_EVERYBODY and (not stage or item.stage in (None, stage))
            ]
            source_values += [
                SourceValue(name, stage, None, None, secret=True) for name in sorted(source.reading.unread)
            ]
        return list(
            {
                (source_value.name, source_value.stage, source_value.service): source_value
                for source_value in source_values
            }.values()
        )

    def _is_secret(self, name: str, value: str, *, given: bool) -> bool:
        from coinjar.core.inference import infer

        if self.jar and name in self.jar.variables:
            return given or name in self.jar.secret_names
        return given or infer(name, value).secret

    def _around(self) -> RenderContext:
        assert self.opened
        assert self.jar
        return RenderContext(self.jar, self.opened.folder, Masker(), self.opened.ring, self.opened.gate)

    def targets(self, destination: Destination, stage: str) -> tuple[LiveDestination, list[Target]]:
        """Return a live destination's targets; values that cannot be computed yet are omitted."""
        assert self.opened
        instance = connected(destination, self._around())
        return instance, instance.targets(
            StageView(self.opened.resolver(stage, jar=self.jar), destination, lenient=True)
        )

    async def held(self, destination: Destination, stage: str) -> list[tuple[Target, dict[str, LiveValue]]]:
        """Return what a live destination contains on a stage."""
        _, targets = self.targets(destination, stage)
        result = []
        for target in targets:
            async with target:
                await target.identity()
                result.append((target, await target.read()))
        return result

    async def _read_live(self, destination: Destination, stage: str) -> list[SourceValue]:
        return [
            SourceValue(
                live_value.name,
                stage,
                target.services[0] if len(target.services) == 1 else None,
                live_value.text,
                self._is_secret(live_value.name, live_value.text or "", given=live_value.secret),
                live_value.supplied,
            )
            for target, live in await self.held(destination, stage)
            for live_value in live.values()
            if not live_value.inherited
        ]

    # -- the new place

    async def new(self, new: Endpoint, stages: Sequence[str]) -> TargetState:
        """Return the state of the new place.

        Raises UsageError if it cannot be written, ExternalError if it cannot be read.
        """
        if new.destination is None:
            match = _FILE.fullmatch(new.text)
            if not match:
                raise UsageError(
                    f"{new.text} cannot be written",
                    hint="move to dest:NAME, or to file+DIALECT:PATH",
                    code="unknown-source",
                )
            dialect = get(match[1])
            return TargetState(new, {}, lambda name, value: _of_dialect(dialect.unsupported_reason(name, value), name))
        for stage in stages:
            if to := new.destination.moved(stage):
                raise UsageError(f"{new.label} has itself moved to {to} on {stage}", hint="move there", code="moved")
        if is_live(new.destination):
            held = await self._held_live(new.destination, stages)
            instance = connected(new.destination, self._around())
            return TargetState(new, held, instance.rejection, folds=instance.folds_case)
        held = {}
        for stage in stages:
            for item in self._in_files(new.destination, stage):
                held[stage, item.service, item.name] = item.text
        return TargetState(new, held, rejected_by_shells)

    def _in_files(self, destination: Destination, stage: str) -> list[ReadItem]:
        """Return the contents of a destination's files. Only a missing file is empty: any other failure is raised."""
        assert self.jar
        result: dict[tuple[str | None, str], ReadItem] = {}
        for service in services_for(destination, self.jar):
            alone = destination._replace(services=frozenset([service]))
            try:
                reading = make(alone, self._around()).read(stage)
            except CoinJarError as fault:
                if any(error.code != "not-found" for error in fault.each()):
                    raise
                continue
            result |= {(item.service, item.name): item for item in reading.items}
        return list(result.values())

    async def _held_live(
        self, destination: Destination, stages: Sequence[str]
    ) -> dict[tuple[str, str | None, str], str | None]:
        """Return its contents, by stage, service and name."""
        result: dict[tuple[str, str | None, str], str | None] = {}
        for stage in stages:
            for target, there in await self.held(destination, stage):
                for service in target.services or (None,):
                    result |= {
                        (stage, service, name): live_value.text
                        for name, live_value in there.items()
                        if not live_value.inherited
                    }
        return result


class TargetState:
    """The new place: its present contents, and what it does not accept."""

    def __init__(
        self,
        where: Endpoint,
        held: Mapping[tuple[str, str | None, str], str | None],
        rejection: Callable[[str, str], RejectedValue | None],
        *,
        folds: bool = False,
    ) -> None:
        self.where = where
        self.folds = folds
        self.held = held
        self.rejection = rejection

    def takes(self, jar: Jar | None, source_value: SourceValue) -> str | None:
        """Return why it does not take a variable for a stage and service."""
        destination = self.where.destination
        if destination is None or jar is None:
            return None
        if source_value.stage and not is_for(jar, destination, source_value.stage):
            return f"{destination.name} is not for {source_value.stage}"
        if (
            source_value.service
            and source_value.service in jar.services
            and source_value.service not in services_for(destination, jar)
        ):
            return f"{destination.name} is not for {source_value.service}"
        if not gets(destination, source_value.name):
            return f"{destination.name} does not take it (variables:, without: in jar.yaml)"
        return None


def _of_dialect(words: str | None, name: str) -> RejectedValue | None:
    return RejectedValue(VALUE if shell_can_set(name) else NAME, words) if words else None


def file_target(word: str) -> tuple[str, Path]:
    """Return dialect and path of file+DIALECT:PATH."""
    match = _FILE.fullmatch(word)
    assert match
    return match[1], Path(match[2])
