"""Run every rule over a jar."""

from __future__ import annotations

from typing import NamedTuple

from coinjar.actions.open_jar import OpenJar
from coinjar.core.errors import ExternalError
from coinjar.core.model import AcceptedFinding, Definition, Jar
from coinjar.core.rules import run
from coinjar.core.rules.base import CheckContext, Diagnostic, Finding
from coinjar.jarfile.external_values import fetcher


class CheckReport(NamedTuple):
    """What was found, by place; how many values were not asked for, or are sealed for others; which accepted entries silence nothing."""

    findings: list[Finding]
    not_fetched: int
    closed: int
    idle: list[AcceptedFinding]

    @property
    def open_findings(self) -> list[Finding]:
        """Those that nobody accepted."""
        return [finding for finding in self.findings if not finding.accepted]


def _with_samples(jar: Jar) -> Jar:
    """The jar with what a supplied value looks like, where nobody has told the real one yet."""
    samples = {
        name: variable._replace(
            default=Definition(variable.sample, variable.place.file, variable.place.line, variable.place.column)
        )
        for name, variable in jar.variables.items()
        if variable.sample is not None and variable.default is None and not variable.secret
    }
    return jar._replace(variables={**jar.variables, **samples}) if samples else jar


def check(opened: OpenJar, *, allow_commands: bool = False, with_history: bool = False) -> CheckReport:
    """Check a jar; `with_history` looks for its secrets in every commit, too. Raises what reading it raises."""
    facts = CheckContext(_with_samples(opened.load()), fetcher(opened.folder, allow_commands=allow_commands))
    from coinjar.actions.checking.secret_checks import look_at_readers, look_at_tracked

    if (opened.folder / "coins").is_dir():
        look_at_readers(opened, facts)
    try:
        look_at_tracked(opened, facts, with_history=with_history)
    except ExternalError as fault:
        facts.told["CJ028"] = [Diagnostic(fault.message, fault.hint, fault.place or facts.jar.place)]
    if facts.jar.destinations or (opened.folder / "platforms").is_dir():
        from coinjar.actions.checking.destination_checks import look_at_destinations

        look_at_destinations(opened, facts)
    from coinjar.core.code_uses import has_code

    if has_code(facts.jar):
        from coinjar.actions.mentions.search import look_at_code

        look_at_code(opened, facts)
        from coinjar.actions.checking.port_checks import look_at_ports

        look_at_ports(opened, facts)
    if any(variable.supplied_by for variable in facts.jar.variables.values()):
        from coinjar.actions.delivery.dependents import look_at_followers

        look_at_followers(opened, facts)
    findings = sorted(run(facts), key=lambda finding: (finding.spot.place, finding.rule.code, finding.spot.message))
    idle = [
        accepted for accepted in facts.jar.accepted if not any(finding.accepted is accepted for finding in findings)
    ]
    return CheckReport(findings, len(facts.not_fetched), len(facts.closed), idle)
