"""What some destinations can do besides being rendered or delivered to.

Commands ask for a capability, never for a type, so a destination of another package can have it too.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Protocol, runtime_checkable

from coinjar.core.delivery import LiveValue
from coinjar.core.layers import Resolver
from coinjar.core.model import Destination

if TYPE_CHECKING:
    from coinjar.destinations.document_places import DocumentPlace
    from coinjar.destinations.live.platform_runs import PlatformRuns
    from coinjar.destinations.open_document import OpenDocument
    from coinjar.destinations.stage_view import RenderContext


@runtime_checkable
class HasEnvironments(Protocol):
    """A file with environments at pointers: `why --in` explains them."""

    destination: Destination
    render_context: RenderContext
    path: str
    places: Sequence[DocumentPlace]

    def open(self, stage: str) -> OpenDocument:
        """Return the document of a stage."""


@runtime_checkable
class KeepsEarlierObjects(Protocol):
    """A folder with earlier objects: `render --stale` lists those that nothing refers to."""

    def stale(self, stage: str, keep: int | None = None) -> list[Path]:
        """Return the files of such objects, except the newest `keep` of each series."""


@runtime_checkable
class StoresValues(Protocol):
    """A store of values by key, for `{stored_in: DESTINATION, key: KEY}`."""

    async def stored_value(self, key: str, resolver: Resolver) -> str | None:
        """Return the text under a key; None if there is none. Raises ExternalError."""


@runtime_checkable
class HasPipelines(Protocol):
    """A target whose pipelines can be run, for proofs."""

    runs: PlatformRuns


@runtime_checkable
class HasPods(Protocol):
    """A target with running pods, for proofs."""

    async def pods(self) -> Sequence[Mapping[str, LiveValue]]:
        """Return the environment of every running pod."""
