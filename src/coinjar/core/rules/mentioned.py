"""Rules that compare the uses in code and documents with the declarations. Without code to read they find nothing."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.core.code_uses import HIDDEN, PRESENCE, SET, CodeUse
from coinjar.core.diagnostics import Diagnostic
from coinjar.core.errors import CoinJarError
from coinjar.core.kinds import normal
from coinjar.core.model import Variable
from coinjar.core.names import OWN_PREFIX, nearest
from coinjar.core.references import Template
from coinjar.core.rules.base import CheckContext

_NAME = re.compile(r"[A-Z][A-Z0-9_]*")
_MANY = 3


def known_names(context: CheckContext) -> dict[str, Variable]:
    """Return every name under which a variable reaches a program."""
    return {**context.jar.variables, **context.jar.second_names}


def not_declared(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ035"""
    known = known_names(context)
    folded = {name.casefold() for name in known}
    here = {(use.name, use.location.file) for use in context.uses if use.access == SET}
    by_name: dict[str, list[CodeUse]] = {}
    for use in context.uses:
        is_known = use.name.casefold() in folded or use.name in context.not_ours or use.name.startswith(OWN_PREFIX)
        if (
            use.access != SET
            and not use.probable
            and not is_known
            and (use.code or _NAME.fullmatch(use.name))
            and (use.name, use.location.file) not in here
        ):
            by_name.setdefault(use.name, []).append(use)
    for name, uses in by_name.items():
        near = nearest(name, known)
        fix = f"did you mean {near}? Otherwise declare it: " if near else "declare it: "
        message = f"{name} is used{_elsewhere(uses)}, but not declared"
        yield Diagnostic(
            message, f"{fix}`coinjar mentions --suggest`", uses[0].location, None, None, _one_service(uses), name
        )


def mentioned_nowhere(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ036"""
    if not context.uses:
        return
    used = {use.name for use in context.uses if use.access != SET}
    for definition in context.other_definitions:
        if isinstance(definition.definition.content, Template):
            used |= {reference.name for reference in definition.definition.content.references()}
    probable = {use.name.casefold() for use in context.uses if use.probable}
    used |= {other for variable in context.jar.variables.values() for other, _ in variable.only_with}
    for variable in context.jar.variables.values():
        names = {variable.name, *variable.also_as}
        if not used & names and not probable & {name.casefold() for name in names} and variable.phase != "build":
            hint = (
                f"`coinjar drop {variable.name} --everywhere`, or accept it with the reason (for example, a "
                "third-party program reads it)"
            )
            yield Diagnostic(f"{variable.name} is declared, but never used", hint, variable.location, variable.name)


def not_for_that_service(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ037"""
    known = known_names(context)
    messages: set[tuple[str, str]] = set()
    for use in context.uses:
        variable = known.get(use.name)
        if (
            variable is None
            or use.access == SET
            or len(use.services) != 1
            or variable.applies_to(use.services[0])
            or (use.name, use.services[0]) in messages
        ):
            continue
        messages.add((use.name, use.services[0]))
        service = use.services[0]
        fix = f"its services are {', '.join(sorted(variable.services or ()))}: add {service} there"
        yield Diagnostic(
            f"{service} {use.adverb}uses {use.name}, which it does not get",
            fix,
            use.location,
            variable.name,
            None,
            service,
        )


def other_case(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ038"""
    known = known_names(context)
    folded = {name.casefold(): name for name in known}
    messages: set[str] = set()
    for use in context.uses:
        declared = folded.get(use.name.casefold())
        if use.access == SET or use.probable:
            continue
        if declared and use.name not in known and use.name not in messages:
            messages.add(use.name)
            message = f"{use.name} is used, but {declared} is declared: names are case-sensitive"
            yield Diagnostic(message, f"write {declared}", use.location, known[declared].name)


def other_default(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ039"""
    known = known_names(context)
    messages: set[tuple[str, str, str]] = set()
    for use in context.uses:
        variable = known.get(use.name)
        if variable is None or variable.secret or use.default in (None, "", HIDDEN) or use.access == SET:
            continue
        written = variable.default.content if variable.default else None
        if variable.default and variable.sample is not None and variable.default.location == variable.location:
            continue  # a placeholder for a value supplied elsewhere, not a default
        if not isinstance(written, str) or not use.default or _same(variable, use.default, written):
            continue
        key = (variable.name, use.default, use.location.file)
        if key not in messages:
            messages.add(key)
            message = (
                f"{use.location.file.rpartition('/')[2]} {use.adverb}falls back to {use.default} for {variable.name}, "
                f"but its declared default is {written}"
            )
            yield Diagnostic(
                message, "use the same default in both, or remove the one in code", use.location, variable.name
            )


def by_mere_presence(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ040"""
    known = known_names(context)
    for use in context.uses:
        variable = known.get(use.name)
        if variable is not None and variable.kind == "boolean" and use.access == PRESENCE:
            message = f"{use.name} is a boolean, but the code only tests whether it is set: 'false' counts as true here"
            yield Diagnostic(message, "compare it with its value", use.location, variable.name)


def misplaced(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ041"""
    for use in context.uses:
        if use.misplaced:
            message = f"this reference to {use.name} is not expanded here"
            yield Diagnostic(
                message,
                "use $NAME in scripts; expressions work only in the pipeline's document",
                use.location,
                _declared(context, use.name),
            )


def literal_value(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ042"""
    for literal in context.literals:
        message = f"{literal.text} is a value of {literal.variable}, which this file also uses by name"
        yield Diagnostic(
            message,
            f"use {literal.variable}; otherwise a change may miss one of the two",
            literal.location,
            literal.variable,
        )


def _same(variable: Variable, name: str, other: str) -> bool:
    try:
        return normal(variable, name) == normal(variable, other)
    except CoinJarError:
        return name == other


def _declared(context: CheckContext, name: str) -> str | None:
    variable = known_names(context).get(name)
    return variable.name if variable else None


def _one_service(uses: list[CodeUse]) -> str | None:
    services = {use.services for use in uses}
    return next(iter(services))[0] if len(services) == 1 and all(len(service) == 1 for service in services) else None


def _elsewhere(uses: list[CodeUse]) -> str:
    more = [str(use.location) for use in uses[1:]]
    if not more:
        return ""
    return f" (also {', '.join(more[:_MANY])}{f' and {len(more) - _MANY} more' if len(more) > _MANY else ''})"


def unreadable(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ043"""
    yield from context.unreadable
