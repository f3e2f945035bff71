"""Run every rule over a jar."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple, cast

from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import Definition
from coinjar.core.errors import ExternalError
from coinjar.core.model import AcceptedFinding, Jar
from coinjar.core.rules import run
from coinjar.core.rules.base import CheckContext, Diagnostic, Finding
from coinjar.jarfile.external_values import fetcher
from coinjar.system.plugins import plugins

if TYPE_CHECKING:
    from coinjar.core.rules.base import Rule


class CheckReport(NamedTuple):
    """The findings, by location; how many values were not fetched or are encrypted for others; which accepted entries
    match nothing.
    """

    findings: list[Finding]
    not_fetched: int
    closed: int
    unused: list[AcceptedFinding]

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


def check(opened: OpenJar, *, allow_commands: bool = False, with_history: bool = False) -> CheckReport:
    """Check a jar; `with_history` also looks for its secrets in every commit. Raises what reading the jar raises."""
    context = CheckContext(_with_samples(opened.load()), fetcher(opened.folder, allow_commands=allow_commands))
    from coinjar.actions.checking.secret_checks import check_readers, check_tracked_files

    if (opened.folder / "coins").is_dir():
        check_readers(opened, context)
    try:
        check_tracked_files(opened, context, with_history=with_history)
    except ExternalError as fault:
        context.collected["CJ028"] = [Diagnostic(fault.message, fault.hint, fault.location or context.jar.location)]
    if context.jar.destinations or (opened.folder / "platforms").is_dir():
        from coinjar.actions.checking.destination_checks import check_destinations

        check_destinations(opened, context)
    from coinjar.core.code_uses import has_code

    if has_code(context.jar):
        from coinjar.actions.mentions.search import collect_code_uses

        collect_code_uses(opened, context)
        from coinjar.actions.checking.port_checks import collect_ports

        collect_ports(opened, context)
    if any(variable.supplied_by for variable in context.jar.variables.values()):
        from coinjar.actions.delivery.dependents import check_dependents

        check_dependents(opened, context)
    more = [cast("Rule", point.load()) for point in plugins("rules").values()]
    findings = sorted(
        run(context, more),
        key=lambda finding: (finding.diagnostic.location, finding.rule.code, finding.diagnostic.message),
    )
    idle = [
        accepted for accepted in context.jar.accepted if not any(finding.accepted is accepted for finding in findings)
    ]
    return CheckReport(findings, len(context.not_fetched), len(context.closed), idle)
