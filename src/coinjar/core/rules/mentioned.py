"""What code and documents mention, held against what the jar declares. Without code to look at, these rules find nothing."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.core.code_uses import HIDDEN, PRESENCE, SET, CodeUse
from coinjar.core.errors import CoinJarError
from coinjar.core.kinds import normal
from coinjar.core.model import Variable
from coinjar.core.names import OWN_PREFIX, nearest
from coinjar.core.references import Template
from coinjar.core.rules.base import CheckContext, Diagnostic

_NAME = re.compile(r"[A-Z][A-Z0-9_]*")
_MANY = 3


def known_names(context: CheckContext) -> dict[str, Variable]:
    """Every name under which a variable reaches a program."""
    return {
        name: variable for variable in context.jar.variables.values() for name in (variable.name, *variable.also_as)
    }


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
            and not is_known
            and (use.code or _NAME.fullmatch(use.name))
            and (use.name, use.location.file) not in here
        ):
            by_name.setdefault(use.name, []).append(use)
    for name, uses in by_name.items():
        near = nearest(name, known)
        fix = f"did you mean {near}? else declare it: " if near else "declare it: "
        message = f"{name} is mentioned{_elsewhere(uses)}, and not declared"
        yield Diagnostic(
            message, f"{fix}`coinjar mentions --suggest`", uses[0].location, None, None, _one_service(uses), name
        )


def mentioned_nowhere(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ036"""
    if not context.uses:
        return
    used = {use.name for use in context.uses if use.access != SET}
    for definition in context.definitions:
        if isinstance(definition.definition.content, Template):
            used |= {reference.name for reference in definition.definition.content.references()}
    used |= {other for variable in context.jar.variables.values() for other, _ in variable.only_with}
    for variable in context.jar.variables.values():
        if not used & {variable.name, *variable.also_as} and variable.phase != "build":
            hint = f"`coinjar drop {variable.name} --everywhere`, or accept it with the reason (a program of others reads it)"
            yield Diagnostic(
                f"{variable.name} is declared, and nothing mentions it", hint, variable.location, variable.name
            )


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
        fix = f"its services are {', '.join(sorted(variable.services or ()))}: add {service}"
        yield Diagnostic(
            f"{service} mentions {use.name}, which is not for it", fix, use.location, variable.name, None, service
        )


def other_case(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ038"""
    known = known_names(context)
    folded = {name.casefold(): name for name in known}
    messages: set[str] = set()
    for use in context.uses:
        declared = folded.get(use.name.casefold())
        if declared and use.name not in known and use.name not in messages and use.access != SET:
            messages.add(use.name)
            message = f"{use.name} is mentioned, and {declared} is declared: names are told apart by case"
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
            continue  # what a value that is supplied elsewhere looks like, and no default
        if not isinstance(written, str) or not use.default or _same(variable, use.default, written):
            continue
        key = (variable.name, use.default, use.location.file)
        if key not in messages:
            messages.add(key)
            message = f"{use.location.file.rpartition('/')[2]} falls back to {use.default} for {variable.name}, and its declared default is {written}"
            yield Diagnostic(message, "let both say the same, or let the code do without", use.location, variable.name)


def by_mere_presence(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ040"""
    known = known_names(context)
    for use in context.uses:
        variable = known.get(use.name)
        if variable is not None and variable.kind == "boolean" and use.access == PRESENCE:
            message = f"{use.name} is a boolean, and taken for true whenever it is there: 'false' is true here"
            yield Diagnostic(message, "compare it with its value", use.location, variable.name)


def misplaced(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ041"""
    for use in context.uses:
        if use.misplaced:
            message = f"nothing replaces this way of writing {use.name} here: it stays as it is written"
            yield Diagnostic(
                message,
                "a script takes $NAME, and an expression works only in the pipeline's document",
                use.location,
                _declared(context, use.name),
            )


def literal_value(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ042"""
    for literal in context.literals:
        message = f"{literal.text} stands here by itself, and is a value of {literal.variable}, which this file uses"
        yield Diagnostic(
            message, f"use {literal.variable}, or one of the two will be forgotten", literal.location, literal.variable
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
