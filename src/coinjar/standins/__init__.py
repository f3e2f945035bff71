"""Small simulated platforms, invented, for trials and tests: loopback only, state in a file, faults on request."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, cast

if TYPE_CHECKING:
    from coinjar.standins.base import Standin

STANDINS = {
    "saltmarsh": "Hosting: flat settings per app; an empty one is removed; in use from the next deploy.",
    "lanternfish": "Hosting: each variable names its stages; some are write-only; in use at once; paged, rate-limited.",
    "sluiceway": "Pipelines: variables and secrets of the whole project and of a stage; runs a pipeline file.",
    "hayloft": "A small server of the Kubernetes API: apply and read back.",
}


def standin_class(name: str) -> type[Standin]:
    """Return the class of a stand-in."""
    return cast("type[Standin]", getattr(import_module(f"coinjar.standins.{name}"), name.capitalize()))
