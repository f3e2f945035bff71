"""Explain a value: every layer that sets it, the effective one, and the references it follows."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from coinjar.core.definition import Command, Definition, FromEnv, FromFile, FromJar, Outside, Undecryptable, Unset
from coinjar.core.display import Masker
from coinjar.core.errors import is_encrypted_for_others
from coinjar.core.layers import DEEPEST, Resolver
from coinjar.core.model import Resolved, Variable
from coinjar.core.names import ALL
from coinjar.core.references import Template


class LayerValue(NamedTuple):
    """One layer that sets the value. `text` is the value as written, secrets included: mask it."""

    layer: str
    kind: str
    scope: str
    definition: Definition
    wins: bool
    text: str | None
    form: str


class FollowedReference(NamedTuple):
    """A reference that the value uses, `depth` steps away from it."""

    name: str
    service: str
    depth: int
    resolved: Resolved


class Explanation(NamedTuple):
    """Everything that leads to one value, with remarks."""

    variable: Variable
    stage: str
    service: str
    resolved: Resolved
    layers: tuple[LayerValue, ...]
    references: tuple[FollowedReference, ...]
    remarks: tuple[str, ...]


def form_of(definition: Definition) -> tuple[str, str | None]:
    """Return the form in which a value is written, and the written text (None for `unset`)."""
    content = definition.content
    if isinstance(content, str):
        return "text", content
    if isinstance(content, Template):
        return "references", content.source
    if isinstance(content, Outside):
        return _place_of(content)
    return ("unset", None) if isinstance(content, Unset) else ("sealed", None)


def _place_of(outside: Outside) -> tuple[str, str]:
    """Return the form of a value from outside the jar, and where it is."""
    if isinstance(outside, Command):
        return "command", " ".join(outside.argv)
    if isinstance(outside, FromFile | FromEnv):
        return ("file", outside.path) if isinstance(outside, FromFile) else ("environment", outside.name)
    if isinstance(outside, FromJar):
        return "other jar", f"{outside.name} in {outside.path}"
    return "stored", f"{outside.key} in {outside.destination}"


def explain(resolver: Resolver, name: str, service: str) -> Explanation:
    """Return why `service` gets its value of `name` on the resolver's stage. The variable must be declared."""
    variable = resolver.jar.variables[name]
    resolved = resolver.value(name, service)
    applies = resolver.applies(variable, service)
    spoken = []
    for layer, scope, definition in resolver.setting_layers(name, service):
        form, text = form_of(definition)
        spoken.append(
            LayerValue(
                layer.label(scope),
                layer.kind,
                scope,
                definition,
                applies and definition is resolved.definition,
                text,
                form,
            )
        )
    followed = tuple(_follow(resolver, resolved, service, 1, set())) if applies else ()
    return Explanation(
        variable,
        resolver.stage,
        service,
        resolved,
        tuple(spoken),
        followed,
        tuple(_remarks(resolver, resolved, service, spoken)),
    )


def _follow(
    resolver: Resolver, resolved: Resolved, service: str, depth: int, shown: set[tuple[str, str]]
) -> Iterator[FollowedReference]:
    if resolved.definition is None or not isinstance(resolved.definition.content, Template) or depth > DEEPEST:
        return  # a value that cannot be computed is reported by its own error
    for reference in resolved.definition.content.references():
        key = (reference.name, reference.service or service)
        if key in shown:
            continue
        shown.add(key)
        other = resolver.value(*key)
        yield FollowedReference(key[0], key[1], depth, other)
        yield from _follow(resolver, other, key[1], depth + 1, shown)


def _remarks(resolver: Resolver, resolved: Resolved, service: str, spoken: list[LayerValue]) -> Iterator[str]:
    variable = resolved.variable
    if not variable.applies_to(service):
        yield f"{variable.name} is not for {service}: its services are {', '.join(sorted(variable.services or ()))}"
    elif not resolver.applies(variable, service):
        yield (
            f"{variable.name} is not for {resolver.stage}: its stages are "
            f"{', '.join(sorted(variable.stages or ()))}, and those that follow them"
        )
    elif not spoken:
        yield "no layer sets it, and it has no default"
    elif resolved.is_unset:
        yield "it is unset on purpose, and inherits nothing"
    written = resolved.definition.content if resolved.definition else None
    if isinstance(written, str) and resolved.text is not None and resolved.text != written:
        yield f"normalized as a value of its kind, {variable.kind}"
    for narrow, wide in overridden(spoken):
        yield (
            f"{narrow.scope}'s own value ({narrow.definition.location}) is overridden by the value for all services "
            "in a higher layer "
            f"({wide.definition.location}): a stage overrides shared; a service overrides all only within one stage"
        )


def overridden(spoken: list[LayerValue]) -> Iterator[tuple[LayerValue, LayerValue]]:
    """Return the pairs of a service's own value and the `all` of a higher layer that overrides it."""
    if spoken and spoken[-1].scope == ALL and spoken[-1].kind in ("shared", "stage"):
        for layer_value in spoken[:-1]:
            if layer_value.scope != ALL:
                yield layer_value, spoken[-1]


def value_words(resolved: Resolved, masker: Masker) -> str:
    """Return a service's value in a few words."""
    if resolved.fault and is_encrypted_for_others(resolved.fault):
        return "encrypted for others"
    if resolved.fault:
        return f"cannot be computed: {resolved.fault.message}"
    if resolved.text is None:
        return "no value"
    return masker.show(resolved.text, secret=resolved.secret)


def layer_text(spoken: LayerValue, secret: bool, masker: Masker) -> str:
    """Return a layer's value. For a secret's text with references only these are shown: the rest may be the secret."""
    content = spoken.definition.content
    if isinstance(content, Undecryptable):
        return "encrypted for others" if is_encrypted_for_others(content.fault) else "cannot be decrypted"
    if spoken.text is None:
        return "unset"
    if spoken.form == "text":
        return masker.show(spoken.text, secret=secret)
    if secret and isinstance(content, Template) and not masker.show_secrets:
        return f"ƒ computed from {', '.join(dict.fromkeys(reference.name for reference in content.references()))}"
    signs = {
        "references": "ƒ",
        "command": "command:",
        "file": "file:",
        "environment": "environment:",
        "stored": "stored:",
        "other jar": "other jar:",
    }
    return f"{signs[spoken.form]} {masker.show(spoken.text, secret=False)}"
