"""Run every rule over a jar."""

from __future__ import annotations

from typing import NamedTuple

from coinjar.actions.checking.context import FileContext
from coinjar.actions.checking.rules import all_rules
from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import Definition
from coinjar.core.model import AcceptedFinding, Jar
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


def check(opened: OpenJar, *, with_history: bool = False) -> CheckReport:
    """Check a jar; `with_history` also looks for its secrets in every commit. Raises what reading the jar raises."""
    jar = _with_samples(opened.load())
    fetch = fetcher(opened.folder, opened.gate)
    context = FileContext(opened, jar, fetch, with_history=with_history)
    rules = all_rules()
    findings = sorted(
        run(context, rules),
        key=lambda finding: (finding.diagnostic.location, finding.rule.code, finding.diagnostic.message),
    )
    idle = [
        accepted for accepted in context.jar.accepted if not any(finding.accepted is accepted for finding in findings)
    ]
    return CheckReport(findings, len(context.not_fetched), len(context.closed), idle, rules)
