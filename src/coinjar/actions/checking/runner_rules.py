"""Rules on what runs a document: jobs without a stage, and what a runner does not look at."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from coinjar.core.diagnostics import Diagnostic

if TYPE_CHECKING:
    from coinjar.actions.checking.context import FileContext


def without_a_stage(context: FileContext) -> Iterator[Diagnostic]:
    """CJ045"""
    yield from context.destination_diagnostics.get("CJ045", ())
    yield from context.runner_diagnostics.get("CJ045", ())


def not_looked_at(context: FileContext) -> Iterator[Diagnostic]:
    """CJ046"""
    yield from context.destination_diagnostics.get("CJ046", ())
    yield from context.runner_diagnostics.get("CJ046", ())
