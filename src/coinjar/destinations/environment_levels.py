"""The environments of one document as levels: whole pipeline, job, step; which of them decides a name, and which repeat
it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple, TypeAlias

from coinjar.core.errors import Location
from coinjar.documents.environments import EnvironmentEntry
from coinjar.documents.pointer import above


class EnvironmentLevel(NamedTuple):
    """One environment: where it is, its entries, which levels above decide it, and which precede it without enclosing
    it.
    """

    pointer: str
    location: Location
    entries: Mapping[str, EnvironmentEntry]
    decided_by: tuple[str, ...] = ()
    places: Mapping[str, Location] = {}
    inherits: tuple[str, ...] = ()


Above: TypeAlias = Mapping[str, Sequence[str]]
"""Return for each level those above it, the widest first."""


def levels_above(inherits: Mapping[str, Sequence[str]]) -> dict[str, list[str]]:
    """Return for each level (`inherits` contains them all) those that enclose it by pointer, and those that it inherits
    by declaration, directly or indirectly.
    """
    result: dict[str, list[str]] = {}

    def of(pointer: str, below: tuple[str, ...]) -> list[str]:
        if pointer not in result and pointer not in below:
            direct = [one for one in inherits if above(one, pointer)] + [
                one for one in inherits[pointer] if one in inherits
            ]
            every = {reader for other in direct for reader in (*of(other, (*below, pointer)), other)} - {pointer}
            result[pointer] = sorted(
                every, key=lambda finding: (len(of(finding, (*below, pointer))), finding.count("/"), finding)
            )
        return result.get(pointer, [])

    return {pointer: of(pointer, ()) for pointer in inherits}


def nearest_above(pointer: str, around: Above) -> str | None:
    """Return the level directly above one, if any."""
    result = around[pointer]
    return result[-1] if result else None


def above_all(pointer: str) -> list[str]:
    """Return the pointers of the environments of the same name that may enclose one, the widest first, itself last."""
    *steps, name = pointer.split("/")[1:]
    return [f"{'/'.join(['', *steps[:length]])}/{name}" for length in range(len(steps) + 1)]


def deciding(
    levels: Sequence[EnvironmentLevel], pointer: str, name: str
) -> tuple[EnvironmentLevel | None, list[EnvironmentLevel]]:
    """Return the level that decides a name for the level at `pointer`, and every level that sets it, the narrowest
    first.
    """
    by_pointer = {level.pointer: level for level in levels}
    around = levels_above({level.pointer: level.inherits for level in levels})
    chain = [by_pointer[name] for name in [*around[pointer], pointer]]
    spoken = [level for level in reversed(chain) if name in level.entries]
    if not spoken:
        return None, []
    winner = spoken[0]
    while True:  # a level may be decided by one above, and that one by another
        higher = next((level for level in spoken if level.pointer in winner.decided_by and level is not winner), None)
        if higher is None:
            return winner, spoken
        winner = higher


def idle(levels: Sequence[EnvironmentLevel]) -> list[tuple[EnvironmentLevel, EnvironmentEntry, EnvironmentLevel]]:
    """Yield assignments without effect: the level, the entry, and the level above that decides."""
    result = []
    for level in levels:
        for name, entry in level.entries.items():
            winner, _ = deciding(levels, level.pointer, name)
            if winner is not None and winner is not level and winner.entries[name].text != entry.text:
                result.append((level, entry, winner))
    return result


def lifted(
    final: dict[str, dict[str, str]],
    own: Mapping[str, Mapping[str, str]],
    now: Mapping[str, Mapping[str, str | None]],
    takes: Mapping[str, Callable[[str], bool]],
    around: Above,
    *,
    everything: bool,
) -> dict[str, dict[str, str]]:
    """Move what all levels directly below another repeat up to it.

    `final` is what each level should contain, by pointer; `own` what it gets for itself; `now` its present content;
    `takes` which names it accepts. Without `everything` only names that are already above are moved, so that moved ones
    stay there.
    """
    result = {pointer: dict(entries) for pointer, entries in final.items()}
    for parent in sorted(result, key=lambda name: -len(around[name])):
        children = [name for name in result if nearest_above(name, around) == parent]
        if len(children) < 2:
            continue
        for name in [
            name
            for name in result[children[0]]
            if takes[parent](name) and all(name in result[child] for child in children)
        ]:
            texts = {result[child][name] for child in children}
            clashes = name in own[parent] and own[parent][name] not in texts
            there = now[parent].get(name) is not None and name not in own[parent]
            if len(texts) == 1 and not clashes and (everything or there or own[parent].get(name) in texts):
                result[parent][name] = texts.pop()
                for child in children:
                    if everything or now[child].get(name) is None or there:
                        del result[child][name]
    return result
