"""Which value takes effect: the layers of one stage, resolved for one service at a time.

Lowest first: default; shared for all, shared for the service; then for each stage, from the one that is followed
down to the stage itself, for all and for the service; the person's own; one-offs.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, TypeAlias

from coinjar.core.definition import Command, Definition, FromEnv, FromFile, FromStore, Outside, Undecryptable, Unset
from coinjar.core.errors import CoinJarError, InputError, Location, is_encrypted_for_others, raise_all
from coinjar.core.kinds import normal
from coinjar.core.model import Jar, Layer, Resolved, Scope, Variable
from coinjar.core.names import ALL, SHARED
from coinjar.core.record import Record
from coinjar.core.references import Reference, ReferenceValue, Template, expand
from coinjar.core.secret import Secret, reveal

if TYPE_CHECKING:
    from coinjar.core.alike_services import AlikeServices
    from coinjar.core.settled_values import SettledValues

Fetch: TypeAlias = Callable[[Outside, Location], str]
"""Fetches a value from outside (a command, a file, the environment). Raises CoinJarError when it cannot."""

DEEPEST = 60


class NamedLayer(Record):
    """One layer of a stage. `kind` is default, shared, stage, mine or one-off."""

    kind: str
    name: str
    values: Layer

    def label(self, scope: str) -> str:
        """Return the name shown for the part of this layer that is set for `scope` (all or a service)."""
        if self.kind in ("default", "one-off"):
            return self.kind
        name = f"{self.name}, your own" if self.kind == "mine" else self.name
        return f"{name}, {'all services' if scope == ALL else scope}"


def plain(variable: Variable, definition: Definition) -> Resolved:
    """Return what a plain text resolves to.

    Cached on the definition: it is the same for every service and stage where it takes effect.
    """
    resolved = definition.seen
    if resolved is None:
        assert isinstance(definition.content, str)
        try:
            resolved = Resolved(variable, definition, normal(variable, definition.content), secret=variable.secret)
        except CoinJarError as fault:
            fault.location = definition.location
            resolved = Resolved(variable, definition, secret=variable.secret, fault=fault)
        definition.seen = resolved
    return resolved


def no_fetch(outside: Outside, location: Location) -> str:
    """Fetch nothing: for callers that only inspect the jar."""
    places = {Command: "a command", FromFile: "a file", FromEnv: "the environment", FromStore: "etcd"}
    what = places.get(type(outside), "another jar")
    raise InputError(
        f"the value comes from {what}, which was not read",
        hint="print it with `coinjar value`",
        location=location,
        code="not-fetched",
    )


class Resolver:
    """Resolves the variables of one stage, or of `shared` (values without a stage).

    Caches results: create a new one after a change.
    """

    def __init__(
        self,
        jar: Jar,
        stage: str,
        *,
        fetch: Fetch = no_fetch,
        mine: bool = False,
        one_offs: Mapping[str, Definition] | None = None,
        followed: Resolver | None = None,
    ) -> None:
        """`followed`: a resolver of the stage that this one follows, with nobody's own values: its layers need not be
        merged again.
        """
        self.jar = jar
        self.stage = stage
        self.chain = jar.chain(stage) if stage != SHARED else []
        self.fetch = fetch
        self.layers = self._layers(mine, dict(one_offs or {}))
        self.absent = frozenset(variable.name for variable in jar.limited if not jar.exists_on(variable, self.chain))
        self.common: Scope = followed.common.copy() if followed else {}
        self.own: dict[str, Scope] = followed.own.copy() if followed else {}
        self._merge(self.layers[len(followed.layers) :] if followed else self.layers)
        self._known: dict[tuple[str, str], Resolved] = {}
        self._fetched: dict[int, str | CoinJarError] = {}
        self._path: list[tuple[str, str]] = []
        self._alike: AlikeServices | None = None
        self._resolved: dict[tuple[str, str, bool], dict[str, Resolved]] = {}
        self._settled: dict[str, SettledValues] = {}
        self._is_later = False
        """Whether this is not the first service that is asked for."""

    def _layers(self, mine: bool, one_offs: Scope) -> list[NamedLayer]:
        layers = [NamedLayer("default", "default", {ALL: self.jar.defaults})]
        layers += [
            NamedLayer("shared" if name == SHARED else "stage", name, self.jar.plain.get(name, {}))
            for name in [SHARED, *self.chain]
        ]
        if mine and self.stage in self.jar.mine:
            layers.append(NamedLayer("mine", self.stage, self.jar.mine[self.stage]))
        if one_offs:
            layers.append(NamedLayer("one-off", "one-off", {ALL: one_offs}))
        return layers

    def _merge(self, layers: Sequence[NamedLayer]) -> None:
        """Complete `common` (the definition for services without an own one) and `own` (definitions for one service);
        what is in them belongs to the followed stage's resolver too.
        """
        for layer in layers:
            common = layer.values.get(ALL, {})
            self.common.update(common)
            for name in self.own.keys() & common.keys():
                self.own[name] = dict.fromkeys(self.own[name], common[name])  # a higher layer's `all` overrides them
            for scope, values in layer.values.items():
                if scope != ALL:
                    for name, definition in values.items():
                        self.own[name] = {**self.own.get(name, {}), scope: definition}

    def winner(self, name: str, service: str) -> Definition | None:
        """Return the effective definition for the service (or `all`), whether or not the variable applies; None if no
        layer sets it.
        """
        own = self.own.get(name)
        return own[service] if own is not None and service in own else self.common.get(name)

    def winners(self, name: str, services: Sequence[str]) -> list[Definition | None]:
        """Return the effective definitions for any of these services, each once or a few times."""
        own = self.own.get(name, {})
        definitions: list[Definition | None] = [
            definition for service, definition in own.items() if service in services
        ]
        return definitions if len(definitions) == len(services) else [*definitions, self.common.get(name)]

    def setting_layers(self, name: str, service: str) -> Iterator[tuple[NamedLayer, str, Definition]]:
        """Return every layer that sets a variable for a service, lowest first, with the scope."""
        for layer in self.layers:
            for scope in (ALL, service):
                if name in layer.values.get(scope, {}):
                    yield layer, scope, layer.values[scope][name]

    def applies(self, variable: Variable, service: str) -> bool:
        """Return whether the variable exists for this service on this stage."""
        return variable.applies_to(service) and variable.name not in self.absent

    def value(self, name: str, service: str) -> Resolved:
        """Return the value of `name` for `service`. Does not raise for a fault of the value: the result contains it."""
        definition = self.winner(name, service)
        variable = self.jar.variables[name]
        if definition is not None and isinstance(definition.content, str) and self.applies(variable, service):
            return plain(variable, definition)
        key = (name, service)
        if key not in self._known:
            self._known[key] = self._resolve(variable, definition, service)
        return self._known[key]

    def _resolve(self, variable: Variable, definition: Definition | None, service: str) -> Resolved:
        if not self.applies(variable, service):
            return Resolved(variable, None, secret=variable.secret)
        if definition is None or isinstance(definition.content, Unset):
            return Resolved(variable, definition, secret=variable.secret)
        parts = self._plain_parts(definition.content, service) if isinstance(definition.content, Template) else None
        if parts is None:
            return self._work_out(variable, definition, service)
        if definition.made is None:
            definition.made = {}
        if parts not in definition.made:
            definition.made[parts] = self._work_out(variable, definition, service)
        return definition.made[parts]

    def _plain_parts(self, template: Template, service: str) -> tuple[Resolved, ...] | None:
        """Return the values a template refers to, if all are plain texts: the same values give the same result
        everywhere.
        """
        resolved = []
        for reference in template.references():
            whose = reference.service or service
            variable, definition = self.jar.variables[reference.name], self.winner(reference.name, whose)
            if definition is None or not isinstance(definition.content, str) or not self.applies(variable, whose):
                return None
            resolved.append(plain(variable, definition))
        return tuple(resolved)

    def _work_out(self, variable: Variable, definition: Definition, service: str) -> Resolved:
        try:
            value = self._read(variable, definition, service)
        except CoinJarError as fault:
            if fault.location is None:
                fault.location = definition.location
            return Resolved(variable, definition, secret=variable.secret or is_encrypted_for_others(fault), fault=fault)
        return Resolved(variable, definition, value.text, secret=value.secret)

    def _read(self, variable: Variable, definition: Definition, service: str) -> ReferenceValue:
        content = definition.content
        if isinstance(content, Undecryptable):
            raise content.fault
        if isinstance(content, Template):
            value = self._expand(variable, content, definition, service)
        else:
            assert not isinstance(content, str | Unset)
            fetched = self._fetch(content, definition)
            if isinstance(fetched, Secret) and not variable.secret:
                hint = f"declare it so here, too: `coinjar declare {variable.name} --secret`"
                raise InputError(f"{variable.name} is a secret there", hint=hint, code="secret-there")
            value = ReferenceValue(fetched, variable.secret)
        return ReferenceValue(normal(variable, value.text or ""), value.secret)

    def _fetch(self, outside: Outside, definition: Definition) -> str:
        if id(definition) not in self._fetched:
            try:
                self._fetched[id(definition)] = self.fetch(outside, definition.location)
            except CoinJarError as fault:
                self._fetched[id(definition)] = fault
        result = self._fetched[id(definition)]
        if isinstance(result, CoinJarError):
            raise result
        return result

    def _expand(self, variable: Variable, template: Template, definition: Definition, service: str) -> ReferenceValue:
        key = (str(variable.name), service)
        if key in self._path:
            raise self._circle(key, definition)
        if len(self._path) >= DEEPEST:
            raise InputError(
                f"references are nested more than {DEEPEST} deep",
                hint="shorten the chain of references",
                code="reference",
            )
        self._path.append(key)
        try:
            value = expand(template, lambda reference: self._see(reference, service))
        finally:
            self._path.pop()
        return ReferenceValue(value.text, value.secret or variable.secret)

    def _circle(self, key: tuple[str, str], definition: Definition) -> InputError:
        circle = [*self._path[self._path.index(key) :], key]
        several = len({service for _, service in circle}) > 1
        shown = " → ".join(f"{name} of {service}" if several else name for name, service in circle)
        return InputError(
            f"references form a cycle: {shown}",
            hint="set one of them without a reference",
            location=definition.location,
            code="circle",
        )

    def _see(self, reference: Reference, service: str) -> ReferenceValue:
        resolved = self.value(reference.name, reference.service or service)
        if resolved.fault:
            raise resolved.fault
        if resolved.text is None and not reference.operator and resolved.variable.supplied_by:
            from coinjar.core.resolution_faults import ask_supplier

            hint = ask_supplier(resolved.variable)
            raise InputError(f"{reference.name} is not known yet", hint=hint, code="reference")
        return ReferenceValue(resolved.text if resolved.text is None else reveal(resolved.text), resolved.secret)

    def services_of(self, variable: Variable) -> list[str]:
        """Return the services that get this variable on this stage."""
        return [] if variable.name in self.absent else self.jar.services_with(variable)

    def distinct(self, variable: Variable, services: Sequence[str]) -> Sequence[str]:
        """Return representatives of the services (all of which get the variable): every other service sees what one of
        them sees.
        """
        if len(services) < 2:
            return services
        if self._alike is None:
            from coinjar.core.alike_services import AlikeServices  # only where there are several services

            self._alike = AlikeServices(self)
        return self._alike.representatives(variable, services)

    def resolve(
        self, service: str, *, phase: str = "run", closed: bool = False, only: Callable[[str], bool] | None = None
    ) -> dict[str, Resolved]:
        """Return all that a service gets, in the order of declaration: values, and variables unset on purpose; `only`
        filters names.

        Omits build-time variables when `phase` is run, and run-time variables when it is build. Raises all faults and
        all required variables without a value at once. With `closed`, values encrypted for others are in the result,
        with their fault.
        """
        key = (service, phase, closed)
        if only is None and key in self._resolved:
            return self._resolved[key]
        self.jar.service(service)
        settled = self._settled_in(phase) if self._is_later else None  # for the first service it does not pay
        self._is_later = True
        if only is None and settled is not None and (shared := settled.all_of(service)):
            self._resolved[key] = shared
            return shared
        result: dict[str, Resolved] = {}
        faults: list[CoinJarError] = []
        variables = self.jar.variables_for(service)
        for variable in variables if only is None else [each for each in variables if only(each.name)]:
            if settled is not None and (known := settled.known.get(variable.name)) is not None:
                result[variable.name] = known
            elif variable.phase in (phase, "both") and variable.name not in self.absent:
                resolved = settled.value(variable, service) if settled else self.value(variable.name, service)
                if (fault := self._fault_of(resolved, service, closed=closed)) is not None:
                    faults.append(fault)
                elif resolved.definition is not None:
                    result[variable.name] = resolved
        faults += self._idle_one_offs(service, phase, only)
        raise_all(list({id(fault): fault for fault in faults}.values()))
        if only is None:
            self._resolved[key] = result
        return result

    def alike(self, phase: str) -> Mapping[str, Resolved]:
        """Return the values without a fault that every service of a variable gets; none if there are one-off values,
        which have to be looked at one by one.
        """
        return self._settled_in(phase).whole() if self.layers[-1].kind != "one-off" else {}

    def _settled_in(self, phase: str) -> SettledValues:
        if phase not in self._settled:
            from coinjar.core.settled_values import SettledValues  # only where there are several services

            self._settled[phase] = SettledValues(self, phase)
        return self._settled[phase]

    def _fault_of(self, resolved: Resolved, service: str, *, closed: bool) -> CoinJarError | None:
        """Return why a service cannot get a value; with `closed`, a value that is encrypted for others is given."""
        if resolved.fault is not None:
            return None if closed and is_encrypted_for_others(resolved.fault) else resolved.fault
        if not resolved.variable.is_missing(resolved.text):
            return None
        from coinjar.core.resolution_faults import missing  # only where something is

        return missing(resolved.variable, self.stage, service, is_empty=resolved.text == "")

    def _idle_one_offs(self, service: str, phase: str, only: Callable[[str], bool] | None) -> Iterator[CoinJarError]:
        """Yield the faults of one-off values that this service does not get."""
        for name in self.layers[-1].values[ALL] if self.layers[-1].kind == "one-off" else ():
            variable = self.jar.variables[name]
            if only is not None and not only(name):
                continue
            if variable.phase not in (phase, "both") or not self.applies(variable, service):
                from coinjar.core.resolution_faults import idle_one_off

                yield idle_one_off(variable, self.stage, service)
