"""Bring variables from a source into stages of the jar: first a plan, then, after a yes, the edits."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.changing import Change, edit_file
from coinjar.actions.opening import OpenJar
from coinjar.actions.values import declaration
from coinjar.core.errors import CoinJarError, InputError, UsageError
from coinjar.core.guess import Guess, guess
from coinjar.core.kinds import normal
from coinjar.core.layers import Resolver
from coinjar.core.model import UNSET, Jar, Variable
from coinjar.core.names import ALL, VariableName, name_fault
from coinjar.dialects.base import Item
from coinjar.documents.edit import Edit
from coinjar.jarfile.outside import fetcher
from coinjar.jarfile.store import locked
from coinjar.sources.base import SET_BY_EVERYBODY, Source

NEW, ADD, CHANGE, SAME, LEFT_OUT = "new", "add", "change", "same", "left out"


class Step(NamedTuple):
    """What becomes of one variable of the source, for a stage and a service or `all`. `old` is what is there now (None: no value)."""

    name: str
    text: str | None
    action: str
    variable: Variable
    stage: str
    scope: str = ALL
    old: str | None = None
    guessed: Guess | None = None
    reason: str = ""

    @property
    def secret(self) -> bool:
        return self.variable.secret


class Wanted(NamedTuple):
    """Which of a source's variables to bring, and where. `secret` and `plain` settle the secrecy of names that are new."""

    stage: str | None
    service: str | None = None
    every_name: bool = False
    secret: Sequence[str] = ()
    plain: Sequence[str] = ()


def plan(opened: OpenJar, source: Source, wanted: Wanted) -> list[Step]:
    """What adopting would do. Raises for an unknown stage or service, and for none where the source does not tell."""
    jar = opened.load()
    if wanted.service:
        jar.service(wanted.service)
    return [step for stage in _stages(jar, source, wanted) for step in _Planner(jar, opened.folder, source, stage, wanted).steps()]


def _stages(jar: Jar, source: Source, wanted: Wanted) -> list[str]:
    if wanted.stage is not None:
        jar.stage(wanted.stage)
        return [wanted.stage]
    if not source.stages():
        raise UsageError("into which stage?", hint=f"add --stage: {', '.join(jar.stages)}", code="which-stage")
    for stage in source.stages():
        jar.stage(stage)
    return source.stages()


class _Planner:
    """Plans one stage."""

    def __init__(self, jar: Jar, folder: Path, source: Source, stage: str, wanted: Wanted) -> None:
        self.jar = jar
        self.source = source
        self.stage = stage
        self.wanted = wanted
        self.resolver = Resolver(jar, stage, fetch=fetcher(folder, allow_commands=False))

    def steps(self) -> list[Step]:
        found: list[Step] = []
        for name, scopes in self._by_name().items():
            if name_fault("variable", name):
                continue  # told among the remarks
            first = next(iter(scopes.values()))
            variable, guessed = self._variable(first, scopes)
            for scope, item in scopes.items():
                found.append(self._step(variable, item, scope, guessed))
        return found

    def _by_name(self) -> dict[str, dict[str, Item]]:
        """Each name's values by scope. What all services that have it agree on becomes one value for `all`."""
        services = self._services()
        found: dict[str, dict[str, Item]] = {}
        for service in services:
            for name, item in self.source.of(service, self.stage).items():
                found.setdefault(name, {})[service or ALL] = item
        if self.wanted.service:
            return {name: {self.wanted.service: next(iter(scopes.values()))} for name, scopes in found.items()}
        return {name: self._joined(name, scopes) for name, scopes in found.items()}

    def _services(self) -> list[str | None]:
        told = self.source.services()
        if not told:
            return [None]
        if self.wanted.service:
            if self.wanted.service in told or len(told) == 1:
                return [self.wanted.service if self.wanted.service in told else told[0]]
            hint = f"it has {', '.join(told)}"
            raise UsageError(f"{self.source.label} has nothing for {self.wanted.service}", hint=hint, code="unknown-service")
        return list(told)

    def _joined(self, name: str, scopes: dict[str, Item]) -> dict[str, Item]:
        ours = {scope: item for scope, item in scopes.items() if scope in self.jar.services}
        if not ours or len({item.text for item in ours.values()}) > 1:
            return scopes
        known = self.jar.variables.get(name)
        if known and not set(self.jar.serving(known)) <= set(ours):
            return scopes  # a value for all would reach others, too
        strangers = {scope: item for scope, item in scopes.items() if scope not in self.jar.services}
        return {ALL: next(iter(ours.values())), **strangers}

    def _variable(self, item: Item, scopes: dict[str, Item]) -> tuple[Variable, Guess | None]:
        name = item.name
        if name in self.jar.variables:
            return self.jar.variables[name], None
        guessed = guess(name, item.text or "")
        if item.secret is not None and not guessed.secret:
            guessed = guessed._replace(secret=item.secret, sure=True, why="the source says so")
        is_secret = name in self.wanted.secret or (guessed.secret and name not in self.wanted.plain)
        if name in self.wanted.secret or name in self.wanted.plain:
            guessed = guessed._replace(secret=is_secret, sure=True, why="you said so")
        about = self.source.comments.get(item.place.line, "")
        services = self._new_services(name, scopes)
        return Variable(VariableName(name), self.jar.place, about, guessed.kind, secret=is_secret, services=services, phase=item.phase), guessed

    def _new_services(self, name: str, scopes: dict[str, Item]) -> frozenset[str] | None:
        """The services that a new variable is for: those that the source has it for, if that is not all."""
        having = {one.service for one in self.source.reading.items if one.name == name and one.service in self.jar.services}
        having |= {scope for scope in scopes if scope in self.jar.services and self.source.services()}
        return frozenset(str(one) for one in having) if having and having != set(self.jar.services) else None

    def _step(self, variable: Variable, item: Item, scope: str, guessed: Guess | None) -> Step:
        name, text = str(variable.name), item.text

        def left_out(reason: str) -> Step:
            return Step(name, text, LEFT_OUT, variable, self.stage, scope, reason=reason)

        if scope != ALL and scope not in self.jar.services:
            return left_out(f"the jar has no service '{scope}' (--service names one for it)")
        if name in SET_BY_EVERYBODY and not self.wanted.every_name:
            return left_out("every shell or image sets it by itself (--every-name takes it)")
        if guessed is not None:
            return Step(name, text, NEW, variable, self.stage, scope, guessed=guessed)
        services = [scope] if scope != ALL else self.resolver.services_of(variable)
        if not services or not all(self.resolver.applies(variable, one) for one in services):
            return left_out(f"it is declared, and not for {self.stage}{' and ' + scope if scope != ALL else ''}")
        if text is not None:
            try:
                text = normal(variable, text)
            except CoinJarError as fault:
                return left_out(fault.message)
        return self._against(variable, text, scope, services)

    def _against(self, variable: Variable, text: str | None, scope: str, services: list[str]) -> Step:
        """The step for a declared variable, by what the stage has."""
        name = str(variable.name)
        own = self.jar.plain.get(self.stage, {})
        reached = services if scope != ALL or variable.secret else [one for one in services if name not in own.get(one, {})]
        seen = [self.resolver.value(name, one) for one in reached]
        if seen and all(one.text == text and one.fault is None and (text is not None or one.is_unset) for one in seen):
            return Step(name, text, SAME, variable, self.stage, scope, text)
        if name in self.jar.secret_names and not variable.secret:
            why = "it is made from a secret here, and its text would lie open"
            return Step(name, text, LEFT_OUT, variable, self.stage, scope, reason=why)
        old = next((one.text for one in seen if one.text is not None), None)
        reason = "a spreadsheet may have rewritten it" if self.source.dialect == "csv" and _looks_rewritten(old, text) else ""
        return Step(name, text, ADD if old is None else CHANGE, variable, self.stage, scope, old, reason=reason)


def _looks_rewritten(old: str | None, new: str | None) -> bool:
    """Whether a change is of the sort that spreadsheets make by themselves: `1.10` to 1.1, `0755` to 755, `true` to TRUE."""
    if old is None or new is None:
        return False
    try:
        return float(old) == float(new)
    except ValueError:
        return old.casefold() == new.casefold()


def carry_out(opened: OpenJar, steps: list[Step], *, again: Callable[[], list[Step]]) -> list[str]:
    """Declare what is new, set what is new or changed, secrets sealed; returns what is to know about keys that were made.

    `again` makes the plan anew, under the lock. Raises InputError, with nothing written, if the jar changed since `steps` was made.
    """
    declare = {step.name: step.variable for step in steps if step.action == NEW}
    values = [step for step in steps if step.action in (NEW, ADD, CHANGE)]
    with locked(opened.folder):
        if _facts(again()) != _facts(steps):
            raise InputError("the jar was changed by somebody else meanwhile", hint="adopt again", code="changed-meanwhile")
        jar = opened.load()
        change = Change(opened, jar._replace(variables={**jar.variables, **declare}))
        for step in values:
            change.put(step.stage, step.scope, step.name, step.text if step.text is not None else UNSET)
        if declare:
            # Declared first: if this is cut short, the jar has a variable without a value, not a value without a variable.
            edit_file(opened.folder / "jar.yaml", [Edit(("variables", name), declaration(one)) for name, one in declare.items()])
        change.commit()
    return change.notes


def _facts(steps: Iterable[Step]) -> list[tuple[str, str, str, str, str | None]]:
    return [(step.name, step.stage, step.scope, step.action, step.old) for step in steps]
