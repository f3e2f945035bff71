"""Small simulated platforms, made up, for trying things and for tests: loopback only, state in a file, faults on request."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, cast

if TYPE_CHECKING:
    from coinjar.standins.base import Standin

STANDINS = {
    "saltmarsh": "Hosting: flat settings an app; an empty one is removed; in effect at the next deploy.",
    "lanternfish": "Hosting: each variable names its stages; some are write-only; in effect at once; paged, rate-limited.",
    "sluiceway": "Pipelines: variables and secrets of the whole project and of a stage; runs a pipeline file.",
    "hayloft": "Just enough of the Kubernetes API to apply to and to read back.",
}


def standin_class(name: str) -> type[Standin]:
    """The class of a stand-in."""
    return cast("type[Standin]", getattr(import_module(f"coinjar.standins.{name}"), name.capitalize()))
