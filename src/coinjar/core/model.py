"""The contents of a jar. `jarfile` creates these objects; everything else only reads them."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import TYPE_CHECKING, Any, TypeAlias

from coinjar.core.definition import Definition, SealedDefinition, Unset
from coinjar.core.errors import CoinJarError, Location, UsageError
from coinjar.core.names import ALL, ServiceName, StageName, VariableName, suggestion
from coinjar.core.record import Record
from coinjar.core.references import Template
from coinjar.core.secret import Secret, hidden, reveal

if TYPE_CHECKING:
    from coinjar.core.code_uses import CodePaths
    from coinjar.core.proofs import Proof
    from coinjar.core.recorded_names import RecordedNames
    from coinjar.core.rotation import RotationRules


class Variable(Record, kw_only=True):
    """A declared variable.

    `services` and `stages` are None for all; sets are expanded; `nested` is its path in settings files.
    """

    name: VariableName
    location: Location
    about: str = ""
    kind: str = "text"
    constraints: Mapping[str, object] = {}
    default: Definition | None = None
    secret: bool = False
    required: bool = False
    may_be_empty: bool = False
    services: frozenset[str] | None = None
    stages: frozenset[str] | None = None
    phase: str = "run"
    only_with: tuple[tuple[str, str | None], ...] = ()
    also_as: tuple[str, ...] = ()
    formerly: tuple[str, ...] = ()
    nested: tuple[str, ...] = ()
    generate: Mapping[str, object] = {}
    supplied_by: tuple[str, ...] = ()
    sample: str | None = None
    per_stage: bool = False
    """Whether each stage has a value of its own by nature: it is never promoted or lifted."""
    valid_days: int | None = None
    """For how many days a secret is good, from the day on which it was set."""
    rotation: RotationRules | None = None

    @cached_property
    def takes_any_text(self) -> bool:
        """Whether every text without a NUL is a value in its normal spelling, and is shown as it is."""
        return self.kind == "text" and not self.constraints and not self.secret

    def is_missing(self, text: str | None) -> bool:
        """Return whether the variable is required and this text is not a value for it: None, or empty without
        `may_be_empty`.
        """
        return self.required and not text and (text is None or not self.may_be_empty)

    def scopes_for(self, scope: str) -> list[str]:
        """Return the scopes in which a value set for `scope` is encrypted: never `all` for a variable of only some
        services.
        """
        return [scope] if scope != ALL or self.services is None else sorted(self.services)

    def applies_to(self, service: str) -> bool:
        """Return whether this service gets the variable."""
        return self.services is None or service in self.services


class Resolved:
    """The value of one variable for one service on one stage.

    `definition` is the effective one (None if no layer sets the variable), `text` the normalized value (None: no
    value), `fault` the reason why there is no value although a layer sets it.
    """

    __slots__ = ("definition", "derived", "fault", "secret", "text", "variable")

    def __init__(
        self,
        variable: Variable,
        definition: Definition | None,
        text: str | None = None,
        *,
        secret: bool,
        fault: CoinJarError | None = None,
    ) -> None:
        self.variable = variable
        self.definition = definition
        self.text = hidden(text) if secret and text is not None and not isinstance(text, Secret) else text
        self.secret = secret
        self.fault = fault
        self.derived = definition is not None and isinstance(definition.content, Template)

    def __repr__(self) -> str:
        shown = "a secret" if self.secret and self.text is not None else repr(self.text)
        return f"Resolved({self.variable.name}, {shown})"

    @property
    def revealed(self) -> str | None:
        """The text in clear, for the program or person it was requested for."""
        return None if self.text is None else reveal(self.text)

    @property
    def is_unset(self) -> bool:
        """Return whether the variable is explicitly unset, as opposed to set by no layer."""
        return self.definition is not None and isinstance(self.definition.content, Unset)


class Service(Record, kw_only=True):
    """A part of the application that runs by itself."""

    name: ServiceName
    location: Location
    about: str = ""
    code: tuple[str, ...] = ()
    """Files and folders of its code, relative to the folder that contains the jar."""
    formerly: tuple[str, ...] = ()


class Stage(Record, kw_only=True):
    """A stage, or a stage pattern (`trial-*`). `hosts` says which services share one machine; `formerly` are its
    earlier names, the first one first.
    """

    name: StageName
    location: Location
    follows: StageName | None = None
    guarded: bool = False
    about: str = ""
    hosts: Mapping[str, frozenset[str]] = {}
    formerly: tuple[str, ...] = ()

    @property
    def is_pattern(self) -> bool:
        return self.name.endswith("*")

    def covers(self, name: str) -> bool:
        """Return whether `name` is this stage, or matches this pattern."""
        return name == self.name or (
            self.is_pattern and name.startswith(self.name[:-1]) and len(name) >= len(self.name)
        )


class AcceptedFinding(Record, kw_only=True):
    """A finding that somebody accepted; None matches any."""

    rule: str
    reason: str
    location: Location
    variable: str | None = None
    stage: str | None = None
    service: str | None = None


class VariableGroup(Record):
    """Variables that must have values all together or not at all."""

    name: str
    members: tuple[VariableName, ...]
    location: Location


class Destination(Record, kw_only=True):
    """A named place to which variables go. `services` and `stages` are None for all.

    `variables` and `without` are name patterns (`MAIL_*`). `secrets` is a text written instead of a secret. `options`
    contains what is specific to the type, as parsed. `moved_to` maps a stage, or STAGE/SERVICE, or "" for all, to the
    new destination: this one is then read, and no longer delivered to.
    """

    name: str
    location: Location
    type: str
    services: frozenset[str] | None = None
    stages: frozenset[str] | None = None
    variables: tuple[str, ...] = ("*",)
    without: tuple[str, ...] = ()
    secrets: str | None = None
    plain_only: bool = False
    moved_to: Mapping[str, str] = {}
    options: Mapping[str, Any] = {}

    def moved(self, stage: str) -> str:
        """Return the destination that replaced this one for a whole stage; "" if none."""
        return self.moved_to.get(stage) or self.moved_to.get("", "")

    def moved_services(self, stage: str) -> set[str]:
        """Return the services that another destination serves on a stage that otherwise stays here."""
        return {service for key in self.moved_to for on, _, service in [key.partition("/")] if on == stage and service}


class RecordsConfig(Record):
    """Where a team shares its records. `password` names a variable of the caller's environment."""

    address: str
    location: Location
    password: str = ""


Scope: TypeAlias = dict[str, Definition]
"""Variable name to definition."""
Layer: TypeAlias = dict[str, Scope]
"""`all` or a service's name to the definitions for it."""


class Jar(Record, kw_only=True):
    """One application's variable set. `plain` maps `shared` and stage names to their layers."""

    app: str
    location: Location
    formerly: tuple[str, ...] = ()
    services: Mapping[str, Service]
    stages: Mapping[str, Stage]
    variables: Mapping[str, Variable]
    sets: Mapping[str, tuple[str, ...]] = {}
    together: tuple[VariableGroup, ...] = ()
    accepted: tuple[AcceptedFinding, ...] = ()
    destinations: Mapping[str, Destination] = {}
    proofs: Mapping[str, Proof] = {}
    records: RecordsConfig | None = None
    code: CodePaths | None = None
    plain: Mapping[str, Layer] = {}
    mine: Mapping[str, Layer] = {}

    @cached_property
    def defaults(self) -> Scope:
        """The variables' defaults."""
        return {name: variable.default for name, variable in self.variables.items() if variable.default}

    @cached_property
    def secret_names(self) -> frozenset[str]:
        """The secret variables, and those computed from one, over any number of references."""
        created: dict[str, set[str]] = {}
        every = [
            self.defaults,
            *(scope for layers in (self.plain, self.mine) for layer in layers.values() for scope in layer.values()),
        ]
        for scope in every:
            for name, definition in scope.items():
                if not isinstance(definition, SealedDefinition) and isinstance(definition.content, Template):
                    created.setdefault(name, set()).update(
                        reference.name for reference in definition.content.references()
                    )
        other_names = {str(variable.name) for variable in self.variables.values() if variable.secret}
        while more := {name for name, names in created.items() if name not in other_names and names & other_names}:
            other_names |= more
        return frozenset(other_names)

    def current_owner(self, old: str) -> Variable | None:
        """Return the variable that had this name or is also delivered under it; a new variable cannot take the name."""
        return next(
            (
                variable
                for variable in self.variables.values()
                if old != variable.name and old in (*variable.also_as, *variable.formerly)
            ),
            None,
        )

    @cached_property
    def second_names(self) -> dict[str, Variable]:
        """The variables by the names of `also_as`."""
        return {name: variable for variable in self.variables.values() for name in variable.also_as}

    @cached_property
    def recorded(self) -> RecordedNames:
        """The names under which deliveries are recorded."""
        from coinjar.core.recorded_names import RecordedNames  # only deliveries need them

        stages = {name: stage.formerly[0] for name, stage in self.stages.items() if stage.formerly}
        services = {name: service.formerly[0] for name, service in self.services.items() if service.formerly}
        return RecordedNames((*self.formerly, self.app)[0], stages, services)

    @cached_property
    def limited(self) -> list[Variable]:
        """The variables that do not exist on every stage."""
        return [variable for variable in self.variables.values() if variable.stages is not None]

    def stage(self, name: str) -> Stage:
        """Return the stage's declaration: itself, or the longest matching pattern.

        Raises UsageError if there is none.
        """
        if name in self.stages and "*" not in name:
            return self.stages[name]
        shapes = [
            stage for stage in self.stages.values() if stage.is_pattern and stage.covers(name) and "*" not in name
        ]
        if shapes:
            return max(shapes, key=lambda stage: len(stage.name))
        known = [known for known in self.stages if "*" not in known]
        raise UsageError(
            f"there is no stage '{name}'",
            hint=suggestion(name, known, f"the stages are {', '.join(self.stages) or 'none yet'}"),
            code="unknown-stage",
        )

    def chain(self, name: str) -> list[str]:
        """Return the stages whose values `name` inherits, farthest first, itself last."""
        names = [name]
        while follows := self.stage(names[-1]).follows:
            names.append(follows)
        return names[::-1]

    def exists_on(self, variable: Variable, chain: list[str]) -> bool:
        """Return whether the variable exists on the stage whose chain this is."""
        if variable.stages is None:
            return True
        return any(name in variable.stages or self.stage(name).name in variable.stages for name in chain)

    def stage_names(self) -> list[str]:
        """Return the declared stages in order, then stages of a pattern that have values."""
        plain = [name for name in self.stages if "*" not in name]
        return plain + sorted(name for name in self.plain if name != "shared" and name not in self.stages)

    def variable(self, name: str) -> Variable:
        """Return the declaration of `name`. Raises UsageError with the nearest name."""
        if name in self.variables:
            return self.variables[name]
        raise UsageError(
            f"there is no variable '{name}'",
            hint=suggestion(name, self.variables, "declare it in jar.yaml, or with `coinjar put --declare`"),
            code="unknown-variable",
        )

    def service(self, name: str) -> Service:
        """Return the declaration of the service. Raises UsageError with the nearest name."""
        if name in self.services:
            return self.services[name]
        raise UsageError(
            f"there is no service '{name}'",
            hint=suggestion(name, self.services, f"the services are {', '.join(self.services) or 'none yet'}"),
            code="unknown-service",
        )

    def destination(self, name: str) -> Destination:
        """Return the declaration of the destination. Raises UsageError with the nearest name."""
        if name in self.destinations:
            return self.destinations[name]
        raise UsageError(
            f"there is no destination '{name}'",
            hint=suggestion(
                name, self.destinations, f"the destinations are {', '.join(self.destinations) or 'none yet'}"
            ),
            code="unknown-destination",
        )

    @cached_property
    def _for_services(self) -> dict[str, list[Variable]]:
        """The variables of each service, in the order of declaration: a wide jar has far more of others."""
        result: dict[str, list[Variable]] = {service: [] for service in self.services}
        every = list(result.values())
        for variable in self.variables.values():
            own = every if variable.services is None else [result[name] for name in variable.services if name in result]
            for variables in own:
                variables.append(variable)
        return result

    def variables_for(self, service: str) -> list[Variable]:
        """Return the variables that a service gets, on stages where they exist, in the order of declaration."""
        return self._for_services[service]

    def names_for(self, service: str) -> tuple[str, ...]:
        """Return the names of the variables that a service gets, on stages where they exist."""
        return self._names_for_services[service]

    @cached_property
    def _names_for_services(self) -> dict[str, tuple[str, ...]]:
        return {name: tuple(each.name for each in variables) for name, variables in self._for_services.items()}

    def services_with(self, variable: Variable) -> list[str]:
        """Return the services that get the variable, on any stage."""
        if variable.services is None:
            return list(self.services)
        order = self._service_order
        return sorted((name for name in variable.services if name in order), key=order.__getitem__)

    @cached_property
    def _service_order(self) -> dict[str, int]:
        return {name: place for place, name in enumerate(self.services)}

    def expand(self, names: list[str]) -> list[str]:
        """Return services with every set among `names` expanded, `all` included; unknown names are kept."""
        result: list[str] = []
        for name in names:
            result += self.services if name == ALL else self.sets.get(name, (name,))
        return list(dict.fromkeys(result))
