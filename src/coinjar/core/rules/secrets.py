"""Rules on secrets that are in plain text, undeclared, weak, or used twice."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from coinjar.core.definition import Content, SealedDefinition
from coinjar.core.diagnostics import Diagnostic
from coinjar.core.entropy import WEAK, bits
from coinjar.core.inference import is_placeholder
from coinjar.core.model import Jar
from coinjar.core.names import ALL, SHARED
from coinjar.core.references import Template, own_text
from coinjar.core.rules.base import CheckContext, ScopedDefinition
from coinjar.core.secret_detection import SURE, credentials_in, detect_secret

_FREE = frozenset({"text", "url", "base64", "pem", "json", "list"})
"""Kinds that accept any value."""


def in_plain_text(jar: Jar, content: Content) -> bool:
    """Return whether a secret's content is readable.

    For a text with references: all except what the references bring. One that refers to a secret may consist of
    harmless words besides.
    """
    if isinstance(content, str):
        return bool(content) and not is_placeholder(content)
    return isinstance(content, Template) and (
        not any(jar.variables[reference.name].secret for reference in content.references())
        or bool(credentials_in(own_text(content.parts)))
    )


def secret_in_plain(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ006"""
    for definition in context.definitions_of(context.secret_variables):
        if not isinstance(definition.definition, SealedDefinition) and in_plain_text(
            context.jar, definition.definition.content
        ):
            message = f"{definition.variable.name} is a secret, but its value is stored in plain text"
            fix = (
                "encrypt it with `coinjar readers seal`; a committed value stays in the history of version control, "
                "so replace it where that matters"
            )
            yield Diagnostic(message, fix, definition.definition.location, definition.variable.name, definition.stage)


def looks_secret(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ023"""
    free = [each for each in context.set_texts if not each.variable.secret and each.variable.kind in _FREE]
    any_held = (
        not context.secrets.is_empty and context.secrets.first("\n".join(each.text for each in free)) is not None
    )  # in most jars there is none
    for each in free:
        variable, value = each.variable, each.text
        if not value:
            continue
        suspected = detect_secret(variable.name, value)
        held = context.secrets.first(value) if any_held and not suspected and len(value) >= 8 else None
        if (suspected or held) and not is_placeholder(value):
            why = _words(suspected[1]) if suspected else f"contains the text of the secret {held}"
            message = f"{variable.name} is not declared as a secret, but its value {why}"
            fix = "add secret: true in jar.yaml, then run `coinjar readers seal`; or accept it in jar.yaml"
            for place in each.places:
                yield Diagnostic(message, fix, place.definition.location, variable.name, place.stage)
    yield from _secret_between_references(context)


def _words(why: str) -> str:
    return why if why.startswith("contains") else f"looks like one {why}"


def _secret_between_references(context: CheckContext) -> Iterator[Diagnostic]:
    """Yield the texts with references that contain a secret themselves, such as a password in a URL.

    Those of secrets are left to CJ006. One that refers to a secret is not judged by its name.
    """
    for each in context.other_definitions:
        variable, content = each.variable, each.definition.content
        if not isinstance(content, Template) or variable.secret:
            continue
        value = own_text(content.parts)
        by_name = "" if variable.name in context.jar.secret_names else variable.name
        certainty, why = detect_secret(by_name, value) or ("", "")
        if certainty == SURE and not is_placeholder(value):
            message = f"{variable.name} is not declared as a secret, but the text between its references {_words(why)}"
            fix = "declare that part as a variable with secret: true, and refer to it here, as in ${NAME@url}"
            yield Diagnostic(message, fix, each.definition.location, variable.name, each.stage)


def _own_secrets(context: CheckContext) -> Iterator[tuple[ScopedDefinition, str]]:
    """Return each secret with a text of its own, once per layer and name where scopes have the same text."""
    visited: set[tuple[str, str, str]] = set()
    for definition, value in context.secret_texts:
        key = (definition.layer, definition.variable.name, value)
        if key not in visited:
            visited.add(key)
            yield definition, value


def same_on_two_stages(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ024: for stages that follow each other CJ013 reports it; values in shared are meant for all."""
    by_text: dict[str, list[ScopedDefinition]] = {}
    for definition, value in _own_secrets(context):
        if definition.layer not in (SHARED, "default"):
            by_text.setdefault(value, []).append(definition)
    for group in by_text.values():
        first = group[0]
        for other in group[1:]:
            if other.layer != first.layer and not _follow(context, first.layer, other.layer):
                same = "the same value" if other.variable is first.variable else f"the value of {first.variable.name}"
                message = (
                    f"{other.variable.name} has {same} on {first.layer} and on {other.layer}: whoever learns one of "
                    "them knows both"
                )
                fix = f"`coinjar generate {other.variable.name} --stage {other.layer} --replace`, or set another value"
                yield Diagnostic(message, fix, other.definition.location, other.variable.name, other.layer)


def _follow(context: CheckContext, name: str, other: str) -> bool:
    return name in context.jar.chain(other) or other in context.jar.chain(name)


def weak_secret(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ029"""
    for definition, value in _own_secrets(context):
        if definition.variable.kind in ("url", "json", "pem", "list"):
            continue
        strength = bits(value)
        if strength < WEAK:
            where = f" on {definition.stage}" if definition.stage else ""
            message = (
                f"{definition.variable.name} is weak{where}: about {strength:.0f} bits to guess, at least {WEAK} are "
                "recommended"
            )
            fix = (
                f"`coinjar generate {definition.variable.name} --stage {definition.stage or SHARED} --replace`, if "
                "you control this value"
            )
            yield Diagnostic(message, fix, definition.definition.location, definition.variable.name, definition.stage)


def sealed_for_others(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ031"""
    limited = {name for name, variable in context.jar.variables.items() if variable.services is not None}
    for definition in context.definitions_of(limited):
        if isinstance(definition.definition, SealedDefinition) and definition.definition.scope == ALL:
            services = definition.variable.services or ()
            message = (
                f"{definition.variable.name} is encrypted for all services of {definition.layer}, but declared for "
                f"{', '.join(sorted(services)) or 'none'}"
            )
            yield Diagnostic(
                message,
                "`coinjar readers seal` encrypts it for those alone",
                definition.definition.location,
                definition.variable.name,
                definition.stage,
            )


def plain_secret_count(declared: Jar, names: Iterable[str]) -> int:
    """Return how many values of these secrets are not encrypted, and so have no date."""
    wanted = [*names]
    return sum(
        not isinstance(definition, SealedDefinition) and in_plain_text(declared, definition.content)
        for scopes in declared.plain.values()
        for values in scopes.values()
        for name in wanted
        if (definition := values.get(name)) is not None
    )
