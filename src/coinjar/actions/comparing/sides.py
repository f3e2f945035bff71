"""The two sides of a comparison: stages, or sources of any kind."""

from __future__ import annotations

from coinjar.actions.open_jar import OpenJar
from coinjar.core.compare import Difference, FlatSide, Side, StageSide, compare
from coinjar.core.errors import CoinJarError, UsageError
from coinjar.core.inference import infer
from coinjar.core.kinds import normal
from coinjar.core.model import Destination, Jar, Variable
from coinjar.dialects.base import ReadRemark
from coinjar.sources import is_source, read_source
from coinjar.sources.base import SET_BY_EVERYBODY, SourceContext


class Comparison:
    """Two sides, their differences, and remarks on unexpected readings."""

    def __init__(self, left: Side, right: Side, rows: list[Difference], remarks: list[ReadRemark]) -> None:
        self.left = left
        self.right = right
        self.rows = rows
        self.remarks = remarks


def compare_sources(
    opened: OpenJar | None, other_name: str, other: str, *, services: list[str], every_name: bool
) -> Comparison:
    """Compare two sources; `opened` is required if either is a stage, and declares which names are secret.

    In a file without a jar, what looks secret is treated as secret.
    """
    stages = [word for word in (other_name, other) if not is_source(word)]
    asked = [word.partition("@")[2] for word in (other_name, other) if word.startswith("dest:") and "@" in word]
    jar = opened.load([*stages, *asked]) if opened else None
    if jar:
        services = [jar.service(service).name for service in services] or list(jar.services)
    destinations = [
        jar.destination(word[5:].partition("@")[0]) for word in (other_name, other) if jar and word.startswith("dest:")
    ]
    for destination in destinations:  # what it never takes is not a difference
        services = [name for name in services if destination.services is None or name in destination.services]
    remarks: list[ReadRemark] = []
    unread: set[str] = set()
    stage = stages[0] if len(stages) == 1 else None
    context = opened.source_context(jar, stage) if opened and jar else SourceContext()
    sides = [_side(opened, context, word, services, remarks, unread, every_name) for word in (other_name, other)]
    services = services or list(
        dict.fromkeys(service for side in sides if isinstance(side, FlatSide) for service in side.services())
    )
    rows = [
        row
        for row in compare(sides[0], sides[1], services)
        if row.name not in unread and all(_takes(jar, destination, row) for destination in destinations)
    ]
    return Comparison(sides[0], sides[1], rows, remarks)


def _takes(jar: Jar | None, destination: Destination, row: Difference) -> bool:
    """Return whether a destination takes the variable of a row."""
    from coinjar.destinations.stage_view import gets

    variable = jar.variables.get(row.name) if jar else None
    if variable is None:
        return True
    built = variable.phase == "build" and destination.type != "containerfile"
    return gets(destination, row.name) and not built and not (row.secret and destination.plain_only)


def _side(
    opened: OpenJar | None,
    context: SourceContext,
    word: str,
    services: list[str],
    remarks: list[ReadRemark],
    unread: set[str],
    every_name: bool,
) -> Side:
    jar = context.jar
    if not is_source(word):
        assert opened is not None, "a stage requires a jar"
        assert jar is not None
        return StageSide(opened.resolver(word, jar=jar), services)
    if word.startswith("delivery:") and opened is not None and jar is not None:
        from coinjar.actions.delivery.history import delivery_number, delivery_side

        return delivery_side(opened, jar, delivery_number(word))
    source = read_source(word, context)
    remarks += source.reading.remarks
    unread |= source.reading.unread
    known = jar.variables if jar else {}
    if source.stages() and context.stage is None:
        hint = f"compare it with one of its stages ({', '.join(source.stages())}), or adopt it"
        raise UsageError(f"{source.label} contains several stages", hint=hint, code="which-stage")
    values: dict[str | None, dict[str, str | None]] = {}
    secret: set[str] = set()
    for service in [None, *(services or source.services())] if source.services() else [None]:
        values[service] = {}
        for name, item in source.of(service, context.stage).items():
            if every_name or name in known or name not in SET_BY_EVERYBODY:
                values[service][name] = _normal(known.get(name), item.text)
                if (
                    (jar is not None and name in jar.secret_names)
                    or item.secret
                    or (name not in known and infer(name, item.text or "").secret)
                ):
                    secret.add(name)
    if source.services():
        del values[None]
    return FlatSide(source.label, values, secret)


def _normal(variable: Variable | None, value: str | None) -> str | None:
    """Return a text in the jar's spelling, so that only real differences are reported."""
    try:
        return normal(variable, value) if variable and value is not None else value
    except CoinJarError:
        return value
