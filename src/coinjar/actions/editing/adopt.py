"""Adopt variables from a source into stages of the jar: first a list of steps, then, after confirmation, the edits."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from coinjar.actions.editing.value_changes import ValueChanges, edit_file
from coinjar.actions.editing.values import declaration
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.secrets.known_secrets import SHORTEST_KNOWN, secret_texts, secrets_read
from coinjar.core.definition import UNSET, Content
from coinjar.core.errors import CoinJarError, InputError, UsageError
from coinjar.core.inference import Inference, infer_all
from coinjar.core.kinds import normal
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar, Variable
from coinjar.core.names import ALL, SHARED, VariableName, name_fault, suggestion
from coinjar.core.redaction import SecretFinder
from coinjar.core.references import parse_template
from coinjar.core.secret_detection import is_named, words_of
from coinjar.dialects.base import ReadItem
from coinjar.documents.edit import Edit
from coinjar.jarfile.external_values import fetcher
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.local_folder import locked
from coinjar.sources.base import SET_BY_EVERYBODY, SourceVariables

NEW, ADD, CHANGE, SAME, LEFT_OUT = "new", "add", "change", "same", "left out"


class AdoptStep(NamedTuple):
    """What happens to one variable of the source, for a stage and a service or `all`.

    `old` is the present value (None: no value).
    """

    name: str
    text: str | None
    action: str
    variable: Variable
    stage: str
    scope: str = ALL
    old: str | None = None
    guessed: Inference | None = None
    reason: str = ""
    reference: str | None = None
    """The text with references, where the file builds it from its other names."""

    @property
    def secret(self) -> bool:
        return self.variable.secret


class AdoptOptions(NamedTuple):
    """Which variables to adopt, and where.

    `secret` and `plain` decide whether new names are secret; `references` keeps references.
    """

    stage: str | None
    services: Sequence[str] = ()
    every_name: bool = False
    references: bool = False
    secret: Sequence[str] = ()
    plain: Sequence[str] = ()


def plan(opened: OpenJar, source: SourceVariables, wanted: AdoptOptions) -> list[AdoptStep]:
    """Return the steps of an adoption.

    Raises UsageError for an unknown stage, service or name, and if the source requires a stage.
    """
    jar = opened.load()
    for service in wanted.services:
        jar.service(service)
    _check_names(jar, source, wanted)
    known = (
        secret_texts(opened, jar)
        | secrets_read(jar, source.reading.items)
        | {item.text: item.name for item in source.reading.items if item.text and item.name in wanted.secret}
    )
    finder = SecretFinder(known, shortest=SHORTEST_KNOWN)
    return [
        step
        for stage in _stages(jar, source, wanted)
        for step in _AdoptPlanner(opened, jar, source, stage, wanted, finder).steps()
    ]


def _check_names(jar: Jar, source: SourceVariables, wanted: AdoptOptions) -> None:
    """Check that every name in an option applies to something. Raises UsageError."""
    names = {item.name for item in source.reading.items}
    for option, given, is_secret in (("--secret", wanted.secret, True), ("--plain", wanted.plain, False)):
        for name in given:
            if name not in names:
                raise UsageError(
                    f"{option} {name}: {source.label} has no such name",
                    hint=suggestion(name, names, "correct the name"),
                    code="unknown-variable",
                )
            if name in jar.variables and jar.variables[name].secret is not is_secret:
                message = f"{option} {name}: jar.yaml already declares it, {'not ' if is_secret else ''}as a secret"
                raise UsageError(message, hint="change its declaration in jar.yaml", code="declared")
    if both := set(wanted.secret) & set(wanted.plain):
        raise UsageError(f"{sorted(both)[0]} cannot be both --secret and --plain", hint="omit one", code="usage")


def _stages(jar: Jar, source: SourceVariables, wanted: AdoptOptions) -> list[str]:
    if wanted.stage is None and not source.stages():
        raise UsageError("which stage?", hint=f"add --stage: {', '.join(jar.stages)}", code="which-stage")
    stages = [wanted.stage] if wanted.stage is not None else source.stages()
    for stage in stages:
        if stage != SHARED:
            jar.stage(stage)
    return stages


class _AdoptPlanner:
    """Computes the steps of one stage."""

    def __init__(
        self, opened: OpenJar, jar: Jar, source: SourceVariables, stage: str, wanted: AdoptOptions, finder: SecretFinder
    ) -> None:
        self.jar = jar
        self.finder = finder
        self.source = source
        self.stage = stage
        self.wanted = wanted
        self.resolver = Resolver(jar, stage, fetch=fetcher(opened.folder, opened.gate))

    def steps(self) -> list[AdoptStep]:
        steps: list[AdoptStep] = []
        for name, scopes in self._by_name().items():
            if name_fault("variable", name):
                continue  # reported with the remarks
            first = next(iter(scopes.values()))
            variable, guessed = self._variable(first, scopes)
            for scope, item in scopes.items():
                steps.append(self._step(variable, item, scope, guessed))
        return steps

    def _by_name(self) -> dict[str, dict[str, ReadItem]]:
        """Return each name's values by scope.

        A value that all services with the name agree on becomes one value for `all`.
        """
        services = self._services()
        result: dict[str, dict[str, ReadItem]] = {}
        for service in services:
            for name, item in self.source.of(service, self.stage).items():
                result.setdefault(name, {})[service or ALL] = item
        if self.wanted.services:
            return {
                name: {service: scopes.get(service) or next(iter(scopes.values())) for service in self.wanted.services}
                for name, scopes in result.items()
            }
        return {name: self._joined(name, scopes) for name, scopes in result.items()}

    def _services(self) -> list[str | None]:
        messages = self.source.services()
        if not messages:
            return [None]
        for service in self.wanted.services:
            if service not in messages and len(messages) > 1:
                hint = f"it has {', '.join(messages)}"
                raise UsageError(
                    f"{self.source.label} has no variables for {service}", hint=hint, code="unknown-service"
                )
        return [service for service in self.wanted.services if service in messages] or list(messages)

    def _joined(self, name: str, scopes: dict[str, ReadItem]) -> dict[str, ReadItem]:
        ours = {scope: item for scope, item in scopes.items() if scope in self.jar.services}
        if not ours or len({item.text for item in ours.values()}) > 1:
            return scopes
        known = self.jar.variables.get(name)
        if known and not set(self.jar.services_with(known)) <= set(ours):
            return scopes  # a value for all would reach other services, too
        strangers = {scope: item for scope, item in scopes.items() if scope not in self.jar.services}
        return {ALL: next(iter(ours.values())), **strangers}

    def _variable(self, item: ReadItem, scopes: dict[str, ReadItem]) -> tuple[Variable, Inference | None]:
        name = item.name
        if name in self.jar.variables:
            return self.jar.variables[name], None
        texts = [item.text for item in self.source.reading.items if item.name == name and item.text is not None]
        guessed = infer_all(name, texts)
        if item.secret is not None and not guessed.secret:
            guessed = guessed._replace(secret=item.secret, is_certain=True, why="as the source declares it")
        held = self._held(name, texts)
        if self._keeps(item):
            guessed = guessed._replace(secret=is_named(words_of(name)), is_certain=True, why="")
        elif held is not None and not (guessed.secret and guessed.is_certain):
            guessed = guessed._replace(secret=True, is_certain=True, why=f"it contains the text of {held}")
        is_secret = name in self.wanted.secret or (guessed.secret and name not in self.wanted.plain)
        if name in self.wanted.secret or name in self.wanted.plain:
            guessed = guessed._replace(secret=is_secret, is_certain=True, why="as given")
        about = self.source.comments.get((item.location.file, item.location.line), "")
        services = self._new_services(name, scopes)
        return Variable(
            name=VariableName(name),
            location=self.jar.location,
            about=about,
            kind=guessed.kind,
            secret=is_secret,
            services=services,
            phase=item.phase,
        ), guessed

    def _held(self, name: str, texts: Sequence[str]) -> str | None:
        """Return the name of another secret whose text one of these texts contains, raw or encoded."""
        result = [
            occurrence.name
            for value in texts
            for occurrence in self.finder.find(value.encode("utf-8", "surrogatepass"))
        ]
        return next((other_name for other_name in result if other_name != name), None)

    def _keeps(self, item: ReadItem) -> bool:
        """Return whether a text's references are kept: if requested, and if the jar will have all referenced
        variables.
        """
        if not self.wanted.references or item.reference is None:
            return False
        names = {reference.name for reference in parse_template(item.reference).references()}
        brought = {
            item.name
            for item in self.source.reading.items
            if item.name not in SET_BY_EVERYBODY or self.wanted.every_name
        }
        return names <= {*self.jar.variables, *brought}

    def _new_services(self, name: str, scopes: dict[str, ReadItem]) -> frozenset[str] | None:
        """Return the services of a new variable: those for which the source has it, if not all."""
        having = {
            item.service
            for item in self.source.reading.items
            if item.name == name and item.service in self.jar.services
        }
        having |= {scope for scope in scopes if scope in self.jar.services and self.source.services()}
        return frozenset(str(service) for service in having) if having and having != set(self.jar.services) else None

    def _step(self, variable: Variable, item: ReadItem, scope: str, guessed: Inference | None) -> AdoptStep:
        name, value = str(variable.name), item.text

        def left_out(reason: str) -> AdoptStep:
            return AdoptStep(name, value, LEFT_OUT, variable, self.stage, scope, reason=reason)

        if value is not None and "\0" in value:
            return left_out("it has a NUL character, which no environment can carry")
        if reason := self._stays_out(name, scope, new=guessed is not None):
            return left_out(reason)
        reference = item.reference if self._keeps(item) else None
        if guessed is not None:
            return AdoptStep(name, value, NEW, variable, self.stage, scope, guessed=guessed, reference=reference)
        services = [scope] if scope != ALL else self.resolver.services_of(variable)
        if not services or not all(self.resolver.applies(variable, service) for service in services):
            return left_out(
                f"it is not declared for {f'service {scope} on stage ' if scope != ALL else 'stage '}{self.stage}"
            )
        if value is not None:
            try:
                value = normal(variable, value)
            except CoinJarError as fault:
                return left_out(fault.message)
        return self._against(variable, value, scope, services, reference)

    def _stays_out(self, name: str, scope: str, *, new: bool) -> str:
        """Return why a name is not adopted; "" if it can be."""
        if scope != ALL and scope not in self.jar.services:
            return f"the jar has no service '{scope}' (choose one with --service)"
        if new and (owner := self.jar.current_owner(name)):
            return f"it is a former name of {owner.name} (`coinjar rename --finish {name}` releases it)"
        if name in SET_BY_EVERYBODY and not self.wanted.every_name:
            return "every shell or image sets it itself (--every-name includes it)"
        return ""

    def _would_lie_open(self, name: str, value: str | None) -> str:
        """Return why the text of a variable that is not secret cannot be stored in plain text; "" if it can."""
        if name in self.jar.secret_names:
            return "it is computed from a secret here, and the secret would be stored in plain text"
        held = self._held(name, [value]) if value is not None else None
        return (
            f"it contains the text of the secret {held}: declare it secret: true, or write it as a reference"
            if held
            else ""
        )

    def _against(
        self, variable: Variable, value: str | None, scope: str, services: list[str], reference: str | None
    ) -> AdoptStep:
        """Return the step for a declared variable, depending on what the stage has."""
        name = str(variable.name)
        own = self.jar.plain.get(self.stage, {})
        reached = (
            services
            if scope != ALL or variable.secret
            else [service for service in services if name not in own.get(service, {})]
        )
        other = [self.resolver.value(name, service) for service in reached]
        if other and all(
            resolved.text == value and resolved.fault is None and (value is not None or resolved.is_unset)
            for resolved in other
        ):
            return AdoptStep(name, value, SAME, variable, self.stage, scope, value)
        if not variable.secret and reference is None and (why := self._would_lie_open(name, value)):
            return AdoptStep(name, value, LEFT_OUT, variable, self.stage, scope, reason=why)
        old = next((resolved.text for resolved in other if resolved.text is not None), None)
        reason = (
            "a spreadsheet may have rewritten it"
            if self.source.dialect == "csv" and _looks_rewritten(old, value)
            else ""
        )
        return AdoptStep(
            name,
            value,
            ADD if old is None else CHANGE,
            variable,
            self.stage,
            scope,
            old,
            reason=reason,
            reference=reference,
        )


def _looks_rewritten(old: str | None, new: str | None) -> bool:
    """Return whether a change is one that spreadsheets make automatically: `1.10` to 1.1, `0755` to 755, `true` to
    TRUE.
    """
    if old is None or new is None:
        return False
    try:
        return float(old) == float(new)
    except ValueError:
        return old.casefold() == new.casefold()


def carry_out(opened: OpenJar, steps: list[AdoptStep], *, again: Callable[[], list[AdoptStep]]) -> list[str]:
    """Declare new names, set new and changed values, secrets encrypted; return remarks on keys that were created.

    `again` computes the steps again, under the lock. Raises InputError, with nothing written, if the jar changed since
    `steps`.
    """
    declare = {step.name: step.variable for step in steps if step.action == NEW}
    values = [step for step in steps if step.action in (NEW, ADD, CHANGE)]
    with locked(opened.folder, "adopt"):
        if _facts(again()) != _facts(steps):
            raise InputError(
                "the jar was changed by another process meanwhile", hint="run it again", code="changed-meanwhile"
            )
        jar = opened.load()
        change = ValueChanges(opened, jar._replace(variables={**jar.variables, **declare}))
        for step in values:
            change.put(step.stage, step.scope, step.name, _content(step))
        if declare:
            # Declarations first: after an interruption the jar has a variable without a value, not a value without a
            # variable.
            edit_file(
                JarLayout(opened.folder).declarations,
                [Edit(("variables", name), declaration(variable)) for name, variable in declare.items()],
            )
        change.commit()
    return change.notes


def _content(step: AdoptStep) -> Content:
    if step.reference is not None:
        return parse_template(step.reference)
    return step.text if step.text is not None else UNSET


def _facts(steps: Iterable[AdoptStep]) -> list[tuple[str, str, str, str, str | None]]:
    return [(step.name, step.stage, step.scope, step.action, step.old) for step in steps]
