"""The two sides of a comparison: stages, or sources of any kind."""

from __future__ import annotations

from coinjar.actions.opening import OpenJar
from coinjar.core.compare import Difference, FlatSide, Side, StageSide, compare
from coinjar.core.errors import CoinJarError
from coinjar.core.guess import guess
from coinjar.core.kinds import normal
from coinjar.core.model import Jar, Variable
from coinjar.dialects.base import Remark
from coinjar.sources import is_source, read_source
from coinjar.sources.base import SET_BY_EVERYBODY


class Comparison:
    """Two sides, what differs, and what was read differently from what a person may expect."""

    def __init__(self, left: Side, right: Side, rows: list[Difference], remarks: list[Remark]) -> None:
        self.left = left
        self.right = right
        self.rows = rows
        self.remarks = remarks


def compare_sources(opened: OpenJar | None, one: str, other: str, *, service: str | None, every_name: bool, allow_commands: bool) -> Comparison:
    """Compare two sources; `opened` is needed where either is a stage, and knows which names are secret.

    In a file that the jar does not know, what looks secret is taken for one.
    """
    stages = [text for text in (one, other) if not is_source(text)]
    jar = opened.load(stages) if opened else None
    if jar and service:
        jar.service(service)
    services = [service] if service else list(jar.services) if jar else []
    remarks: list[Remark] = []
    sides = [_side(opened, jar, text, services, remarks, allow_commands, every_name) for text in (one, other)]
    return Comparison(sides[0], sides[1], compare(sides[0], sides[1], services), remarks)


def _side(opened: OpenJar | None, jar: Jar | None, text: str, services: list[str], remarks: list[Remark], allow_commands: bool, every_name: bool) -> Side:
    if not is_source(text):
        assert opened is not None, "a stage is only asked of a jar"
        assert jar is not None
        return StageSide(opened.resolver(text, jar=jar, allow_commands=allow_commands), services)
    source = read_source(text)
    remarks += source.reading.remarks
    known = jar.variables if jar else {}
    values = {name: _normal(known.get(name), value) for name, value in source.values().items() if every_name or name in known or name not in SET_BY_EVERYBODY}
    secret = [name for name, value in values.items() if (known[name].secret if name in known else guess(name, value or "").secret)]
    return FlatSide(source.label, values, secret)


def _normal(variable: Variable | None, text: str | None) -> str | None:
    """A text in the spelling that the jar would give it, so that only what differs is told."""
    try:
        return normal(variable, text) if variable and text is not None else text
    except CoinJarError:
        return text
