"""List the stages and the services of a jar, with what belongs to each. No value is decrypted."""

from __future__ import annotations

from contextlib import closing
from datetime import datetime
from typing import NamedTuple

from coinjar.actions.delivery.records import open_records
from coinjar.actions.open_jar import OpenJar
from coinjar.core.consent import ConsentMissing
from coinjar.core.definition import SealedDefinition
from coinjar.core.errors import CoinJarError
from coinjar.core.model import Jar, Layer
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.readers import load_readers
from coinjar.records.rows import DeliveryRecord


class StageRow(NamedTuple):
    """One stage. `variables` and `secrets` count the values that it sets itself; `delivered` is the end of the last
    delivery (UTC), None if there was none, or if the records cannot be read.
    """

    name: str
    about: str
    follows: str
    guarded: bool
    pattern: bool
    values: int
    secrets: int
    readers: list[str]
    delivered: datetime | None
    delivered_to: str
    formerly: list[str]


class ServiceRow(NamedTuple):
    """One service. `variables` counts those declared for it, `own_values` the values that are set for it alone."""

    name: str
    about: str
    code: list[str]
    variables: int
    own_values: int
    readers: list[str]
    formerly: list[str]


class StageList(NamedTuple):
    """The stages; and why the last deliveries are unknown, "" if they are known."""

    rows: list[StageRow]
    unknown_deliveries: str


def list_stages(opened: OpenJar) -> StageList:
    """Return every declared stage, pattern, and stage of a pattern that has values."""
    jar = opened.load()
    readers = load_readers(opened.folder)
    last, unknown = _last_deliveries(opened, jar)
    rows = []
    for name in [*jar.stages, *(name for name in jar.stage_names() if name not in jar.stages)]:
        stage = jar.stages.get(name) or jar.stage(name)
        values, secrets = _counts(jar.plain.get(name, {}))
        delivery = last.get(name)
        rows.append(
            StageRow(
                name,
                stage.about,
                stage.follows or "",
                stage.guarded,
                "*" in name,
                values,
                secrets,
                [reader.label for reader in readers.of(name)],
                delivery and (delivery.ended or delivery.started),
                delivery.destination if delivery else "",
                list(stage.formerly),
            )
        )
    return StageList(rows, unknown)


def list_services(opened: OpenJar) -> list[ServiceRow]:
    """Return every declared service."""
    jar = opened.load()
    readers = load_readers(opened.folder)
    return [
        ServiceRow(
            name,
            service.about,
            list(service.code),
            sum(name in jar.services_with(variable) for variable in jar.variables.values()),
            sum(len(layer.get(name, {})) for layer in jar.plain.values()),
            [reader.label for reader in readers.readers.values() if reader.service == name],
            list(service.formerly),
        )
        for name, service in jar.services.items()
    ]


def _counts(layer: Layer) -> tuple[int, int]:
    """Return how many values a layer sets, and how many of these are encrypted."""
    definitions = [definition for scope in layer.values() for definition in scope.values()]
    return len(definitions), sum(isinstance(definition, SealedDefinition) for definition in definitions)


def _last_deliveries(opened: OpenJar, jar: Jar) -> tuple[dict[str, DeliveryRecord], str]:
    """Return the newest delivery by stage; and why it is unknown."""
    if jar.records is None and not JarLayout(opened.folder).records.exists():
        return {}, ""
    try:
        with closing(open_records(opened, jar)) as records:
            return records.newest(name for name in jar.stage_names()), ""
    except ConsentMissing as fault:
        return {}, fault.message
    except CoinJarError as fault:
        return {}, fault.message
