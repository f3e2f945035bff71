"""Collect what a report says: values, findings, secrets' ages, readers, deliveries, distances, and the history."""

from __future__ import annotations

import asyncio
from collections import Counter
from datetime import date
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.checking.check import CheckReport, check
from coinjar.actions.delivery.history import listed
from coinjar.actions.delivery.selection import is_named
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.reporting.contents import (
    CodeMention,
    DestinationRow,
    PastDistances,
    ReportContents,
    ReportedDelivery,
    ReportedDrift,
    ReportedFinding,
    ReportedReader,
    ReportedSecret,
)
from coinjar.actions.reporting.past_distances import past_distances
from coinjar.actions.reporting.variable_sections import variable_sections
from coinjar.actions.secrets.readers import listing
from coinjar.actions.structure.list_parts import list_services, list_stages
from coinjar.core.code_uses import has_code
from coinjar.core.display import Masker, visible
from coinjar.core.distances import apartness, distances, view_of
from coinjar.core.errors import CoinJarError, UsageError
from coinjar.core.model import Jar
from coinjar.core.progress import Progress
from coinjar.core.rules.base import Finding
from coinjar.core.rules.secrets import plain_secret_count
from coinjar.core.secret_ages import secret_ages, undecryptable_count
from coinjar.destinations import is_live
from coinjar.destinations.stage_view import gets, services_for
from coinjar.system.files import display_path
from coinjar.system.revisions import commits_of

_NEWEST_DELIVERIES, _MOST_NAMED = 200, 8


class ReportOptions(NamedTuple):
    """What to look at: running systems, and how many revisions of version control."""

    live: bool
    revisions: int


def collect(opened: OpenJar, options: ReportOptions, today: date, progress: Progress | None = None) -> ReportContents:
    """Return the contents of a report. Raises what reading the jar raises; what else cannot be looked at is listed in
    `not_looked_at`.
    """
    jar = opened.load()
    masker = Masker()
    unseen: list[str] = []
    columns = [name for name in jar.stage_names() if "*" not in name]
    resolvers = [opened.resolver(name, jar=jar) for name in columns]
    checked = check(opened, progress=progress)
    unseen += _unchecked(checked)
    stages = list_stages(opened)
    if stages.unknown_deliveries:
        unseen.append(f"deliveries: {stages.unknown_deliveries}")
    found = distances({resolver.stage: view_of(resolver) for resolver in resolvers}, jar.variables)
    if left_out := {name for pair in found for name in pair.unknown}:
        what = ", ".join(sorted(left_out)[:_MOST_NAMED]) + (", …" if len(left_out) > _MOST_NAMED else "")
        unseen.append(f"the distance by {what}: the value is not known on some stage")
    undecrypted = undecryptable_count(jar, jar.secret_names)
    if undecrypted:
        unseen.append(f"the age of values that are encrypted for others: {undecrypted} in all")
    plain = plain_secret_count(jar, [variable.name for variable in jar.variables.values() if variable.secret])
    if plain:
        unseen.append(f"the age of secrets in plain text: {plain} in all (`coinjar readers seal` encrypts them)")
    readers = listing(opened)
    deliveries = _deliveries(opened, unseen)
    revision, past = _history(opened, options, unseen)
    return ReportContents(
        app=jar.app,
        made_on=today,
        revision=revision,
        stages=stages.rows,
        services=list_services(opened),
        columns=columns,
        variables=variable_sections(jar, resolvers, _mentions(opened, jar, unseen), masker, progress),
        findings=[_finding(item) for item in _by_severity(checked)],
        secrets=[
            ReportedSecret(str(age.variable.name), age.layer, age.scopes, age.state, age.set_on, age.good_until)
            for age in secret_ages(jar, today)
        ],
        readers=[
            ReportedReader(
                row.reader.label,
                row.reader.service,
                row.reader.offline,
                dict.fromkeys(row.opens, row.reader.service or "all"),
            )
            for row in readers.rows
        ],
        approvals=readers.stages,
        destinations=_destinations(jar, deliveries),
        deliveries=deliveries,
        drifts=_drifts(opened, jar, columns, unseen) if options.live else None,
        distances=found,
        apartness=apartness(found, jar.variables),
        past=past,
        unchecked=checked.not_fetched + checked.closed,
        undated=undecrypted + plain,
        not_looked_at=unseen,
    )


def _unchecked(checked: CheckReport) -> list[str]:
    counts = (
        (checked.unconsented, "values from commands or files without consent (`coinjar consent`)"),
        (checked.not_fetched - checked.unconsented, "values from a store or another jar"),
        (checked.closed, "secrets that this identity cannot decrypt"),
    )
    return [f"{what}: {count} in all" for count, what in counts if count]


def _by_severity(checked: CheckReport) -> list[Finding]:
    return sorted(checked.findings, key=lambda finding: (finding.rule.severity != "error", finding.rule.code))


def _finding(finding: Finding) -> ReportedFinding:
    diagnostic = finding.diagnostic
    return ReportedFinding(
        finding.rule.code,
        finding.rule.severity,
        finding.rule.title,
        visible(diagnostic.message),
        visible(diagnostic.hint),
        f"{diagnostic.location.file}:{diagnostic.location.line}",
        diagnostic.variable,
        finding.accepted.reason if finding.accepted else None,
    )


def _mentions(opened: OpenJar, jar: Jar, unseen: list[str]) -> dict[str, list[CodeMention]]:
    """Return where code mentions each variable, below what jar.yaml names as code."""
    if not has_code(jar):
        unseen.append("code: jar.yaml does not name it (code)")
        return {}
    from coinjar.actions.mentions.search import code_paths, find, unread_files

    report = find(opened, jar, code_paths(jar, opened.folder.resolve().parent))
    if unread := len(unread_files(report)):
        unseen.append(f"code that cannot be read: {unread} in all")
    result: dict[str, list[CodeMention]] = {}
    for file in report.scanned.files:
        for located in file.mentions:
            if located.mention:
                place = CodeMention(display_path(Path(file.path)), located.line, located.mention.access)
                result.setdefault(located.mention.name, []).append(place)
    return result


def _deliveries(opened: OpenJar, unseen: list[str]) -> list[ReportedDelivery]:
    """Return the newest deliveries, oldest first."""
    try:
        rows = listed(opened, _NEWEST_DELIVERIES)
    except CoinJarError as fault:
        unseen.append(f"the deliveries: {fault.message}")
        return []
    return [
        ReportedDelivery(
            row.number, row.stage, row.destination, visible(row.who), row.state, row.started, sum(counts.values())
        )
        for row, counts in reversed(rows)
    ]


def _destinations(jar: Jar, deliveries: list[ReportedDelivery]) -> list[DestinationRow]:
    last = {row.destination: row.started for row in deliveries}
    return [
        DestinationRow(
            destination.name,
            destination.type,
            sorted(destination.stages) if destination.stages is not None else None,
            services_for(destination, jar),
            sum(
                gets(destination, name) and any(map(variable.applies_to, services_for(destination, jar)))
                for name, variable in jar.variables.items()
            ),
            last.get(destination.name),
        )
        for destination in jar.destinations.values()
    ]


def _history(opened: OpenJar, options: ReportOptions, unseen: list[str]) -> tuple[str, list[PastDistances]]:
    """Return the newest commit of the jar, and the distances at earlier ones."""
    try:
        commits = commits_of(opened.folder)
    except UsageError:
        unseen.append("the history: there is no repository of version control around the jar")
        return "", []
    newest = commits[-1].name[:7] if commits else ""
    if not commits or not options.revisions:
        return newest, []
    return newest, past_distances(opened, commits, options.revisions, unseen)


def _drifts(opened: OpenJar, jar: Jar, columns: list[str], unseen: list[str]) -> list[ReportedDrift]:
    """Return the state of every live target of every stage."""
    from coinjar.actions.delivery.drift import drift
    from coinjar.actions.delivery.live_stage import LiveStage

    result = []
    for stage in columns:
        if not any(
            is_live(destination) and is_named(jar, destination, stage) for destination in jar.destinations.values()
        ):
            continue
        try:
            with LiveStage(opened, stage, [], Masker()) as live:
                found = asyncio.run(drift(live))
        except CoinJarError as fault:
            unseen.append(f"what is live on {stage}: {'; '.join(error.message for error in fault.each())}")
            continue
        for target in found:
            states = Counter(row.state for row in target.rows)
            why = visible(target.fault.message) if target.fault else ""
            if why:
                unseen.append(f"what is live on {stage}: {why if target.label in why else f'{target.label}: {why}'}")
            result.append(ReportedDrift(stage, target.label, target.is_settled, dict(states), why))
    return result
