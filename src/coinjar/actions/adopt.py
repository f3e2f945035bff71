"""Bring variables from a source into a stage of the jar: first a plan, then, after a yes, the edits."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.values import declaration, edit_file
from coinjar.core.errors import CoinJarError, InputError
from coinjar.core.guess import Guess, guess
from coinjar.core.kinds import normal
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar, Variable
from coinjar.core.names import ALL, VariableName, name_fault
from coinjar.documents.edit import Edit
from coinjar.jarfile.load import load, plain_path
from coinjar.jarfile.outside import fetcher
from coinjar.jarfile.store import locked
from coinjar.sources.base import SET_BY_EVERYBODY, Source

NEW, ADD, CHANGE, SAME, LEFT_OUT = "new", "add", "change", "same", "left out"


class Step(NamedTuple):
    """What becomes of one variable of the source. `old` is what the stage has now (None: no value)."""

    name: str
    text: str | None
    action: str
    variable: Variable
    old: str | None = None
    guessed: Guess | None = None
    reason: str = ""

    @property
    def secret(self) -> bool:
        return self.variable.secret


def plan(folder: Path, source: Source, stage: str, *, service: str | None, every_name: bool, secret: Iterable[str], plain: Iterable[str]) -> list[Step]:
    """What adopting would do. `secret` and `plain` settle the secrecy of names that are new. Raises for an unknown stage or service."""
    jar = load(folder, [stage])
    if service:
        jar.service(service)
    resolver = Resolver(jar, stage, fetch=fetcher(folder, allow_commands=False))
    places = {item.name: item.place for item in source.reading.items}
    steps = []
    for name, text in source.values().items():
        if name_fault("variable", name):
            continue  # told among the remarks
        variable, guessed = _variable(jar, name, text, source.comments.get(places[name].line, ""), secret, plain)
        if name in SET_BY_EVERYBODY and not every_name:
            steps.append(Step(name, text, LEFT_OUT, variable, reason="every shell or image sets it by itself (--every-name takes it)"))
        else:
            steps.append(_step(resolver, variable, text, guessed, service))
    return steps


def _variable(jar: Jar, name: str, text: str | None, about: str, secret: Iterable[str], plain: Iterable[str]) -> tuple[Variable, Guess | None]:
    if name in jar.variables:
        return jar.variables[name], None
    guessed = guess(name, text or "")
    is_secret = name in secret or (guessed.secret and name not in plain)
    if name in secret or name in plain:
        guessed = guessed._replace(secret=is_secret, sure=True, why="you said so")
    return Variable(VariableName(name), jar.place, about, guessed.kind, secret=is_secret), guessed


def _step(resolver: Resolver, variable: Variable, text: str | None, guessed: Guess | None, service: str | None) -> Step:
    name = str(variable.name)
    if guessed is not None:
        return Step(name, text, NEW, variable, guessed=guessed)
    services = [service] if service else resolver.services_of(variable)
    if not services or not all(resolver.applies(variable, one) for one in services):
        return Step(name, text, LEFT_OUT, variable, reason=f"it is declared, and not for {resolver.stage}{' and ' + service if service else ''}")
    if text is not None:
        try:
            text = normal(variable, text)
        except CoinJarError as fault:
            return Step(name, text, LEFT_OUT, variable, reason=fault.message)
    seen = [resolver.value(name, one) for one in _reached(resolver, name, services, service)]
    if seen and all(one.text == text and one.fault is None and (text is not None or one.is_unset) for one in seen):
        return Step(name, text, SAME, variable, text)
    old = next((one.text for one in seen if one.text is not None), None)
    return Step(name, text, ADD if old is None else CHANGE, variable, old)


def _reached(resolver: Resolver, name: str, services: list[str], service: str | None) -> list[str]:
    """The services that a value written here would reach: not those that have their own on this very stage."""
    if service:
        return services
    own = resolver.jar.plain.get(resolver.stage, {})
    return [one for one in services if name not in own.get(one, {})]


def carry_out(folder: Path, steps: list[Step], stage: str, *, service: str | None, again: Callable[[], list[Step]]) -> None:
    """Declare what is new, set what is new or changed. `again` makes the plan anew, under the lock.

    Raises InputError, with nothing written, if the jar changed since `steps` was made.
    """
    declare = [step for step in steps if step.action == NEW]
    values = [step for step in steps if step.action in (NEW, ADD, CHANGE)]
    with locked(folder):
        if [(step.name, step.action, step.old) for step in again()] != [(step.name, step.action, step.old) for step in steps]:
            raise InputError("the jar was changed by somebody else meanwhile", hint="adopt again", code="changed-meanwhile")
        if declare:
            # Declared first: if this is cut short, the jar has a variable without a value, not a value without a variable.
            edit_file(folder / "jar.yaml", [Edit(("variables", step.name), declaration(step.variable)) for step in declare])
        if values:
            edits = [Edit((service or ALL, one.name), one.text if one.text is not None else {"unset": "true"}) for one in values]
            edit_file(plain_path(folder, stage), edits)
