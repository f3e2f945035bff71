"""Run every rule over a jar."""

from __future__ import annotations

from typing import NamedTuple

from coinjar.actions.checking.context import FileContext
from coinjar.actions.checking.rules import all_rules
from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import Definition
from coinjar.core.errors import UsageError
from coinjar.core.model import AcceptedFinding, Jar
from coinjar.core.names import suggestion
from coinjar.core.progress import Progress, told
from coinjar.core.rules import run
from coinjar.core.rules.base import Finding, Rule
from coinjar.jarfile.external_values import fetcher


class CheckReport(NamedTuple):
    """The findings, by location; how many values were not fetched or are encrypted for others; which accepted entries
    match nothing; and the rules that ran.
    """

    findings: list[Finding]
    not_fetched: int
    closed: int
    unused: list[AcceptedFinding]
    rules: list[Rule[FileContext]]

    @property
    def open_findings(self) -> list[Finding]:
        """Return the findings that were not accepted."""
        return [finding for finding in self.findings if not finding.accepted]


def _with_samples(jar: Jar) -> Jar:
    """Return the jar with sample values for supplied variables whose real value is not known yet."""
    samples = {
        name: variable._replace(
            default=Definition(
                variable.sample, variable.location.file, variable.location.line, variable.location.column
            )
        )
        for name, variable in jar.variables.items()
        if variable.sample is not None and variable.default is None and not variable.secret
    }
    return jar._replace(variables={**jar.variables, **samples}) if samples else jar


class CheckSelection(NamedTuple):
    """What to report: some rules, findings of some stages or services; empty for all. A finding that is of no single
    stage or service concerns each of them.
    """

    rules: tuple[str, ...] = ()
    stages: tuple[str, ...] = ()
    services: tuple[str, ...] = ()

    def takes(self, finding: Finding) -> bool:
        """Return whether a finding is reported."""
        stage, service = finding.diagnostic.stage, finding.diagnostic.service
        return (not self.stages or stage is None or stage in self.stages) and (
            not self.services or service is None or service in self.services
        )


EVERYTHING = CheckSelection()


def check(
    opened: OpenJar,
    selection: CheckSelection = EVERYTHING,
    *,
    with_history: bool = False,
    progress: Progress | None = None,
) -> CheckReport:
    """Check a jar; `with_history` also looks for its secrets in every commit. Raises what reading the jar raises, and
    UsageError for a rule, a stage or a service that does not exist.
    """
    jar = _with_samples(opened.load())
    for stage in selection.stages:
        jar.stage(stage)
    for service in selection.services:
        jar.service(service)
    fetch = fetcher(opened.folder, opened.gate)
    context = FileContext(opened, jar, fetch, with_history=with_history)
    rules = _chosen(selection.rules)
    findings = sorted(
        (finding for finding in run(context, told(rules, "rules", progress)) if selection.takes(finding)),
        key=lambda finding: (finding.diagnostic.location, finding.rule.code, finding.diagnostic.message),
    )
    idle = [
        accepted
        for accepted in (context.jar.accepted if selection == EVERYTHING else ())
        if not any(finding.accepted is accepted for finding in findings)
    ]
    return CheckReport(findings, len(context.not_fetched), len(context.closed), idle, rules)


def _chosen(codes: tuple[str, ...]) -> list[Rule[FileContext]]:
    """Return the rules with these codes, all if none is named. Raises UsageError for one that does not exist."""
    rules = all_rules()
    known = [rule.code for rule in rules]
    for code in codes:
        if code not in known:
            hint = suggestion(code, known, "`coinjar help rules` lists them")
            raise UsageError(f"there is no rule '{code}'", hint=hint, code="unknown-rule")
    return [rule for rule in rules if not codes or rule.code in codes]
