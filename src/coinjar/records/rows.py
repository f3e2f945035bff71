"""What the records return: deliveries, what each did to its targets, and which variables it changed."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple


class DeliveryRecord(NamedTuple):
    """One delivery to a destination. Times are UTC."""

    number: int
    stage: str
    destination: str
    who: str
    started: datetime
    ended: datetime | None
    state: str
    undoes: int | None


class TargetRecord(NamedTuple):
    """What a delivery did to one target. `snapshot` is encrypted: the values before, and after."""

    target: str
    label: str
    state: str
    restart: str
    notes: str
    snapshot: bytes | None


class VariableRecord(NamedTuple):
    """One variable that was changed."""

    target: str
    name: str
    action: str
    secret: bool


class VariableDelivery(NamedTuple):
    """One delivery that changed a variable at a target."""

    number: int
    stage: str
    destination: str
    who: str
    started: datetime
    target: str
    action: str
    secret: bool
