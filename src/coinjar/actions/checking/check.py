"""Run every rule over a jar."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import chain
from typing import Any, NamedTuple

from coinjar.actions.checking.context import FileContext
from coinjar.actions.checking.rules import all_rules
from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import Definition
from coinjar.core.diagnostics import Diagnostic
from coinjar.core.errors import Location, UsageError
from coinjar.core.model import AcceptedFinding, Jar
from coinjar.core.names import suggestion
from coinjar.core.progress import Progress, told
from coinjar.core.rules import OF_LAYERS, finding, run
from coinjar.core.rules.base import Finding, Rule
from coinjar.jarfile.external_values import fetcher
from coinjar.system.second_process import beside


class CheckReport(NamedTuple):
    """The findings, by location; how many values were not fetched, and how many of these only for want of a consent;
    how many are encrypted for others; which accepted entries match nothing; and the rules that ran.
    """

    findings: list[Finding]
    not_fetched: int
    unconsented: int
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
    here, there = _divided(context, rules)
    context.is_alone = not there
    if selection == EVERYTHING:
        context.start()
    result = run_beside(context, there)
    found = list(run(context, told(here, "rules", progress)))  # before the result of the others is waited for
    findings = sorted(
        (finding for finding in chain(found, result()) if selection.takes(finding)),
        key=lambda finding: (finding.diagnostic.location, finding.rule.code, finding.diagnostic.message),
    )
    idle = [
        accepted
        for accepted in (context.jar.accepted if selection == EVERYTHING else ())
        if not any(finding.accepted is accepted for finding in findings)
    ]
    unconsented = sum(context.not_fetched.values())
    return CheckReport(findings, len(context.not_fetched), unconsented, len(context.closed), idle, rules)


_MANY = 20_000
"""Values from which on a second process takes its part of the rules."""


def _divided(
    context: FileContext, rules: Sequence[Rule[FileContext]]
) -> tuple[list[Rule[FileContext]], list[Rule[FileContext]]]:
    """Return the rules for this process, and those for a second one: none if values are few, or come from elsewhere,
    where nothing should be asked twice. Sealed values are decrypted before.
    """
    if sum(len(values) for _, _, values in context.scopes) < _MANY or not context.has_every_value:
        return list(rules), []
    return [rule for rule in rules if rule.code not in OF_LAYERS], [rule for rule in rules if rule.code in OF_LAYERS]


def run_beside(context: FileContext, rules: Sequence[Rule[FileContext]]) -> Callable[[], list[Finding]]:
    """Start rules in a second process, and return what waits for their findings."""
    if not rules:
        return list

    def work() -> list[list[tuple[Any, ...]]]:
        # As plain tuples, which take half as long to pass on.
        return [[(*found[:2], *found.location, *found[3:]) for found in rule.find(context)] for rule in rules]

    def remade(message: str, hint: str, file: str, line: int, column: int, *about: str | None) -> Diagnostic:
        return Diagnostic(message, hint, Location(file, line, column), *about)

    wait = beside(work)
    return lambda: [
        finding(context, rule, remade(*found))
        for rule, diagnostics in zip(rules, wait(), strict=True)
        for found in diagnostics
    ]


def _chosen(codes: tuple[str, ...]) -> list[Rule[FileContext]]:
    """Return the rules with these codes, all if none is named. Raises UsageError for one that does not exist."""
    rules = all_rules()
    known = [rule.code for rule in rules]
    for code in codes:
        if code not in known:
            hint = suggestion(code, known, "`coinjar help rules` lists them")
            raise UsageError(f"there is no rule '{code}'", hint=hint, code="unknown-rule")
    return [rule for rule in rules if not codes or rule.code in codes]
