"""A secret that is rotated, as the jar has it now. All state of a rotation is in its encrypted entry."""

from __future__ import annotations

from typing import NamedTuple

from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import UNSET, Content, SealedDefinition, SealedValue, Undecryptable
from coinjar.core.errors import InputError, UsageError
from coinjar.core.model import Jar, Variable
from coinjar.core.names import ALL, SHARED
from coinjar.core.planned_values import PlannedValue, with_planned
from coinjar.core.rotation import SWITCHED, RotationRules, other_turn, step_of
from coinjar.core.secret import Secret, reveal


class Turn(NamedTuple):
    """A plain variable that changes with the secret: where it is set, its old and its new value."""

    name: str
    scopes: tuple[str, ...]
    old: str
    new: str


class RotatedSecret(NamedTuple):
    """A secret of a layer (a stage, or shared): its entry, which all of `scopes` have, and what changes with it."""

    variable: Variable
    layer: str
    scopes: tuple[str, ...]
    value: SealedValue
    rules: RotationRules
    turns: tuple[Turn, ...]

    @property
    def name(self) -> str:
        """The variable's name."""
        return str(self.variable.name)

    @property
    def step(self) -> str:
        """The last step that is known to be done."""
        return step_of(self.value)

    def texts(self, new: str | None = None) -> tuple[dict[str, str], dict[str, str]]:
        """Return the old and the new values by name: of the secret, and of what takes turns with it.

        `new` is the secret's new value before it is in the entry.
        """
        present = self.value.content
        assert isinstance(present, str), "only texts are rotated"
        other = self.value.other.text if self.value.other is not None else new
        assert other is not None, "there is a new value"
        old, now = (other, present) if self.step == SWITCHED else (present, other)
        turns_old = {turn.name: turn.old for turn in self.turns}
        return {self.name: reveal(old)} | turns_old, {self.name: reveal(now)} | {t.name: t.new for t in self.turns}

    def jar_with(self, jar: Jar, texts: dict[str, str]) -> Jar:
        """Return the jar with these values instead of its own."""
        planned = [PlannedValue(self.layer, scope, self.name, Secret(texts[self.name])) for scope in self.scopes]
        planned += [
            PlannedValue(self.layer, scope, turn.name, texts[turn.name]) for turn in self.turns for scope in turn.scopes
        ]
        return with_planned(jar, planned)


def rotated_secret(opened: OpenJar, jar: Jar, name: str, layer: str, service: str | None) -> RotatedSecret:
    """Return a secret to rotate. Raises UsageError or InputError for one that cannot be, DecryptionError."""
    variable = jar.variable(name)
    if layer != SHARED:
        jar.stage(layer)
    if not variable.secret:
        hint = f"`coinjar put {name}=… --stage {layer}` sets another value"
        raise UsageError(f"{name} is not a secret", hint=hint, code="no-secret")
    found = _definitions(jar, variable, layer, service)
    definition = next(iter(found.values()))
    value = definition.sealed_value
    if isinstance(value.content, Undecryptable):
        raise value.content.fault
    if not isinstance(value.content, str):
        raise InputError(
            f"{name} on {layer} has no text of its own: it is computed from other variables, or unset",
            hint="rotate what it is computed from, or set a text",
            location=definition.location,
            code="no-text",
        )
    if any(other.sealed_value != value for other in found.values()):
        raise UsageError(
            f"{name} has different values for {' and '.join(found)} on {layer}",
            hint="add --service: one is rotated at a time",
            code="which-value",
        )
    rules = variable.rotation or RotationRules(location=variable.location)
    if rules.service is not None and layer == SHARED:
        raise UsageError(
            f"the programs that rotate {name} get the variables of {rules.service}, which depend on the stage",
            hint="set the secret on a stage, or remove service from its `rotate`",
            code="not-for-stage",
        )
    is_switched = step_of(value) == SWITCHED
    turns = [_turn(opened, jar, variable, layer, other, pair, is_switched) for other, pair in rules.turns.items()]
    return RotatedSecret(variable, layer, tuple(found), value, rules, tuple(turns))


def _definitions(jar: Jar, variable: Variable, layer: str, service: str | None) -> dict[str, SealedDefinition]:
    """Return the secret's entries on a layer by scope, of one service or all. Raises UsageError if there are none."""
    name = variable.name
    if service is not None:
        jar.service(service)
    there = {
        scope: definition
        for scope, values in jar.plain.get(layer, {}).items()
        if isinstance(definition := values.get(name), SealedDefinition)
    }
    chosen = {scope: definition for scope, definition in there.items() if service in (None, scope)}
    if chosen:
        return chosen
    if there:
        whom = "all services" if ALL in there else " and ".join(there)
        hint = "omit --service" if ALL in there else "name another one"
        raise UsageError(f"{name} has a value for {whom} on {layer}, none for {service}", hint=hint, code="no-value")
    inherited = [
        other
        for other in reversed([SHARED, *(jar.chain(layer) if layer != SHARED else ())])
        if any(isinstance(values.get(name), SealedDefinition) for values in jar.plain.get(other, {}).values())
    ]
    plain = any(name in values for values in jar.plain.get(layer, {}).values())
    hint = (
        "`coinjar readers seal` encrypts it first"
        if plain
        else f"it is set on {inherited[0]}: add --stage {inherited[0]}"
        if inherited
        else f"`coinjar put {name} --stage {layer}` sets one"
    )
    raise UsageError(f"{name} has no encrypted value on {layer}", hint=hint, code="no-value")


def _turn(
    opened: OpenJar,
    jar: Jar,
    variable: Variable,
    layer: str,
    name: str,
    pair: tuple[str, str],
    is_switched: bool,
) -> Turn:
    """Return a variable's turn. Raises InputError if its value is neither of the two."""
    own = {scope: values[name] for scope, values in jar.plain.get(layer, {}).items() if name in values}
    texts = [definition.content for definition in own.values()] or [_inherited(opened, jar, variable, layer, name)]
    text = texts[0]
    other = other_turn(pair, text) if isinstance(text, str) and all(each == text for each in texts) else None
    if other is None or not isinstance(text, str):
        raise InputError(
            f"{name} takes turns with {variable.name}, but its value on {layer} is neither {pair[0]} nor {pair[1]}",
            hint=f"`coinjar put {name}={pair[0]} --stage {layer}` sets the one that is in use",
            location=next(iter(own.values())).location if own else jar.variables[name].location,
            code="turn",
        )
    return Turn(name, tuple(own) or (ALL,), *((other, text) if is_switched else (text, other)))


def _inherited(opened: OpenJar, jar: Jar, variable: Variable, layer: str, name: str) -> Content:
    """Return the value of a variable that the layer does not set; UNSET for none."""
    other = jar.variables[name]
    if layer == SHARED:
        return other.default.content if other.default else UNSET
    resolver = opened.resolver(layer, jar=jar)
    services = [service for service in resolver.services_of(variable) if other.applies_to(service)]
    text = resolver.value(name, services[0]).revealed if services else None
    return UNSET if text is None else text
