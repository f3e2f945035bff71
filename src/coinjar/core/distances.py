"""How far apart stages are: the share of variables whose values differ, for each pair."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations
from typing import Final, NamedTuple, TypeAlias

from coinjar.core.layers import Resolver
from coinjar.core.model import Variable

OWN_WEIGHT: Final = 0.25
"""What a variable counts that stages have different values of by nature: a secret, or one with `per_stage`. Any other
counts 1: two stages that differ in nothing else are near.
"""


class _Unknown:
    """A value that cannot be computed or decrypted here."""


UNKNOWN: Final = _Unknown()
Seen: TypeAlias = str | _Unknown | None
StageView: TypeAlias = Mapping[str, tuple[Seen, ...]]
"""What each variable's services see on a stage: one value if all see the same, else one for each of them."""


class StageDistance(NamedTuple):
    """Two stages. `distance` is from 0 (no difference) to 1 (nothing is the same), None if nothing can be compared.

    `parts` has the variables that make it, each with the share of services that see different values, `unknown` those
    that were left out because a value is not known.
    """

    left: str
    right: str
    distance: float | None
    parts: Mapping[str, float]
    unknown: frozenset[str]


def view_of(resolver: Resolver) -> StageView:
    """Return what a resolver's stage gives to the services of each variable."""
    result: dict[str, tuple[Seen, ...]] = {}
    for name, variable in resolver.jar.variables.items():
        if name in resolver.absent:
            result[name] = (None,)
            continue
        services = resolver.jar.services_with(variable)
        asked = resolver.distinct(variable, services)
        values = [_seen(resolver, name, service) for service in (services if len(asked) > 1 else asked)]
        result[name] = tuple(values[:1] if all(value == values[0] for value in values) else values)
    return result


def _seen(resolver: Resolver, name: str, service: str) -> Seen:
    resolved = resolver.value(name, service)
    return UNKNOWN if resolved.fault is not None else resolved.text


def weight_of(variable: Variable) -> float:
    """Return what a variable counts in a distance."""
    return OWN_WEIGHT if variable.secret or variable.per_stage else 1.0


def distances(
    views: Mapping[str, StageView], variables: Mapping[str, Variable], pairs: Sequence[tuple[str, str]] | None = None
) -> list[StageDistance]:
    """Return the distance of each pair of stages (None: of all), in order."""
    weights = {str(name): weight_of(variable) for name, variable in variables.items()}
    return [
        _between((left, views[left]), (right, views[right]), weights)
        for left, right in (combinations(views, 2) if pairs is None else pairs)
    ]


def _between(left: tuple[str, StageView], right: tuple[str, StageView], weights: Mapping[str, float]) -> StageDistance:
    parts: dict[str, float] = {}
    unknown = set()
    whole = apart = 0.0
    others = right[1]
    for name, mine in left[1].items():
        theirs = others[name]
        if mine == theirs and (mine == (None,) or UNKNOWN not in mine):
            whole += weights[name] if mine != (None,) else 0  # neither has it: it is no part of either
            continue
        pairs = [pair for pair in _paired(mine, theirs) if UNKNOWN not in pair]
        if not pairs:
            unknown.add(name)
            continue
        whole += weights[name]
        if share := sum(one != other for one, other in pairs) / len(pairs):
            parts[name] = share
            apart += share * weights[name]
    return StageDistance(left[0], right[0], apart / whole if whole else None, parts, frozenset(unknown))


def _paired(mine: tuple[Seen, ...], theirs: tuple[Seen, ...]) -> Iterator[tuple[Seen, Seen]]:
    """Return what each service sees on both; one value stands for that of all."""
    count = max(len(mine), len(theirs))
    return zip(
        mine if len(mine) == count else mine * count, theirs if len(theirs) == count else theirs * count, strict=True
    )


def apartness(found: Sequence[StageDistance], variables: Mapping[str, Variable]) -> dict[str, float]:
    """Return in how many of the pairs each variable differs, times what it counts, most first."""
    result: dict[str, float] = {}
    for pair in found:
        for name, share in pair.parts.items():
            result[name] = result.get(name, 0.0) + share * weight_of(variables[name])
    return dict(sorted(result.items(), key=lambda item: (-item[1], item[0])))
