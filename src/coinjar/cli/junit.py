"""Findings as JUnit XML, which CI services show as test results: one test for each rule."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from xml.etree import ElementTree

from coinjar.core.display import visible
from coinjar.core.rules.base import ERROR, Finding, Rule


def as_junit(findings: Sequence[Finding], checked: Sequence[Rule[Any]], *, strict: bool) -> str:
    """Return a test suite. A rule fails with an open error, `strict` also with a warning; its output contains the
    other findings.
    """
    suite = ElementTree.Element("testsuite", name="coinjar check", tests=str(len(checked)), errors="0", skipped="0")
    failures = 0
    for rule in checked:
        case = ElementTree.SubElement(
            suite, "testcase", classname="coinjar", name=f"{rule.code} {rule.title}", time="0"
        )
        mine = [finding for finding in findings if finding.rule.code == rule.code]
        failing = [finding for finding in mine if not finding.accepted and (strict or rule.severity == ERROR)]
        if failing:
            failures += 1
            message = f"{len(failing)} findings" if len(failing) > 1 else visible(failing[0].diagnostic.message)
            failure = ElementTree.SubElement(case, "failure", message=message, type=rule.severity)
            failure.text = "\n".join(map(_line, failing))
        if noted := [finding for finding in mine if finding not in failing]:
            ElementTree.SubElement(case, "system-out").text = "\n".join(map(_line, noted))
    suite.set("failures", str(failures))
    ElementTree.indent(suite)
    return ElementTree.tostring(suite, encoding="unicode", xml_declaration=True)


def _line(finding: Finding) -> str:
    diagnostic = finding.diagnostic
    more = f"accepted: {finding.accepted.reason}" if finding.accepted else diagnostic.hint
    return f"{diagnostic.location}: {visible(diagnostic.message)} ({visible(more)})"
