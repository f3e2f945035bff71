"""The entries of a container's environment in a manifest."""

from __future__ import annotations

from typing import NamedTuple

from coinjar.destinations.workloads import (
    ManifestDocument,
    ManifestSet,
    WorkloadContainer,
)
from coinjar.dialects.base import Entry
from coinjar.documents.edit import END, Edit
from coinjar.documents.environments import EnvironmentEntry
from coinjar.documents.writer import Plain

THERE = "\0there"
"""Stands for a secret that is in the cluster: no value contains such a character."""


class ContainerEntries(NamedTuple):
    """A container of a service: its entries, and what the jar provides, by name."""

    manifest: ManifestDocument
    container: WorkloadContainer
    cluster: ManifestSet
    entries: list[EnvironmentEntry]
    service: str
    managed: dict[str, Entry]

    def moving(self) -> set[str]:
        """The names that an object provides now and did not before."""
        return {name for name, entry in self.managed.items() if entry.text is not None} - self.cluster.given(
            self.manifest, self.container
        )


def added(container: WorkloadContainer, section: str, elements: list[Plain]) -> list[Edit]:
    """Return the edits that add elements to a list of a container that may not exist yet."""
    node = container.node.child(section)
    if node is None or not node.plain.elements:
        return [Edit((*container.path, section), elements)] if elements else []
    return [Edit((*container.path, section, END), element) for element in elements]
