"""The rules of `check` that read files, one line each, and all rules together.

A new rule is a function in a module here, and its line. Rules that need only the jar are in `core.rules`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import cast

from coinjar.actions.checking import dependent_rules, reader_rules, runner_rules, tracked_rules
from coinjar.actions.checking.context import FileContext
from coinjar.core.diagnostics import Diagnostic
from coinjar.core.rules import RULES
from coinjar.core.rules.base import ERROR, WARNING, Rule
from coinjar.system.plugins import plugins


def reported(code: str) -> Callable[[FileContext], Iterator[Diagnostic]]:
    """Return the rule with this code.

    Destinations report its diagnostics: as notices (`DestinationOptions.notice`), or as errors.
    """

    def find(context: FileContext) -> Iterator[Diagnostic]:
        yield from context.destination_diagnostics.get(code, ())

    return find


FILE_RULES: tuple[Rule[FileContext], ...] = (
    Rule("CJ017", ERROR, "a destination that cannot be rendered or delivered", reported("CJ017")),
    Rule("CJ018", WARNING, "a template with a likely mistake", reported("CJ018")),
    Rule("CJ019", WARNING, "a document with a likely mistake", reported("CJ019")),
    Rule("CJ021", WARNING, "a build argument that is not passed on", reported("CJ021")),
    Rule("CJ022", WARNING, "manifests or files with a likely mistake", reported("CJ022")),
    Rule("CJ025", WARNING, "a single reader", reader_rules.single_reader),
    Rule("CJ026", WARNING, "no recovery reader", reader_rules.no_recovery_reader),
    Rule("CJ027", ERROR, "readers that are not approved", reader_rules.not_approved),
    Rule("CJ028", ERROR, "secrets tracked by version control", tracked_rules.tracked_secrets),
    Rule("CJ044", WARNING, "a cell that a spreadsheet runs", reported("CJ044")),
    Rule("CJ045", WARNING, "a job without a stage", runner_rules.without_a_stage),
    Rule("CJ046", WARNING, "what a runner does not look at", runner_rules.not_looked_at),
    Rule("CJ030", WARNING, "an example out of date", reported("CJ030")),
    Rule("CJ032", ERROR, "a name reserved by a destination", reported("CJ032")),
    Rule("CJ033", ERROR, "over a platform's limits", reported("CJ033")),
    Rule("CJ034", WARNING, "computed from an outdated supplied value", dependent_rules.outdated_supplied_value),
)


def all_rules() -> list[Rule[FileContext]]:
    """Return every rule by its code, then those of other packages (entry points `coinjar.rules`)."""
    more = [cast("Rule[FileContext]", point.load()) for point in plugins("rules").values()]
    own: list[Rule[FileContext]] = [*RULES, *FILE_RULES]
    return [*sorted(own, key=lambda rule: rule.code), *more]
