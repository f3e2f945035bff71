"""The contents of a report. Texts are masked and safe to show; nothing here reveals a secret."""

from __future__ import annotations

from datetime import date, datetime
from typing import NamedTuple

from coinjar.actions.structure.list_parts import ServiceRow, StageRow
from coinjar.core.distances import StageDistance
from coinjar.core.record import Record


class ReportedPlace(NamedTuple):
    """One place that sets a variable: its layer (with the service), what it says, `file:line`, and since when (ISO
    8601, "" if unknown).
    """

    layer: str
    says: str
    location: str
    since: str


class CellReason(NamedTuple):
    """Why services get their value. `services` is empty for all; `places` are numbers of the variable's places, lowest
    layer first, `winner` the one that takes effect (None: none does).
    """

    services: tuple[str, ...]
    shown: str
    places: tuple[int, ...]
    winner: int | None
    remarks: tuple[str, ...]


class ReportedCell(NamedTuple):
    """One variable on one stage; `state` as in core/grid.py, `shown` without its sign."""

    state: str
    shown: str
    secret: bool
    reasons: tuple[CellReason, ...]


class CodeMention(NamedTuple):
    """Where code mentions a variable."""

    file: str
    line: int
    how: str


class ReportedVariable(Record, kw_only=True):
    """One variable, with one cell per stage."""

    name: str
    about: str
    kind: str
    rules: list[str]
    default: str | None
    secret: bool
    required: bool
    services: list[str]
    stages: list[str] | None
    agreement: str
    missing: bool
    places: list[ReportedPlace]
    cells: list[ReportedCell]
    mentions: list[CodeMention]
    destinations: list[str]


class ReportedFinding(NamedTuple):
    """One finding of check; `accepted` is the reason, None if it is open."""

    rule: str
    severity: str
    title: str
    message: str
    fix: str
    location: str
    variable: str | None
    accepted: str | None


class ReportedSecret(NamedTuple):
    """The age of an encrypted value. `state` as in core/secret_ages.py."""

    name: str
    layer: str
    scopes: tuple[str, ...]
    state: str
    set_on: date | None
    good_until: date | None


class ReportedReader(NamedTuple):
    """A reader; `opens` maps the stages to `all`, or to the service whose part it is."""

    label: str
    service: str | None
    offline: bool
    opens: dict[str, str]


class ReportedDelivery(NamedTuple):
    """One delivery (UTC), with how many variables it changed."""

    number: int
    stage: str
    destination: str
    who: str
    state: str
    started: datetime
    changes: int


class ReportedDrift(NamedTuple):
    """A live target: how many variables are in which state; or why it could not be read."""

    stage: str
    label: str
    settled: bool
    states: dict[str, int]
    fault: str


class DestinationRow(NamedTuple):
    """A destination: its type, what it carries, and its last delivery."""

    name: str
    type: str
    stages: list[str] | None
    services: list[str]
    variables: int
    delivered: datetime | None


class PastDistances(NamedTuple):
    """The distances of pairs of stages at a revision."""

    revision: str
    when: datetime
    subject: str
    distances: dict[tuple[str, str], float]


class ReportContents(Record, kw_only=True):
    """All of a report."""

    app: str
    made_on: date
    revision: str
    stages: list[StageRow]
    services: list[ServiceRow]
    columns: list[str]
    variables: list[ReportedVariable]
    findings: list[ReportedFinding]
    secrets: list[ReportedSecret]
    readers: list[ReportedReader]
    approvals: dict[str, str]
    destinations: list[DestinationRow]
    deliveries: list[ReportedDelivery]
    drifts: list[ReportedDrift] | None
    """None if nobody asked (`--live`)."""
    distances: list[StageDistance]
    apartness: dict[str, float]
    past: list[PastDistances]
    unchecked: int
    """Values that the findings do not know."""
    undated: int
    """Values of secrets whose age cannot be known: encrypted for others, or in plain text."""
    not_looked_at: list[str]

    @property
    def kinds(self) -> dict[str, int]:
        """Return how many variables there are of each kind, most first; secrets count as such."""
        counts: dict[str, int] = {}
        for variable in self.variables:
            kind = "secret" if variable.secret else variable.kind
            counts[kind] = counts.get(kind, 0) + 1
        return dict(sorted(counts.items(), key=lambda item: (-item[1], item[0])))

    def states(self) -> dict[str, dict[str, int]]:
        """Return for each stage how many cells are in which state."""
        return {
            stage: {
                state: sum(variable.cells[number].state == state for variable in self.variables)
                for state in dict.fromkeys(variable.cells[number].state for variable in self.variables)
            }
            for number, stage in enumerate(self.columns)
        }
