"""Objects generated from variables: their names, files and order."""

from __future__ import annotations

import re
from pathlib import Path
from typing import NamedTuple

from coinjar.dialects.base import Entry
from coinjar.dialects.kube import ConfigMapDialect

ORDER, SERVICE = "coinjar/order", "coinjar/service"
"""Annotations of the generated objects: their order, and their owner."""


class GeneratedObject(NamedTuple):
    """An object: its service (`all`: shared by all), kind, name, namespace, and its file's text."""

    service: str
    dialect: ConfigMapDialect
    name: str
    namespace: str
    entries: list[Entry]

    @property
    def file(self) -> str:
        where = f"{self.namespace}." if self.namespace else ""
        return f"{where}{self.name}.{self.dialect.kind.lower()}.yaml"


def same_entries(entry: Entry | None, other: Entry) -> bool:
    """Return whether two entries have the same name and text."""
    return entry is not None and (entry.text, entry.secret) == (other.text, other.secret)


class EarlierObject(NamedTuple):
    """An object created earlier."""

    path: Path
    order: int
    series: tuple[str, str, str]
    name: str


def object_order(data: bytes) -> int | None:
    """Return the position in the series of objects; None without the annotation."""
    match = re.search(rb'coinjar/order: "(\d{1,9})"', data)
    return int(match[1]) if match else None
