"""Which value wins: the layers of one stage, resolved for one service at a time.

Lowest first: default; shared for all, shared for the service; then for each stage from the one followed
down to the stage itself, for all and for the service; the person's own; one-offs.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import NamedTuple, TypeAlias

from coinjar.core.errors import CoinJarError, InputError, Place, raise_all
from coinjar.core.kinds import normal, spell
from coinjar.core.model import Command, FromEnv, FromFile, Jar, Layer, Outside, Scope, Unset, Variable, Written
from coinjar.core.names import ALL, SHARED
from coinjar.core.references import Reference, Seen, Template, expand

Fetch: TypeAlias = Callable[[Outside, Place], str]
"""Gets a value from outside (a command, a file, the environment); raises CoinJarError when it cannot."""

_DEEPEST = 100


class NamedLayer(NamedTuple):
    """One layer of a stage. `kind` is default, shared, stage, mine or one-off."""

    kind: str
    name: str
    values: Layer

    def label(self, scope: str) -> str:
        """How people call the part of this layer that is written for `scope` (all or a service)."""
        if self.kind in ("default", "one-off"):
            return self.kind
        name = f"{self.name}, your own" if self.kind == "mine" else self.name
        return f"{name}, {'all services' if scope == ALL else scope}"


class Resolved:
    """What one service sees of one variable on one stage.

    `written` is the winner (None if nobody spoke), `text` the value in its normal spelling (None: no value),
    `fault` why there is none although somebody spoke.
    """

    __slots__ = ("fault", "secret", "text", "variable", "written")

    def __init__(self, variable: Variable, written: Written | None, text: str | None = None, *, secret: bool, fault: CoinJarError | None = None) -> None:
        self.variable = variable
        self.written = written
        self.text = text
        self.secret = secret
        self.fault = fault

    def __repr__(self) -> str:
        shown = "a secret" if self.secret and self.text is not None else repr(self.text)
        return f"Resolved({self.variable.name}, {shown})"

    @property
    def is_unset(self) -> bool:
        """Whether somebody said that there is no value, as opposed to nobody saying anything."""
        return self.written is not None and isinstance(self.written.content, Unset)

    @property
    def is_derived(self) -> bool:
        return self.written is not None and isinstance(self.written.content, Template)


def no_fetch(outside: Outside, place: Place) -> str:
    """Fetches nothing: for those who only look."""
    what = {Command: "a command", FromFile: "a file", FromEnv: "the environment"}[type(outside)]
    raise InputError(f"the value comes from {what}, which was not asked", hint="ask for it with `coinjar value`", place=place, code="not-fetched")


class Resolver:
    """Resolves the variables of one stage. Keeps what it worked out, so make a new one after a change."""

    def __init__(self, jar: Jar, stage: str, *, fetch: Fetch = no_fetch, mine: bool = False, one_offs: Mapping[str, Written] | None = None) -> None:
        self.jar = jar
        self.stage = stage
        self.chain = jar.chain(stage)
        self.fetch = fetch
        self.layers = self._layers(mine, dict(one_offs or {}))
        self.varying = {name for layer in self.layers for scope, values in layer.values.items() if scope != ALL for name in values}
        self._winners: dict[str, Scope] = {}
        self._known: dict[tuple[str, str], Resolved] = {}
        self._fetched: dict[int, str | CoinJarError] = {}
        self._path: list[tuple[str, str]] = []

    def _layers(self, mine: bool, one_offs: Scope) -> list[NamedLayer]:
        defaults = {name: variable.default for name, variable in self.jar.variables.items() if variable.default}
        layers = [NamedLayer("default", "default", {ALL: defaults})]
        layers += [NamedLayer("shared" if name == SHARED else "stage", name, self.jar.plain.get(name, {})) for name in [SHARED, *self.chain]]
        if mine and self.stage in self.jar.mine:
            layers.append(NamedLayer("mine", self.stage, self.jar.mine[self.stage]))
        if one_offs:
            layers.append(NamedLayer("one-off", "one-off", {ALL: one_offs}))
        return layers

    def winners(self, service: str) -> Scope:
        """For each variable that anybody spoke of, what wins for this service; applying or not."""
        if service not in self._winners:
            merged: Scope = {}
            for layer in self.layers:
                merged.update(layer.values.get(ALL, {}))
                merged.update(layer.values.get(service, {}))
            self._winners[service] = merged
        return self._winners[service]

    def spoke(self, name: str, service: str) -> Iterator[tuple[NamedLayer, str, Written]]:
        """Every layer that says something of a variable to a service, lowest first, with the scope it says it for."""
        for layer in self.layers:
            for scope in (ALL, service):
                if name in layer.values.get(scope, {}):
                    yield layer, scope, layer.values[scope][name]

    def applies(self, variable: Variable, service: str) -> bool:
        """Whether the variable exists for this service on this stage."""
        return variable.serves(service) and self.jar.is_here(variable, self.chain)

    def value(self, name: str, service: str) -> Resolved:
        """What `service` sees of `name`: never raises for a fault of the value, but holds it."""
        key = (name, service)
        if key not in self._known:
            self._known[key] = self._resolve(self.jar.variables[name], service)
        return self._known[key]

    def _resolve(self, variable: Variable, service: str) -> Resolved:
        if not self.applies(variable, service):
            return Resolved(variable, None, secret=variable.secret)
        written = self.winners(service).get(variable.name)
        if written is None or isinstance(written.content, Unset):
            return Resolved(variable, written, secret=variable.secret)
        try:
            seen = self._read(variable, written, service)
        except CoinJarError as fault:
            if fault.place is None:
                fault.place = written.place
            return Resolved(variable, written, secret=variable.secret, fault=fault)
        return Resolved(variable, written, seen.text, secret=seen.secret)

    def _read(self, variable: Variable, written: Written, service: str) -> Seen:
        content = written.content
        if isinstance(content, str):
            return Seen(spell(variable, written), variable.secret)
        if isinstance(content, Template):
            seen = self._expand(variable, content, written, service)
        else:
            assert not isinstance(content, Unset)
            seen = Seen(self._fetch(content, written), variable.secret)
        return Seen(normal(variable, seen.text or ""), seen.secret)

    def _fetch(self, outside: Outside, written: Written) -> str:
        if id(written) not in self._fetched:
            try:
                self._fetched[id(written)] = self.fetch(outside, written.place)
            except CoinJarError as fault:
                self._fetched[id(written)] = fault
        found = self._fetched[id(written)]
        if isinstance(found, CoinJarError):
            raise found
        return found

    def _expand(self, variable: Variable, template: Template, written: Written, service: str) -> Seen:
        key = (str(variable.name), service)
        if key in self._path:
            raise self._circle(key, written)
        if len(self._path) >= _DEEPEST:
            raise InputError(f"references go more than {_DEEPEST} deep", hint="shorten the chain of references", code="reference")
        self._path.append(key)
        try:
            seen = expand(template, lambda reference: self._see(reference, service))
        finally:
            self._path.pop()
        return Seen(seen.text, seen.secret or variable.secret)

    def _circle(self, key: tuple[str, str], written: Written) -> InputError:
        circle = [*self._path[self._path.index(key) :], key]
        several = len({service for _, service in circle}) > 1
        shown = " → ".join(f"{name} of {service}" if several else name for name, service in circle)
        return InputError(f"references go in a circle: {shown}", hint="let one of them stand on its own", place=written.place, code="circle")

    def _see(self, reference: Reference, service: str) -> Seen:
        found = self.value(reference.name, reference.service or service)
        if found.fault:
            raise found.fault
        return Seen(found.text, found.secret)

    def services_of(self, variable: Variable) -> list[str]:
        """The services that get this variable on this stage."""
        if not self.jar.is_here(variable, self.chain):
            return []
        return [service for service in self.jar.services if variable.serves(service)]

    def resolve(self, service: str, *, phase: str = "run") -> dict[str, Resolved]:
        """All that a service sees, in the order of declaration: with a value, or unset on purpose.

        Build-time variables are left out when `phase` is run, and the other way round. Raises every fault
        and every required variable without a value, all at once.
        """
        self.jar.service(service)
        found: dict[str, Resolved] = {}
        faults: list[CoinJarError] = []
        for name, variable in self.jar.variables.items():
            if variable.phase not in (phase, "both") or not self.applies(variable, service):
                continue
            seen = self.value(name, service)
            if seen.fault is not None:
                faults.append(seen.fault)
            elif seen.text is None and variable.required:
                faults.append(missing(variable, self.stage, service))
            elif seen.written is not None:
                found[name] = seen
        raise_all(list({id(fault): fault for fault in faults}.values()))
        return found


def missing(variable: Variable, stage: str, service: str | None) -> InputError:
    """The error of a required variable without a value."""
    whose = f" for {service}" if service else ""
    return InputError(
        f"{variable.name} is required and has no value on {stage}{whose}",
        hint=f"`coinjar put {variable.name} --stage {stage}`" if variable.secret else f"`coinjar put {variable.name}=… --stage {stage}`",
        place=variable.place,
        code="CJ001",
    )
