"""Set values in a jar, and remove them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.delivery.selection import is_for
from coinjar.actions.editing.value_changes import ValueChanges, edit_file, layer_path
from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import Content
from coinjar.core.errors import CoinJarError, InputError, Location, UsageError, raise_all
from coinjar.core.inference import infer
from coinjar.core.kinds import normal
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar, Variable
from coinjar.core.names import ALL, SHARED, VariableName, name_fault, suggestion
from coinjar.core.references import Template
from coinjar.documents.edit import Edit
from coinjar.documents.writer import Plain
from coinjar.jarfile.journal import replace_all
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes
from coinjar.jarfile.local_folder import locked
from coinjar.system.files import display_path


class Assignment(NamedTuple):
    """One value to set. `in_argv`: others could see it on the command line."""

    name: str
    content: Content
    in_argv: bool = True


class AssignedValue(NamedTuple):
    """One value that was set: where, and the services for which another one still takes effect.

    `sealed` names the scopes of an encrypted one, `was_plain` the file that had it as plain text before.
    """

    name: str
    stage: str
    scope: str
    file: str
    secret: bool
    declared: bool
    beaten_for: tuple[str, ...]
    sealed: tuple[str, ...] = ()
    was_plain: str | None = None


class OnlyChecked(Exception):
    """Everything could be set; nothing was."""


class PutResult(NamedTuple):
    """The values that were set, and remarks on keys that were created."""

    puts: list[AssignedValue]
    notes: list[str]


def put(
    opened: OpenJar,
    puttings: Sequence[Assignment],
    stages: Sequence[str],
    *,
    services: Sequence[str],
    declare: bool,
    mine: bool,
    as_secret: bool = False,
    set_on: str | None = None,
    only_checks: bool = False,
) -> PutResult:
    """Set values in the layers of these stages (`shared` is one), for one service or all; secrets are encrypted.

    `as_secret`: what is declared is a secret, whatever its name. `set_on`: since when secrets have these values.

    All is checked first; nothing is written if anything
    is wrong. Raises UsageError for a secret given in argv and for an undeclared name, InputError for a value that its
    kind or its place does not accept, DecryptionError for a stage whose key is not ours.
    """
    folder = opened.folder
    with (
        locked(folder, "put"),
        _declared_first(opened, puttings if declare else (), as_secret=as_secret) as (
            known,
            first,
        ),
    ):
        new = _declared(known, puttings, as_secret=as_secret) if declare else {}
        if as_secret:
            _refuse_plain(known, puttings)
        jar = known._replace(variables={**known.variables, **new})
        _check(jar, puttings, stages, services, mine)
        plain = [assignment.name for assignment in puttings if not jar.variables[assignment.name].secret]
        if set_on is not None and (mine or plain):
            what = "your own values have" if mine else f"{', '.join(plain)}, which is not a secret, has"
            raise UsageError(f"{what} no date", hint="omit --set-on", code="date")
        if only_checks:
            raise OnlyChecked
        for stage in stages if mine else ():
            opened.load([stage], mine=stage)  # a file that cannot be read is not edited either
        scopes = list(services) or [ALL]
        change = ValueChanges(opened, jar)
        for stage in stages:
            for assignment in puttings:
                for scope in scopes:
                    change.put(stage, scope, assignment.name, assignment.content, mine=mine, set_on=set_on)
        if new:
            edit_file(
                JarLayout(folder).declarations,
                [Edit(("variables", name), declaration(variable)) for name, variable in new.items()],
            )
        change.commit()
    after = opened.load()
    where = [(stage, assignment.name, scope) for stage in stages for assignment in puttings for scope in scopes]
    done = [
        _outcome(folder, after, change, name, stage, scope, name in new or name in first, mine=mine)
        for stage, name, scope in where
    ]
    return PutResult(done, change.notes)


@contextmanager
def _declared_first(
    opened: OpenJar, puttings: Sequence[Assignment], *, as_secret: bool
) -> Iterator[tuple[Jar, set[str]]]:
    """Return the jar, and the names that had to be declared before it could be loaded, because it already refers to
    them.

    After a fault jar.yaml is unchanged. Raises every fault that such a declaration does not repair.
    """
    names = {assignment.name for assignment in puttings}
    try:
        jar = opened.load()
    except CoinJarError as fault:
        raise_all([error for error in fault.each() if error.code != "unknown-variable" or error.subject not in names])
        missing = {error.subject for error in fault.each()}
    else:
        yield jar, set()
        return
    path = JarLayout(opened.folder).declarations
    old = read_bytes(path)
    bare = Jar(app="", location=Location(display_path(path)), services={}, stages={}, variables={})
    new = {
        name: declaration(variable)
        for name, variable in _declared(
            bare, [assignment for assignment in puttings if assignment.name in missing], as_secret=as_secret
        ).items()
    }
    edit_file(path, [Edit(("variables", name), fields) for name, fields in new.items()])
    try:
        yield opened.load(), missing
    except BaseException:
        replace_all(opened.folder, {path: (read_bytes(path), old)})
        raise


def _refuse_plain(jar: Jar, puttings: Sequence[Assignment]) -> None:
    """Refuse to set as secrets what is declared as plain. Raises UsageError."""
    for assignment in puttings:
        variable = jar.variables.get(assignment.name)
        if variable is not None and not variable.secret:
            hint = "write secret: true there, then set it again"
            message = f"{variable.name} is declared, and not as a secret"
            raise UsageError(message, hint=hint, location=variable.location, code="not-secret")


def _declared(jar: Jar, puttings: Sequence[Assignment], *, as_secret: bool) -> dict[str, Variable]:
    """Return declarations for undeclared names, inferred from the first value; `as_secret`: as secrets."""
    new = {}
    for assignment in puttings:
        if assignment.name not in jar.variables:
            if message := name_fault("variable", assignment.name):
                raise UsageError(message, hint="choose another name", code="name")
            if owner := jar.current_owner(assignment.name):
                message = f"{assignment.name} is a former name of {owner.name}, so another variable cannot have it"
                raise UsageError(
                    message,
                    hint=f"`coinjar rename --finish {assignment.name}`, or set {owner.name}",
                    location=owner.location,
                    code="name",
                )
            text = (
                assignment.content.source
                if isinstance(assignment.content, Template)
                else assignment.content
                if isinstance(assignment.content, str)
                else ""
            )
            inference = infer(assignment.name, text)
            new[assignment.name] = Variable(
                name=VariableName(assignment.name),
                location=jar.location,
                kind=inference.kind,
                secret=as_secret or inference.secret,
            )
    return new


def declaration(variable: Variable) -> dict[str, Plain]:
    """Return a declaration in the form of jar.yaml."""
    fields: dict[str, Plain] = {}
    if variable.about:
        fields["about"] = variable.about
    if variable.kind != "text":
        fields["kind"] = variable.kind
    if variable.secret:
        fields["secret"] = "true"  # noqa: S105 - the key of a declaration, not a secret
    if variable.services is not None:
        fields["services"] = [*sorted(variable.services)]
    if variable.phase != "run":
        fields["phase"] = variable.phase
    return fields


def _check(
    jar: Jar, puttings: Sequence[Assignment], stages: Sequence[str], services: Sequence[str], mine: bool
) -> None:
    faults: list[CoinJarError] = []
    for service in services:
        jar.service(service)
    for stage in stages:
        if stage != SHARED:
            jar.stage(stage)
        elif mine:
            raise UsageError("your own values belong to one stage", hint="name a stage other than shared", code="usage")
    for assignment in puttings:
        if assignment.name not in jar.variables:
            near = suggestion(assignment.name, jar.variables, "")
            hint = f"{near} --declare declares a new one" if near else "add --declare to declare it"
            faults.append(
                UsageError(
                    f"{assignment.name} is not declared",
                    hint=hint,
                    code="unknown-variable",
                )
            )
            continue
        variable = jar.variables[assignment.name]
        if variable.secret and assignment.in_argv and _holds_text(assignment.content):
            hint = f"give only the name: `coinjar put {assignment.name} …` asks for the value, or reads it from stdin"
            faults.append(
                UsageError(
                    f"{assignment.name} is a secret, and is not read from the command line, where others can see it",
                    hint=hint,
                    code="secret-in-argv",
                )
            )
        faults += misfits(jar, variable, assignment, stages, services)
    raise_all(faults)


def _holds_text(content: Content) -> bool:
    """Return whether a content is a value itself, and not only computed from others."""
    return isinstance(content, str) or (isinstance(content, Template) and not any(content.references()))


def _supplied(jar: Jar, variable: Variable, stages: Sequence[str], services: Sequence[str]) -> Iterator[CoinJarError]:
    """Return why a value must not be set by hand: a destination of that stage supplies it."""
    for name in variable.supplied_by:
        destination = jar.destinations[name]
        there = [stage for stage in stages if stage != SHARED and is_for(jar, destination, stage)]
        if there and (not services or destination.services is None or not destination.services.isdisjoint(services)):
            message = f"{variable.name} is supplied by {name} on {', '.join(there)}"
            yield UsageError(
                message,
                hint="`coinjar deliver` reads it from there; set it on a stage where nothing supplies it",
                code="supplied",
            )


def misfits(
    jar: Jar, variable: Variable, assignment: Assignment, stages: Sequence[str], services: Sequence[str]
) -> list[CoinJarError]:
    """Return why the value cannot be set there."""
    faults: list[CoinJarError] = list(_supplied(jar, variable, stages, services))
    if isinstance(assignment.content, str):
        try:
            normal(variable, assignment.content)
        except CoinJarError as fault:
            faults.append(fault)
        if variable.is_missing(assignment.content):
            hint = "set a value, or declare may_be_empty: true"
            faults.append(
                InputError(
                    f"{variable.name} is required, and an empty text is not a value for it",
                    hint=hint,
                    location=variable.location,
                    code="CJ001",
                )
            )
    elif isinstance(assignment.content, Template):
        for reference in assignment.content.references():
            if reference.name not in jar.variables:
                hint = suggestion(reference.name, jar.variables, "declare it first")
                faults.append(
                    InputError(
                        f"the text refers to {reference.name}, which is not declared",
                        hint=hint,
                        code="unknown-variable",
                    )
                )
    elif variable.kind == "json":
        faults.append(
            InputError(
                f"{variable.name} cannot be unset: for kind json, {{unset: true}} is data",
                hint="remove the value with `coinjar drop`",
                code="put",
            )
        )
    return [*faults, *_out_of_place(jar, variable, stages, services)]


def _out_of_place(
    jar: Jar, variable: Variable, stages: Sequence[str], services: Sequence[str]
) -> Iterator[CoinJarError]:
    for service in services:
        if not variable.applies_to(service):
            hint = f"its services are {', '.join(sorted(variable.services or ()))}"
            yield InputError(
                f"{variable.name} is not for {service}", hint=hint, location=variable.location, code="CJ002"
            )
    for stage in stages:
        if stage != SHARED and not jar.exists_on(variable, jar.chain(stage)):
            hint = f"its stages are {', '.join(sorted(variable.stages or ()))}, and those that follow them"
            yield InputError(
                f"{variable.name} does not exist on {stage}", hint=hint, location=variable.location, code="CJ002"
            )


def _outcome(
    folder: Path, jar: Jar, change: ValueChanges, name: str, stage: str, scope: str, declared: bool, *, mine: bool
) -> AssignedValue:
    variable = jar.variables[name]
    is_sealed = variable.secret and not mine
    file = display_path(JarLayout(folder).sealed(stage) if is_sealed else layer_path(folder, stage, mine=mine))
    encrypted_for = tuple(variable.scopes_for(scope)) if is_sealed else ()
    beaten: list[str] = []
    if stage != SHARED and not mine:
        resolver = Resolver(jar, stage)
        here = [jar.plain[stage][part][name] for part in encrypted_for or [scope]]
        asked = [scope] if scope != ALL else resolver.services_of(variable)
        beaten = [
            other_name
            for other_name in asked
            if not any(resolver.winner(name, other_name) is definition for definition in here)
        ]
    was_plain = change.was_plain.get((stage, name))
    return AssignedValue(name, stage, scope, file, variable.secret, declared, tuple(beaten), encrypted_for, was_plain)
