"""The rules of `check` that need only the jar and what was read beside it, one line each.

A new rule is a function in a module here, and its line. Rules that read files are in `actions.checking.rules`.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TypeVar

from coinjar.core.diagnostics import Diagnostic
from coinjar.core.model import AcceptedFinding
from coinjar.core.rules import layering, mentioned, naming, ports, presence, rotation, secrets, values
from coinjar.core.rules.base import ERROR, WARNING, CheckContext, Finding, Rule

C = TypeVar("C", bound=CheckContext)

RULES: tuple[Rule[CheckContext], ...] = (
    Rule("CJ001", ERROR, "required and missing", presence.required_and_missing),
    Rule("CJ002", ERROR, "set where it does not belong", presence.out_of_place),
    Rule("CJ003", ERROR, "kind or constraint broken", values.kind_broken),
    Rule("CJ004", ERROR, "an incomplete set", presence.half_filled),
    Rule("CJ005", WARNING, "a condition not met", presence.condition_not_met),
    Rule("CJ006", ERROR, "a secret in plain values", secrets.secret_in_plain),
    Rule("CJ007", ERROR, "a placeholder left in", values.placeholder_left),
    Rule("CJ008", WARNING, "surprising text", values.surprising_text),
    Rule("CJ009", WARNING, "look-alike or invisible characters", values.look_alikes),
    Rule("CJ010", WARNING, "names that differ only by case", naming.differ_by_case),
    Rule("CJ011", WARNING, "a name that shells cannot set", naming.not_for_a_shell),
    Rule("CJ012", WARNING, "a service's value overridden", layering.overridden_service),
    Rule("CJ013", WARNING, "equal to the inherited value", layering.equal_to_inherited),
    Rule("CJ014", WARNING, "no effect on any service", presence.reaches_nothing),
    Rule("CJ015", ERROR, "one port for two services", ports.same_port),
    Rule("CJ016", ERROR, "a value that cannot be computed", presence.cannot_be_worked_out),
    Rule("CJ020", WARNING, "a port that contradicts another file", ports.ports_elsewhere),
    Rule("CJ023", WARNING, "looks secret, but is not declared so", secrets.looks_secret),
    Rule("CJ024", WARNING, "the same secret on two stages", secrets.same_on_two_stages),
    Rule("CJ029", WARNING, "a weak secret", secrets.weak_secret),
    Rule("CJ031", WARNING, "encrypted for more services than declared", secrets.sealed_for_others),
    Rule("CJ035", WARNING, "used but not declared", mentioned.not_declared),
    Rule("CJ036", WARNING, "declared but never used", mentioned.mentioned_nowhere),
    Rule("CJ037", WARNING, "used by a service that does not get it", mentioned.not_for_that_service),
    Rule("CJ038", WARNING, "used in another case", mentioned.other_case),
    Rule("CJ039", WARNING, "a different default in code", mentioned.other_default),
    Rule("CJ040", WARNING, "a boolean tested for presence only", mentioned.by_mere_presence),
    Rule("CJ041", WARNING, "a reference that is not expanded", mentioned.misplaced),
    Rule("CJ042", WARNING, "a literal instead of a variable", mentioned.literal_value),
    Rule("CJ043", WARNING, "code that cannot be read", mentioned.unreadable),
    Rule("CJ047", WARNING, "the same value on every stage", layering.same_on_every_stage),
    Rule("CJ048", WARNING, "a secret that is too old", rotation.overdue),
    Rule("CJ049", WARNING, "a secret that is good for a short time only", rotation.due_soon),
    Rule("CJ050", WARNING, "an unfinished rotation", rotation.unfinished),
)


OF_LAYERS = frozenset({"CJ012", "CJ013", "CJ047"})
"""Rules that only compare layers with each other; on a large jar they take as long as the others together."""


def run(context: C, rules: Iterable[Rule[C]]) -> Iterator[Finding]:
    """Return every finding, rule by rule, with accepted ones marked."""
    for rule in rules:
        for diagnostic in rule.find(context):
            yield finding(context, rule, diagnostic)


def finding(context: C, rule: Rule[C], diagnostic: Diagnostic) -> Finding:
    """Return what a rule found, marked if it is accepted."""
    if not context.jar.accepted:
        return Finding(rule, diagnostic)
    accepted = (accepted for accepted in context.jar.accepted if _accepts(accepted, rule, diagnostic))
    return Finding(rule, diagnostic, next(accepted, None))


def _accepts(accepted: AcceptedFinding, rule: Rule[C], diagnostic: Diagnostic) -> bool:
    return (
        accepted.rule == rule.code
        and accepted.variable in (None, diagnostic.variable)
        and accepted.stage in (None, diagnostic.stage)
        and accepted.service in (None, diagnostic.service)
    )
