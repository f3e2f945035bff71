"""Put values into a jar, and take them out."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from coinjar.core.errors import CoinJarError, InputError, UsageError, raise_all
from coinjar.core.guess import guess
from coinjar.core.kinds import normal
from coinjar.core.layers import Resolver
from coinjar.core.model import UNSET, Content, Jar, Variable
from coinjar.core.names import ALL, SHARED, VariableName, name_fault, suggestion
from coinjar.core.references import Template
from coinjar.documents.edit import Edit, apply
from coinjar.documents.writing import Plain
from coinjar.jarfile.load import load, mine_path, plain_path, read_bytes, shown_path
from coinjar.jarfile.store import locked, replace_file


class Putting(NamedTuple):
    """One value to put. `in_argv` says that others could see it on the command line."""

    name: str
    content: Content
    in_argv: bool = True


class Put(NamedTuple):
    """One value that was put: where, and the services for which another one still wins."""

    name: str
    stage: str
    scope: str
    file: str
    secret: bool
    declared: bool
    beaten_for: tuple[str, ...]


def as_yaml(content: Content) -> Plain:
    """A value as it is written in YAML."""
    if isinstance(content, str):
        return content
    if isinstance(content, Template):
        return {"text": content.source}
    assert content is UNSET, "commands, files and environments are written by hand"
    return {"unset": "true"}


def layer_path(folder: Path, stage: str, *, mine: bool) -> Path:
    """The file that holds a layer's values."""
    return mine_path(folder, stage) if mine else plain_path(folder, stage)


def put(folder: Path, puttings: Sequence[Putting], stages: Sequence[str], *, service: str | None, declare: bool, mine: bool) -> list[Put]:
    """Write values into the layers of these stages (`shared` is one), for one service or all.

    All of it is checked first; nothing is written if anything is wrong. Raises UsageError for a secret that
    came by argv and for an undeclared name, InputError for a value that its kind or its place refuses.
    """
    with locked(folder):
        jar = load(folder, None)
        new = _declared(jar, puttings) if declare else {}
        jar = jar._replace(variables={**jar.variables, **new})
        _check(jar, puttings, stages, service, mine)
        for stage in stages if mine else ():
            load(folder, [stage], mine=stage)  # a file that cannot be read is not edited either
        if new:
            edit_file(folder / "jar.yaml", [Edit(("variables", name), declaration(variable)) for name, variable in new.items()])
        scope = service or ALL
        for stage in stages:
            edit_file(layer_path(folder, stage, mine=mine), [Edit((scope, one.name), as_yaml(one.content)) for one in puttings])
    after = load(folder, None)
    return [_outcome(folder, after, one.name, stage, service, one.name in new, mine=mine) for stage in stages for one in puttings]


def _declared(jar: Jar, puttings: Sequence[Putting]) -> dict[str, Variable]:
    """Declarations for the names that have none, guessed from the first value."""
    new = {}
    for one in puttings:
        if one.name not in jar.variables:
            if words := name_fault("variable", one.name):
                raise UsageError(words, hint="choose another name", code="name")
            found = guess(one.name, one.content if isinstance(one.content, str) else "")
            new[one.name] = Variable(VariableName(one.name), jar.place, kind=found.kind, secret=found.secret)
    return new


def declaration(variable: Variable) -> dict[str, Plain]:
    """A declaration as it is written in jar.yaml."""
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


def _check(jar: Jar, puttings: Sequence[Putting], stages: Sequence[str], service: str | None, mine: bool) -> None:
    faults: list[CoinJarError] = []
    if service is not None:
        jar.service(service)
    for stage in stages:
        if stage != SHARED:
            jar.stage(stage)
        elif mine:
            raise UsageError("your own values belong to one stage", hint="name a stage other than shared", code="usage")
    for one in puttings:
        if one.name not in jar.variables:
            hint = suggestion(one.name, jar.variables, "add --declare to declare it")
            faults.append(UsageError(f"{one.name} is not declared", hint=f"{hint} (--declare makes a new one)", code="unknown-variable"))
            continue
        variable = jar.variables[one.name]
        if variable.secret and one.in_argv and _holds_text(one.content):
            hint = f"give the name alone: `coinjar put {one.name} …` asks for it without echo, or reads it from stdin"
            faults.append(
                UsageError(f"{one.name} is a secret, and is never taken from the command line, where others see it", hint=hint, code="secret-in-argv")
            )
        faults += _misfits(jar, variable, one, stages, service)
    raise_all(faults)


def _holds_text(content: Content) -> bool:
    """Whether a content is itself the value, and not only made from others."""
    return isinstance(content, str) or (isinstance(content, Template) and not any(content.references()))


def _misfits(jar: Jar, variable: Variable, one: Putting, stages: Sequence[str], service: str | None) -> list[CoinJarError]:
    """Why the value cannot stand where it is put."""
    faults: list[CoinJarError] = []
    if isinstance(one.content, str):
        try:
            normal(variable, one.content)
        except CoinJarError as fault:
            faults.append(fault)
    elif isinstance(one.content, Template):
        for reference in one.content.references():
            if reference.name not in jar.variables:
                hint = suggestion(reference.name, jar.variables, "declare it first")
                faults.append(InputError(f"the text names {reference.name}, which is not declared", hint=hint, code="unknown-variable"))
    elif variable.kind == "json":
        faults.append(
            InputError(f"{variable.name} cannot be unset: below kind json, {{unset: true}} is data", hint="remove the value with `coinjar drop`", code="put")
        )
    if service and not variable.serves(service):
        faults.append(
            InputError(
                f"{variable.name} is not for {service}",
                hint=f"its services are {', '.join(sorted(variable.services or ()))}",
                place=variable.place,
                code="CJ002",
            )
        )
    for stage in stages:
        if stage != SHARED and not jar.is_here(variable, jar.chain(stage)):
            hint = f"its stages are {', '.join(sorted(variable.stages or ()))}, and those that follow them"
            faults.append(InputError(f"{variable.name} does not exist on {stage}", hint=hint, place=variable.place, code="CJ002"))
    return faults


def edit_file(path: Path, edits: Sequence[Edit]) -> None:
    """Change a file of the jar in place; the lock must be held. A file that is not there is made."""
    old = read_bytes(path) if path.exists() else b""
    new = apply(old, shown_path(path), edits)
    if new != old:
        replace_file(path, new)


def _outcome(folder: Path, jar: Jar, name: str, stage: str, service: str | None, declared: bool, *, mine: bool) -> Put:
    variable = jar.variables[name]
    file = shown_path(layer_path(folder, stage, mine=mine))
    beaten: list[str] = []
    if stage != SHARED and not mine:
        resolver = Resolver(jar, stage)
        written = jar.plain[stage][service or ALL][name]
        asked = [service] if service else resolver.services_of(variable)
        beaten = [one for one in asked if resolver.winner(name, one) is not written]
    return Put(name, stage, service or ALL, file, variable.secret, declared, tuple(beaten))


class Dropped(NamedTuple):
    """One value that was taken out."""

    name: str
    layer: str
    scope: str


def drop(folder: Path, names: Sequence[str], stages: Sequence[str], *, service: str | None, mine: bool) -> list[Dropped]:
    """Take values out of the layers of these stages. What is not there is not in the answer."""
    with locked(folder):
        jar = load(folder, None)
        for name in names:
            jar.variable(name)
        if service:
            jar.service(service)
        gone = []
        for stage in stages:
            if stage != SHARED:
                jar.stage(stage)
            own = load(folder, [stage], mine=stage).mine if mine else jar.plain
            scope = service or ALL
            here = [Dropped(name, stage, scope) for name in names if name in own.get(stage, {}).get(scope, {})]
            if here:
                edit_file(layer_path(folder, stage, mine=mine), [Edit((scope, one.name), None) for one in here])
            gone += here
    return gone


def drop_everywhere(folder: Path, names: Sequence[str]) -> list[Dropped]:
    """Take out the variables themselves: every value, then the declaration. Raises InputError if anything still names one."""
    with locked(folder):
        jar = load(folder, None)
        for name in names:
            jar.variable(name)
        raise_all([fault for name in names for fault in _still_named(jar, name, names)])
        gone = [Dropped(name, layer, scope) for layer, scopes in jar.plain.items() for scope, values in scopes.items() for name in names if name in values]
        for layer in jar.plain:
            if edits := [Edit((one.scope, one.name), None) for one in gone if one.layer == layer]:
                edit_file(plain_path(folder, layer), edits)
        edit_file(folder / "jar.yaml", [Edit(("variables", name), None) for name in names])
    return gone


def _still_named(jar: Jar, name: str, leaving: Sequence[str]) -> list[CoinJarError]:
    """Who else names a variable that is to go."""
    places = [(group.place, f"the set '{group.name}'") for group in jar.together if name in group.members]
    places += [(one.place, "an accepted finding") for one in jar.accepted if one.variable == name]
    for variable in jar.variables.values():
        if variable.name in leaving:
            continue
        if any(other == name for other, _ in variable.only_with):
            places.append((variable.place, f"only_with of {variable.name}"))
        written = [variable.default] if variable.default else []
        written += [values[variable.name] for scopes in jar.plain.values() for values in scopes.values() if variable.name in values]
        for one in written:
            if isinstance(one.content, Template) and any(reference.name == name for reference in one.content.references()):
                places.append((one.place, f"the value of {variable.name}"))
    return [InputError(f"{what} still names {name}", hint="change that first", place=place, code="still-named") for place, what in places]
