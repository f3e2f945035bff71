"""The stages of a migration: which stage of the old place becomes which stage of the jar and of the new place."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from coinjar.actions.migration.endpoints import Endpoint, stages_of
from coinjar.core.dispositions import SourceValue
from coinjar.core.errors import UsageError
from coinjar.core.model import Jar
from coinjar.core.secret import reveal


class StagePair(NamedTuple):
    """A stage at the old place, and the one that it becomes."""

    old: str
    new: str

    @property
    def word(self) -> str:
        """The pair as it is written: `dev`, or `dev=staging`."""
        return self.old if self.old == self.new else f"{self.old}={self.new}"


def stage_pairs(jar: Jar, old: Endpoint, new: Endpoint, asked: Sequence[str]) -> list[StagePair]:
    """Return the pairs that were asked for (`dev`, `dev=staging`), or those of all stages of the old place.

    Raises UsageError for an unknown stage, and for a place that names another one (`dest:new@prod`).
    """
    pairs = [_pair(word, new) for word in asked]
    if not asked and old.destination is not None:
        pairs = [StagePair(stage, new.stage or stage) for stage in stages_of(jar, old)]
    for pair in pairs:
        jar.stage(pair.old)
        jar.stage(pair.new)
        for endpoint, stage in ((old, pair.old), (new, pair.new)):
            if endpoint.stage not in ("", stage):
                message = f"{endpoint.text} and --stage {pair.word} name different stages"
                raise UsageError(message, hint="name them once: --stage OLD=NEW", code="which-stage")
    return list(dict.fromkeys(pairs))


def _pair(word: str, new: Endpoint) -> StagePair:
    old, equals, becomes = word.partition("=")
    return StagePair(old, becomes if equals else new.stage or old)


def paired(values: Iterable[SourceValue], pairs: Sequence[StagePair]) -> list[SourceValue]:
    """Return the values under the stages that theirs become. Where several stages become one and their values differ,
    none of them is taken.
    """
    found: dict[tuple[str, str, str | None], SourceValue] = {}
    came_from: dict[tuple[str, str, str | None], list[str]] = {}
    for value in values:
        for stage in [pair.new for pair in pairs if pair.old == value.stage] if value.stage else [""]:
            key = (value.name, stage, value.service)
            other = found.setdefault(key, value._replace(stage=stage))
            came_from.setdefault(key, []).append(value.stage)
            differ = reveal(other.text or "") != reveal(value.text or "") or (other.text is None) != (
                value.text is None
            )
            if other.differing or differ:
                stages = " and ".join(came_from[key])
                found[key] = other._replace(text=None, secret=other.secret or value.secret, differing=stages)
    return list(found.values())
