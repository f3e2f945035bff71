"""Findings as SARIF 2.1.0 (OASIS standard), for code review pages."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Any
from urllib.parse import quote

from coinjar import __version__
from coinjar.core.rules.base import Finding, Rule


def as_sarif(findings: Sequence[Finding], checked: Sequence[Rule[Any]]) -> dict[str, Any]:
    """Return one run with every rule and every finding; accepted ones are suppressed, with their reasons."""
    rules = [
        {
            "id": rule.code,
            "name": "".join(
                word.capitalize() for word in rule.title.replace("-", " ").replace("'", "").replace(",", "").split()
            ),
            "shortDescription": {"text": rule.title},
            "defaultConfiguration": {"level": rule.severity},
        }
        for rule in checked
    ]
    driver = {"name": "coinjar", "version": __version__, "rules": rules}
    return {
        "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
        "version": "2.1.0",
        "runs": [
            {
                "tool": {"driver": driver},
                "columnKind": "unicodeCodePoints",
                "results": [_result(finding, [rule.code for rule in checked]) for finding in findings],
            }
        ],
    }


def _result(finding: Finding, codes: Sequence[str]) -> dict[str, Any]:
    diagnostic = finding.diagnostic
    location: dict[str, Any] = {"artifactLocation": {"uri": quote(diagnostic.location.file.replace(os.sep, "/"))}}
    if diagnostic.location.line:
        location["region"] = {"startLine": diagnostic.location.line, "startColumn": diagnostic.location.column}
    result: dict[str, Any] = {
        "ruleId": finding.rule.code,
        "ruleIndex": codes.index(finding.rule.code),
        "level": finding.rule.severity,
        "message": {"text": f"{diagnostic.message}. {diagnostic.hint[:1].upper()}{diagnostic.hint[1:]}."},
        "locations": [{"physicalLocation": location}],
    }
    if finding.accepted:
        result["suppressions"] = [{"kind": "external", "justification": finding.accepted.reason}]
    return result
