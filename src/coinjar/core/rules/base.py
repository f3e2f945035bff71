"""Rules: what a rule is, what it returns, and its input."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator, Sequence
from functools import cached_property
from typing import Any, Generic, NamedTuple, TypeVar

from coinjar.core.code_uses import CodeLiteral, CodeUse
from coinjar.core.definition import Definition, Undecryptable
from coinjar.core.diagnostics import Diagnostic, PortUse
from coinjar.core.errors import CoinJarError, Location, is_encrypted_for_others
from coinjar.core.inference import is_placeholder
from coinjar.core.layers import Fetch, Resolver, no_fetch
from coinjar.core.model import AcceptedFinding, Jar, Scope, Variable
from coinjar.core.names import ALL, SHARED
from coinjar.core.redaction import SecretFinder
from coinjar.core.secret_ages import Day
from coinjar.core.stage_changes import StageChanges

ERROR, WARNING = "error", "warning"


class ScopedDefinition(NamedTuple):
    """A definition with its variable and scope. `layer` is default, shared or a stage."""

    variable: Variable
    definition: Definition
    layer: str
    scope: str

    @property
    def stage(self) -> str | None:
        return None if self.layer in ("default", SHARED) else self.layer


class SetText(NamedTuple):
    """A plain text of a variable, and where it is set: stages share most of them. `found` has definitions with their
    layers and scopes.
    """

    variable: Variable
    text: str
    found: list[tuple[Definition, str, str]]

    @property
    def places(self) -> list[ScopedDefinition]:
        """Where it is set. Made on demand: most texts have no fault to report."""
        return [ScopedDefinition(self.variable, *each) for each in self.found]


class CheckContext:
    """Input of the rules: the jar, its stages resolved on demand, and what was read from the files beside it.

    `port_uses` are ports in other files; `uses`, `literals` and `unreadable` come from code; `not_ours` are names that
    systems set themselves. Here they are empty: `actions.checking` has a context that reads the files. `today` is the
    day that ages are counted to (UTC); here it is before every date.
    """

    today: Day = Day.min

    port_uses: Sequence[PortUse] = ()
    uses: Sequence[CodeUse] = ()
    literals: Sequence[CodeLiteral] = ()
    unreadable: Sequence[Diagnostic] = ()
    not_ours: frozenset[str] = frozenset()

    def __init__(self, jar: Jar, fetch: Fetch = no_fetch) -> None:
        self.jar = jar
        self.stages = jar.stage_names()
        self._fetch = fetch
        self._resolvers: dict[str, Resolver] = {}
        self.not_fetched: dict[Location, bool] = {}
        """Values that were not read, by place: whether only for want of a consent."""

    def resolver(self, stage: str) -> Resolver:
        """Return the resolver of a stage, or of `shared`."""
        if stage not in self._resolvers:
            followed = None
            for name in [SHARED, *(self.jar.chain(stage) if stage != SHARED else [])]:
                if name not in self._resolvers:
                    self._resolvers[name] = Resolver(self.jar, name, fetch=self._fetch, followed=followed)
                followed = self._resolvers[name]
        return self._resolvers[stage]

    @property
    def scopes(self) -> Iterator[tuple[str, str, Scope]]:
        """Yield all values by layer and scope; the defaults first."""
        yield "default", ALL, self.jar.defaults
        for layer, scopes in self.jar.plain.items():
            for scope, values in scopes.items():
                yield layer, scope, values

    def definitions_of(self, names: Container[str]) -> Iterator[ScopedDefinition]:
        """Yield every definition of these variables."""
        variables = self.jar.variables
        for layer, scope, values in self.scopes:
            for name in [name for name in values if name in names]:
                yield ScopedDefinition(variables[name], values[name], layer, scope)

    @cached_property
    def definitions(self) -> list[ScopedDefinition]:
        """Every definition in the jar."""
        return list(self.definitions_of(self.jar.variables))

    @property
    def set_texts(self) -> list[SetText]:
        """Every plain text of every variable, once."""
        return self._sorted[0]

    @property
    def other_definitions(self) -> list[ScopedDefinition]:
        """Every definition that is not a plain text."""
        return self._sorted[1]

    @cached_property
    def _sorted(self) -> tuple[list[SetText], list[ScopedDefinition]]:
        texts: list[SetText] = []
        others: list[ScopedDefinition] = []
        variables = self.jar.variables
        by_name: dict[str, dict[str, list[tuple[Definition, str, str]]]] = {}
        for layer, scope, values in self.scopes:
            for name, definition in values.items():
                content = definition.content
                if not isinstance(content, str):
                    others.append(ScopedDefinition(variables[name], definition, layer, scope))
                    continue
                if (own := by_name.get(name)) is None:
                    own = by_name[name] = {}
                if (found := own.get(content)) is not None:
                    found.append((definition, layer, scope))
                else:
                    own[content] = found = [(definition, layer, scope)]
                    texts.append(SetText(variables[name], content, found))
        return texts, others

    @cached_property
    def secret_texts(self) -> list[tuple[ScopedDefinition, str]]:
        """Every secret that is a plain text, decrypted, and no placeholder."""
        return [
            (definition, text)
            for definition in self.definitions_of(self.secret_variables)
            if isinstance(text := definition.definition.content, str) and text and not is_placeholder(text)
        ]

    @cached_property
    def secret_variables(self) -> frozenset[str]:
        """The names of variables that are declared as secrets."""
        return frozenset(name for name, variable in self.jar.variables.items() if variable.secret)

    @cached_property
    def secrets(self) -> SecretFinder:
        """Finds the decrypted secrets of 8 characters and more."""
        known = {text: str(definition.variable.name) for definition, text in self.secret_texts}
        return SecretFinder(known, shortest=8)

    @cached_property
    def closed(self) -> list[ScopedDefinition]:
        """The secrets that this identity cannot decrypt."""
        return [
            definition
            for definition in self.other_definitions
            if isinstance(definition.definition.content, Undecryptable)
            and is_encrypted_for_others(definition.definition.content.fault)
        ]

    @cached_property
    def derived_faults(self) -> list[tuple[CoinJarError, Variable, str, str | None]]:
        """The faults of values that are not plain texts, each once per stage: with variable, stage, and service if not
        all.
        """
        return list(self._derived_faults())

    def _derived_faults(self) -> Iterator[tuple[CoinJarError, Variable, str, str | None]]:
        # In the order of declaration: the reported member of a cycle must not change from run to run.
        derived = dict.fromkeys(str(definition.variable.name) for definition in self.other_definitions)
        changes = StageChanges(self.jar)
        faulty: dict[str, set[str]] = {}
        for stage in self.stages:
            resolver = self.resolver(stage)
            followed = resolver.chain[-2] if len(resolver.chain) > 1 else ""
            # What the stage does not change has no fault either, if it had none on the stage that this one follows.
            names = faulty[followed] | changes.on(resolver) if followed in faulty else derived.keys()
            faulty[stage] = set()
            for name in derived:
                if name not in names:
                    continue
                variable = self.jar.variables[name]
                messages: set[str] = set()
                asked = resolver.distinct(variable, resolver.services_of(variable))
                for service in asked:
                    resolved = resolver.value(name, service)
                    if resolved.fault is not None:
                        faulty[stage].add(name)
                    wanted_definition = resolved.definition
                    if (
                        resolved.fault is None
                        or wanted_definition is None
                        or isinstance(wanted_definition.content, str)
                        or resolved.fault.location != wanted_definition.location
                    ):
                        continue  # the fault of a referenced value is reported at that value
                    if resolved.fault.message not in messages:
                        messages.add(resolved.fault.message)
                        yield resolved.fault, variable, stage, service if len(asked) > 1 else None


C_contra = TypeVar("C_contra", bound=CheckContext, contravariant=True)


class Rule(NamedTuple, Generic[C_contra]):
    """A rule of `check`. docs/rules.md has a section on each. `find` takes the context that the rule needs."""

    code: str
    severity: str
    title: str
    find: Callable[[C_contra], Iterable[Diagnostic]]


class Finding(NamedTuple):
    """A diagnostic with its rule; `accepted` says why it was accepted."""

    rule: Rule[Any]
    diagnostic: Diagnostic
    accepted: AcceptedFinding | None = None


def some_services(affected: list[str], of: list[str]) -> tuple[str, str | None]:
    """Return words for the affected services (none if all are), and the service if it is one."""
    if len(affected) == len(of):
        return "", None
    return f" for {', '.join(affected)}", affected[0] if len(affected) == 1 else None
