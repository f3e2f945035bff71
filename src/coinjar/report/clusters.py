"""The order in which stages are nearest to each other, by hierarchical clustering."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from coinjar.core.distances import StageDistance

if TYPE_CHECKING:
    import numpy

_FAR = 1.0
"""What two stages count as that have nothing to compare."""


class StageOrder(NamedTuple):
    """The stages so that near ones are side by side. `merges` are those of SciPy's `linkage`: a row per merge of two
    groups, with their distance; None for a single stage.
    """

    names: list[str]
    merges: numpy.ndarray | None


def ordered(stages: Sequence[str], found: Sequence[StageDistance]) -> StageOrder:
    """Return the order of stages: groups by average distance, their sides turned so that neighbours are near."""
    if len(stages) < 2:
        return StageOrder(list(stages), None)
    from scipy.cluster.hierarchy import leaves_list, linkage

    known = by_pair(found)
    condensed = [known.get((left, right), _FAR) for number, left in enumerate(stages) for right in stages[number + 1 :]]
    merges = linkage(condensed, "average", optimal_ordering=True)
    return StageOrder([stages[number] for number in leaves_list(merges)], merges)


def by_pair(found: Sequence[StageDistance]) -> Mapping[tuple[str, str], float]:
    """Return the known distances, for both orders of each pair."""
    result = {}
    for pair in found:
        if pair.distance is not None:
            result[pair.left, pair.right] = result[pair.right, pair.left] = pair.distance
    return result
