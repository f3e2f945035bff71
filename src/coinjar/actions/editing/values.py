"""Set values in a jar, and remove them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.delivery.selection import is_for
from coinjar.actions.editing.value_changes import ValueChanges, edit_file, layer_path, sealed_file
from coinjar.actions.open_jar import OpenJar
from coinjar.core.errors import CoinJarError, InputError, Location, UsageError, raise_all
from coinjar.core.inference import infer
from coinjar.core.kinds import normal
from coinjar.core.layers import Resolver
from coinjar.core.model import Content, Jar, Variable
from coinjar.core.names import ALL, SHARED, VariableName, name_fault, suggestion
from coinjar.core.references import Template
from coinjar.crypto.sealed_file import changed, parse
from coinjar.documents.edit import Edit, apply
from coinjar.documents.tree import build_tree
from coinjar.documents.writer import Plain
from coinjar.documents.yamltext import compose
from coinjar.jarfile.journal import replace_all
from coinjar.jarfile.load import load_declarations, read_bytes, value_layers
from coinjar.system.files import LOCAL, display_path, locked, read_own


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
) -> PutResult:
    """Set values in the layers of these stages (`shared` is one), for one service or all; secrets are encrypted.

    All is checked first; nothing is written if anything is wrong. Raises UsageError for a secret given in argv and for
    an undeclared name, InputError for a value that its kind or its place does not accept, DecryptionError for a stage
    whose key is not ours.
    """
    folder = opened.folder
    with locked(folder), _declared_first(opened, puttings if declare else ()) as (known, first):
        new = _declared(known, puttings) if declare else {}
        jar = known._replace(variables={**known.variables, **new})
        _check(jar, puttings, stages, services, mine)
        for stage in stages if mine else ():
            opened.load([stage], mine=stage)  # a file that cannot be read is not edited either
        scopes = list(services) or [ALL]
        change = ValueChanges(opened, jar)
        for stage in stages:
            for assignment in puttings:
                for scope in scopes:
                    change.put(stage, scope, assignment.name, assignment.content, mine=mine)
        if new:
            edit_file(
                folder / "jar.yaml",
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
def _declared_first(opened: OpenJar, puttings: Sequence[Assignment]) -> Iterator[tuple[Jar, set[str]]]:
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
    path = opened.folder / "jar.yaml"
    old = read_bytes(path)
    bare = Jar(app="", location=Location(display_path(path)), services={}, stages={}, variables={})
    new = {
        name: declaration(variable)
        for name, variable in _declared(
            bare, [assignment for assignment in puttings if assignment.name in missing]
        ).items()
    }
    edit_file(path, [Edit(("variables", name), fields) for name, fields in new.items()])
    try:
        yield opened.load(), missing
    except BaseException:
        replace_all(opened.folder, {path: (read_bytes(path), old)})
        raise


def _declared(jar: Jar, puttings: Sequence[Assignment]) -> dict[str, Variable]:
    """Return declarations for undeclared names, inferred from the first value."""
    new = {}
    for assignment in puttings:
        if assignment.name not in jar.variables:
            if words := name_fault("variable", assignment.name):
                raise UsageError(words, hint="choose another name", code="name")
            if owner := jar.current_owner(assignment.name):
                words = f"{assignment.name} is a former name of {owner.name}, so another variable cannot have it"
                raise UsageError(
                    words,
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
                name=VariableName(assignment.name), location=jar.location, kind=inference.kind, secret=inference.secret
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
            hint = suggestion(assignment.name, jar.variables, "add --declare to declare it")
            faults.append(
                UsageError(
                    f"{assignment.name} is not declared",
                    hint=f"{hint} (--declare declares a new one)",
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
        faults += _misfits(jar, variable, assignment, stages, services)
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
            words = f"{variable.name} is supplied by {name} on {', '.join(there)}"
            yield UsageError(
                words,
                hint="`coinjar deliver` reads it from there; set it on a stage where nothing supplies it",
                code="supplied",
            )


def _misfits(
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
    file = display_path(sealed_file(folder, stage) if is_sealed else layer_path(folder, stage, mine=mine))
    compartments = tuple(variable.scopes_for(scope)) if is_sealed else ()
    beaten: list[str] = []
    if stage != SHARED and not mine:
        resolver = Resolver(jar, stage)
        here = [jar.plain[stage][compartment][name] for compartment in compartments or [scope]]
        asked = [scope] if scope != ALL else resolver.services_of(variable)
        beaten = [
            other_name
            for other_name in asked
            if not any(resolver.winner(name, other_name) is definition for definition in here)
        ]
    was_plain = change.was_plain.get((stage, name))
    return AssignedValue(name, stage, scope, file, variable.secret, declared, tuple(beaten), compartments, was_plain)


class DroppedValue(NamedTuple):
    """One value that was removed."""

    name: str
    layer: str
    scope: str
    is_sealed: bool = False
    is_mine: bool = False


def drop(
    opened: OpenJar, names: Sequence[str], stages: Sequence[str], *, services: Sequence[str], mine: bool
) -> list[DroppedValue]:
    """Remove values from the layers of these stages. Return what was removed."""
    with locked(opened.folder):
        jar = opened.load()
        for name in names:
            jar.variable(name)
        for service in services:
            jar.service(service)
        change = ValueChanges(opened, jar)
        gone = []
        for stage in stages:
            if stage != SHARED:
                jar.stage(stage)
            own = opened.load([stage], mine=stage).mine if mine else jar.plain
            for name in names:
                scopes = services or (
                    [ALL, *jar.variables[name].scopes_for(ALL)] if jar.variables[name].secret and not mine else [ALL]
                )
                for scope in dict.fromkeys(scopes):
                    if name in own.get(stage, {}).get(scope, {}):
                        change.drop(stage, scope, name, mine=mine)
                        gone.append(DroppedValue(name, stage, scope))
        change.commit()
    return gone


def where_set(opened: OpenJar, names: Sequence[str]) -> list[DroppedValue]:
    """Return every value of the names, declared or not, in the jar's files: plain, encrypted, and a person's own
    (`.local`).

    Raises UsageError for a name that is neither declared nor set, InputError for a file that cannot be read, and if
    anything still refers to one.
    """
    jar = load_declarations(opened.folder)
    found = list(_set_in(opened.folder, names, _old_names(jar, names)))
    for name in names:
        if not any(dropped.name == name for dropped in found):
            jar.variable(name)
    whole = _other_faults(opened, names)
    raise_all([fault for name in names for fault in _still_named(jar if whole is None else whole, name, names)])
    return found


def drop_everywhere(opened: OpenJar, names: Sequence[str]) -> list[DroppedValue]:
    """Remove whole variables: every value, then the declaration.

    Raises InputError, with nothing changed, if anything still refers to one.

    This also removes a name with values and without a declaration, which makes a jar invalid.
    """
    folder = opened.folder
    with locked(folder):
        gone = where_set(opened, names)
        declared = load_declarations(folder)
        files = {
            path: (old, apply(old, display_path(path), edits))
            for path, edits in _removals(folder, declared, gone, names)
            for old in [read_bytes(path)]
        }
        for layer in dict.fromkeys(dropped.layer for dropped in gone if dropped.is_sealed):
            path = sealed_file(folder, layer)
            old = read_own(path) or b""
            going = {*names, *_old_names(declared, names)}
            lines = {entry.slot: None for entry in parse(old, display_path(path)) if entry.name in going}
            files[path] = (old, changed(old, display_path(path), lines))  # no key is needed for that
        replace_all(folder, files)
        try:
            opened.load()
        except CoinJarError:
            replace_all(folder, {path: (new, old) for path, (old, new) in files.items()})
            raise
    return gone


def _other_faults(opened: OpenJar, names: Sequence[str]) -> Jar | None:
    """Return the jar with its values, to look for references; None if only the names to remove make it invalid.

    Raises every other fault.
    """
    try:
        return opened.load()
    except CoinJarError as fault:
        raise_all([error for error in fault.each() if error.code != "unknown-variable" or error.subject not in names])
        return None


def _removals(
    folder: Path, declared: Jar, gone: Sequence[DroppedValue], names: Sequence[str]
) -> Iterator[tuple[Path, list[Edit]]]:
    """Return what to remove from which YAML file."""
    for path in dict.fromkeys(
        layer_path(folder, dropped.layer, mine=dropped.is_mine) for dropped in gone if not dropped.is_sealed
    ):
        mine = [
            dropped
            for dropped in gone
            if not dropped.is_sealed and layer_path(folder, dropped.layer, mine=dropped.is_mine) == path
        ]
        yield path, [Edit((dropped.scope, dropped.name), None) for dropped in mine]
    if edits := [Edit(("variables", name), None) for name in names if name in declared.variables]:
        yield folder / "jar.yaml", edits


def _old_names(jar: Jar, names: Sequence[str]) -> dict[str, str]:
    """Return names under which values of these may still be encrypted, each with its present name."""
    return {old: name for name in names if name in jar.variables for old in jar.variables[name].formerly}


def _set_in(folder: Path, names: Sequence[str], former: Mapping[str, str]) -> Iterator[DroppedValue]:
    for path in [*sorted((folder / "plain").glob("*.yaml")), *sorted((folder / LOCAL).glob("*.yaml"))]:
        data = read_bytes(path)
        compose(data, display_path(path))  # the same limits as for every file that is read
        root = build_tree(data.decode().removeprefix("\ufeff"))
        for scope in root.members if root is not None else ():
            yield from (
                DroppedValue(member.name, path.stem, scope.name, is_mine=path.parent.name == LOCAL)
                for member in scope.value.members
                if member.name in names
            )
    for layer in value_layers(folder):
        path = sealed_file(folder, layer)
        if (lines := read_own(path)) is not None:
            for entry in parse(lines, display_path(path)):
                if entry.name in names or entry.name in former:
                    yield DroppedValue(former.get(entry.name, entry.name), layer, entry.compartment, is_sealed=True)


def _still_named(jar: Jar, name: str, leaving: Sequence[str]) -> list[CoinJarError]:
    """Return what else refers to a variable that is to be removed."""
    places = [(group.location, f"the set '{group.name}'") for group in jar.together if name in group.members]
    places += [(accepted.location, "an accepted finding") for accepted in jar.accepted if accepted.variable == name]
    places += [(proof.location, f"the proof {proof.name}") for proof in jar.proofs.values() if name in proof.names()]
    for variable in jar.variables.values():
        if variable.name in leaving:
            continue
        if any(other == name for other, _ in variable.only_with):
            places.append((variable.location, f"only_with of {variable.name}"))
        definitions = [variable.default] if variable.default else []
        definitions += [
            values[variable.name]
            for scopes in jar.plain.values()
            for values in scopes.values()
            if variable.name in values
        ]
        for definition in definitions:
            if isinstance(definition.content, Template) and any(
                reference.name == name for reference in definition.content.references()
            ):
                places.append((definition.location, f"the value of {variable.name}"))
    return [
        InputError(f"{what} still refers to {name}", hint="change that first", location=location, code="still-named")
        for location, what in places
    ]
