"""Read jar.yaml. The JSON Schema (schemas/jar.schema.json) describes the same for editors."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from yaml.nodes import Node, SequenceNode

from coinjar.core.errors import CoinJarError, InputError, Location, raise_all
from coinjar.core.kinds import FORMS, KINDS
from coinjar.core.model import AcceptedFinding, Destination, Jar, Service, Stage, Variable, VariableGroup
from coinjar.core.names import ALL, ServiceName, StageName, VariableName, name_fault, suggestion
from coinjar.core.references import Template
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import compose, is_null, location
from coinjar.jarfile.values import read_value

if TYPE_CHECKING:
    from coinjar.core.code_uses import CodePaths
    from coinjar.core.proofs import Proof

TOP = (
    "coinjar",
    "app",
    "services",
    "stages",
    "sets",
    "variables",
    "together",
    "accepted",
    "destinations",
    "proofs",
    "records",
    "code",
)
VARIABLE = (
    *(
        "about",
        "kind",
        "default",
        "secret",
        "services",
        "stages",
        "required",
        "may_be_empty",
        "phase",
        "only_with",
        "also_as",
        "formerly",
        "place",
        "generate",
    ),
    "supplied",
)
CONSTRAINTS = tuple(sorted({name for kind in KINDS.values() for name in kind.constraints}))
VARIABLE_KEYS = VARIABLE + CONSTRAINTS
STAGE_KEYS = ("about", "follows", "guarded", "hosts")
_RULE = r"CJ\d{3}"
PHASES = ("build", "run", "both")


def read_declarations(data: bytes, file: str) -> Jar:
    """Return the jar of a jar.yaml, without values. Raises every fault at once."""
    fields = FieldReader(file)
    root = compose(data, file)
    if root is None or is_null(root):
        raise InputError("the file is empty", hint="create one with `coinjar new`", location=Location(file), code="jar")
    top = fields.fields(root, "jar.yaml", TOP)
    raise_all(fields.faults if not top else [])
    _read_version(fields, root, top.get("coinjar"))
    app = fields.text(top.get("app"), "app")
    if "app" not in top:
        fields.fault(root, "'app' is missing", "add a line such as app: my-app")
    elif app and (words := name_fault("application", app)):
        fields.fault(top["app"], words, "write it in lower case")
    services = _read_services(fields, top.get("services"))
    sets = _read_sets(fields, top.get("sets"), services)
    jar = Jar(app=app, location=location(root, file), services=services, stages={}, variables={}, sets=sets)
    jar = jar._replace(stages=_read_stages(fields, top.get("stages"), jar))
    jar = jar._replace(variables=_read_variables(fields, top.get("variables"), jar))
    _check_references(fields, jar)
    jar = jar._replace(
        together=_read_together(fields, top.get("together"), jar),
        accepted=_read_accepted(fields, top.get("accepted"), jar),
    )
    if "destinations" in top and not is_null(top["destinations"]):
        jar = jar._replace(destinations=_read_destinations(fields, top["destinations"], jar))
    _check_suppliers(fields, jar)
    if "proofs" in top and not is_null(top["proofs"]):
        jar = jar._replace(proofs=_read_proofs(fields, top["proofs"], jar))
    if "records" in top:
        from coinjar.jarfile.proofs import read_records

        jar = jar._replace(records=read_records(fields, top["records"]))
    if "code" in top and not is_null(top["code"]):
        jar = jar._replace(code=_read_code(fields, top["code"]))
    raise_all(fields.faults)
    return jar


def _check_suppliers(fields: FieldReader, jar: Jar) -> None:
    for variable in jar.variables.values():
        for name in variable.supplied_by:
            if name not in jar.destinations:
                hint = suggestion(name, jar.destinations, "use the name of a destination in jar.yaml")
                fields.faults.append(
                    InputError(
                        f"{variable.name} is supplied by '{name}', which is not a destination",
                        hint=hint,
                        location=variable.location,
                    )
                )


def _read_proofs(fields: FieldReader, node: Node, jar: Jar) -> dict[str, Proof]:
    from coinjar.jarfile.proofs import ProofReader

    def references(template: Template, at: Node, what: str) -> None:
        check_template(fields, jar, template, location(at, fields.file), what)

    reader = ProofReader(fields, jar, lambda node, what: _stages(fields, node, what, jar), references)
    result = {name: reader.read(name, key, value) for name, key, value in _named(fields, node, "proof", "proofs")}
    return {name: proof for name, proof in result.items() if proof is not None}


def _read_destinations(fields: FieldReader, node: Node, jar: Jar) -> dict[str, Destination]:
    from coinjar.jarfile.destinations import read_destinations

    return read_destinations(
        fields,
        node,
        lambda node, what: _services(fields, node, what, jar),
        lambda node, what: _stages(fields, node, what, jar),
    )


def _read_version(fields: FieldReader, root: Node, node: Node | None) -> None:
    if node is None:
        fields.fault(root, "'coinjar' is missing", "add the line coinjar: 1")
    elif fields.text(node, "coinjar") != "1":
        fields.fault(node, "this version does not read this format", "the format is coinjar: 1")


def _named(fields: FieldReader, node: Node | None, what: str, plural: str) -> list[tuple[str, Node, Node]]:
    """Return the members of a section with user-defined names, invalid names omitted."""
    if node is None or is_null(node):
        return []
    result: list[tuple[str, Node, Node]] = []
    for name, key, value in fields.members(node, f"'{plural}'"):
        if words := name_fault(what, name):
            fields.fault(key, words, "choose another name")
        else:
            result.append((name, key, value))
    return result


def _read_services(fields: FieldReader, node: Node | None) -> dict[str, Service]:
    services = {}
    for name, key, value in _named(fields, node, "service", "services"):
        own = {} if is_null(value) else fields.fields(value, f"service '{name}'", ["about", "code"])
        code = _paths(fields, own["code"], f"code of '{name}'") if "code" in own else ()
        services[name] = Service(
            ServiceName(name), location(key, fields.file), fields.text(own.get("about"), "about"), code
        )
    return services


def _paths(fields: FieldReader, node: Node, what: str) -> tuple[str, ...]:
    """Return paths relative to the folder that contains the jar."""
    result = fields.texts(node, what)
    for path, at in result:
        if path.startswith("/") or ".." in path.split("/"):
            fields.fault(
                at,
                f"'{path}' is not inside the folder that contains the jar",
                "write a path relative to the folder that contains the jar",
            )
    return tuple(path for path, _ in result)


def _read_code(fields: FieldReader, node: Node) -> CodePaths:
    from coinjar.core.code_uses import CodePaths

    own = fields.fields(node, "'code'", ("paths", "helpers", "without"))
    paths = _paths(fields, own["paths"], "paths of 'code'") if "paths" in own else ()
    helpers, without = (tuple(text for text, _ in fields.texts(own.get(key), key)) for key in ("helpers", "without"))
    return CodePaths(paths, helpers, without)


def _read_sets(fields: FieldReader, node: Node | None, services: Mapping[str, Service]) -> dict[str, tuple[str, ...]]:
    sets: dict[str, tuple[str, ...]] = {}
    for name, key, value in _named(fields, node, "set", "sets"):
        if name in services:
            fields.fault(key, f"'{name}' is already a service", "give the set a name of its own")
        for member, at in (members := fields.texts(value, f"set '{name}'")):
            if member not in services:
                fields.fault(
                    at,
                    f"there is no service '{member}'",
                    suggestion(member, services, "a set contains services"),
                    "unknown-service",
                )
        sets[name] = tuple(member for member, _ in members)
    return sets


def _services(fields: FieldReader, node: Node | None, what: str, jar: Jar) -> list[str]:
    """Return a list of services, sets or `all`, expanded."""
    known = [ALL, *jar.services, *jar.sets]
    listed = fields.texts(node, what)
    for name, at in listed:
        if name not in known:
            fields.fault(
                at,
                f"there is no service or set '{name}'",
                suggestion(name, known, f"they are {', '.join(known)}"),
                "unknown-service",
            )
    return jar.expand([name for name, _ in listed])


def _read_stages(fields: FieldReader, node: Node | None, jar: Jar) -> dict[str, Stage]:
    stages: dict[str, Stage] = {}
    followed: dict[str, Node] = {}
    for name, key, value in _named(fields, node, "stage", "stages"):
        own = {} if is_null(value) else fields.fields(value, f"stage '{name}'", STAGE_KEYS)
        follows = fields.text(own.get("follows"), "follows") or None
        if "follows" in own:
            followed[name] = own["follows"]
        hosts = {
            host: frozenset(_services(fields, members, f"host '{host}'", jar))
            for host, _, members in (fields.members(own["hosts"], "'hosts'") if "hosts" in own else ())
        }
        guarded, about = fields.flag(own.get("guarded"), "guarded"), fields.text(own.get("about"), "about")
        stages[name] = Stage(
            name=StageName(name),
            location=location(key, fields.file),
            follows=StageName(follows) if follows else None,
            guarded=guarded,
            about=about,
            hosts=hosts,
        )
    for name, at in followed.items():
        stage = stages[name]
        target = stage.follows
        if target and (target not in stages or "*" in target):
            fields.fault(
                at,
                f"there is no stage '{target}' to follow",
                suggestion(target, [stage for stage in stages if "*" not in stage], "follow a declared stage"),
            )
            stages[name] = stage._replace(follows=None)
    _refuse_circles(fields, stages, followed)
    return stages


def _refuse_circles(fields: FieldReader, stages: dict[str, Stage], followed: dict[str, Node]) -> None:
    messages: set[str] = set()
    for start, at in followed.items():
        path = [start]
        while (target := stages[path[-1]].follows) and target not in path:
            path.append(target)
        if target == start and start not in messages:
            messages.update(path)
            fields.fault(
                at,
                f"stages follow each other in a cycle: {' → '.join([*path, start])}",
                "remove `follows` from one of them",
                "circle",
            )


def _read_variables(fields: FieldReader, node: Node | None, jar: Jar) -> dict[str, Variable]:
    variables: dict[str, Variable] = {}
    for name, key, value in _named(fields, node, "variable", "variables"):
        own = {} if is_null(value) else fields.fields(value, f"variable {name}", VARIABLE_KEYS)
        variables[name] = _read_variable(fields, VariableName(name), location(key, fields.file), own, jar)
        for which in ("also_as", "formerly"):
            for other in getattr(variables[name], which):
                if words := name_fault("variable", other):
                    fields.fault(own[which], words, "choose another name")
    for variable in variables.values():
        for which in ("also_as", "formerly"):
            for other in getattr(variable, which):
                if other in variables:
                    message = (
                        f"{variable.name} {'is also_as' if which == 'also_as' else 'was formerly'} {other}, which is "
                        "a variable itself"
                    )
                    fields.faults.append(InputError(message, hint="remove one of them", location=variable.location))
    return variables


def _read_variable(fields: FieldReader, name: VariableName, at: Location, own: dict[str, Node], jar: Jar) -> Variable:
    kind = fields.text(own.get("kind"), "kind", "text")
    if kind not in KINDS:
        fields.fault(
            own["kind"], f"there is no kind '{kind}'", suggestion(kind, KINDS, f"the kinds are {', '.join(KINDS)}")
        )
        kind = "text"
    given = {
        _FIELDS.get(key, key): _read_key(fields, key, node, name, jar)
        for key, node in own.items()
        if key in _READ_BY_NAME
    }
    if "supplied" in own:
        given |= _supplied(fields, own["supplied"], name)
    variable = Variable(name=name, location=at, kind=kind, constraints=_constraints(fields, kind, own), **given)
    if kind == "choice" and "choices" not in own:
        fields.fault(own["kind"], "the kind choice needs its choices", "add choices: [one, another]")
    if variable.phase not in PHASES:
        fields.fault(own["phase"], f"there is no phase '{variable.phase}'", f"the phases are {', '.join(PHASES)}")
    if "default" in own:
        default = read_value(fields, variable, own["default"])
        variable = Variable(
            name=name, location=at, kind=kind, constraints=variable.constraints, default=default, **given
        )
    return variable


_FIELDS = {"place": "nested"}
"""Keys whose field has another name."""
_READ_BY_NAME = frozenset(VARIABLE) - {"kind", "default", "supplied"}


def _read_key(fields: FieldReader, key: str, node: Node, name: str, jar: Jar) -> Any:  # noqa: ANN401, PLR0911 - each key has a type of its own
    """Read one key of a variable, other than its kind, its constraints and its default."""
    if key in ("about", "phase"):
        return fields.text(node, f"{key} of {name}")
    if key in ("secret", "required", "may_be_empty"):
        return fields.flag(node, key)
    if key == "services":
        return frozenset(_services(fields, node, f"services of {name}", jar))
    if key == "stages":
        return _stages(fields, node, f"stages of {name}", jar)
    if key == "only_with":
        return _conditions(fields, node, name)
    if key in ("also_as", "formerly", "place"):
        return tuple(text for text, _ in fields.texts(node, key))
    return _recipe(fields, node)


def _supplied(fields: FieldReader, node: Node, name: str) -> dict[str, Any]:
    """Return the destinations that supply it, and a sample of such a value."""
    own = fields.fields(node, f"supplied of {name}", ("by", "sample"))
    by = tuple(text for text, _ in fields.texts(own.get("by"), f"by of {name}"))
    if not by:
        fields.fault(
            node, f"supplied of {name} does not name a destination (by)", "write {by: [destination], sample: 8080}"
        )
    return {"supplied_by": by, "sample": fields.text(own.get("sample"), f"sample of {name}") or None}


def _constraints(fields: FieldReader, kind: str, own: dict[str, Node]) -> dict[str, object]:
    given = {key: node for key, node in own.items() if key in CONSTRAINTS}
    if not given:
        return {}
    from coinjar.jarfile.constraints import read_constraints

    return read_constraints(fields, kind, given)


def _stages(fields: FieldReader, node: Node, what: str, jar: Jar) -> frozenset[str]:
    names = fields.texts(node, what)
    for name, at in names:
        if name == ALL:
            fields.fault(at, f"'all' is not allowed in {what}", "omit 'stages': then it is on all of them")
        elif name not in jar.stages:
            try:
                jar.stage(name)
            except CoinJarError as fault:
                fields.fault(at, fault.message, fault.hint, fault.code)
    return frozenset(name for name, _ in names)


def _conditions(fields: FieldReader, node: Node, name: str) -> tuple[tuple[str, str | None], ...]:
    result = []
    for text, _ in fields.texts(node, f"only_with of {name}"):
        other, equals, wanted = text.partition("=")
        result.append((other, wanted if equals else None))
    return tuple(result)


def _recipe(fields: FieldReader, node: Node) -> dict[str, object]:
    """Return how a value is generated."""
    own = fields.fields(node, "'generate'", ("length", "alphabet", "form"))
    result: dict[str, object] = {key: fields.text(value, key) for key, value in own.items()}
    if "form" in result and result["form"] not in FORMS:
        hint = suggestion(str(result["form"]), FORMS, f"the forms are {', '.join(FORMS)}")
        fields.fault(own["form"], f"there is no form '{result['form']}'", hint)
    if "length" in result and not re.fullmatch(r"(?a)[1-9]\d{0,5}", str(result["length"])):
        fields.fault(
            own["length"], "a length is a number of at least 1", "it counts characters; for words, it counts words"
        )
    return result


def _check_references(fields: FieldReader, jar: Jar) -> None:
    for variable in jar.variables.values():
        for other, _ in variable.only_with:
            _must_be_declared(fields, jar, other, variable.location, f"only_with of {variable.name}")
        if variable.default:
            check_template(fields, jar, variable.default.content, variable.default.location, variable.name)


def check_template(fields: FieldReader, jar: Jar, content: object, where: Location, owner: str) -> None:
    """Report references to undeclared names."""
    if isinstance(content, Template):
        for reference in content.references():
            _must_be_declared(fields, jar, reference.name, where, f"the value of {owner}")
            if reference.service and reference.service not in jar.services:
                hint = suggestion(reference.service, jar.services, f"the services are {', '.join(jar.services)}")
                fields.faults.append(
                    InputError(
                        f"the value of {owner} names the service '{reference.service}', which is not declared",
                        hint=hint,
                        location=where,
                    )
                )


def _must_be_declared(fields: FieldReader, jar: Jar, name: str, where: Location, what: str) -> None:
    if name not in jar.variables:
        hint = suggestion(name, jar.variables, "declare it, or correct the name")
        fields.faults.append(
            InputError(
                f"{what} names {name}, which is not declared",
                hint=hint,
                location=where,
                code="unknown-variable",
                subject=name,
            )
        )


def _read_together(fields: FieldReader, node: Node | None, jar: Jar) -> tuple[VariableGroup, ...]:
    variable_groups = []
    for name, key, value in _named(fields, node, "group", "together"):
        members = fields.texts(value, f"'{name}'")
        for member, at in members:
            _must_be_declared(fields, jar, member, location(at, fields.file), f"'{name}'")
        known = tuple(VariableName(member) for member, _ in members if member in jar.variables)
        variable_groups.append(VariableGroup(name, known, location(key, fields.file)))
    return tuple(variable_groups)


def _read_accepted(fields: FieldReader, node: Node | None, jar: Jar) -> tuple[AcceptedFinding, ...]:
    if node is None or is_null(node):
        return ()
    if not isinstance(node, SequenceNode):
        fields.fault(node, "'accepted' must be a list", "write - {rule: CJ000, variable: NAME, reason: why}")
        return ()
    accepted = []
    for item in node.value:
        own = fields.fields(item, "an accepted finding", ("rule", "variable", "stage", "service", "reason"))
        rule, reason = fields.text(own.get("rule"), "rule"), fields.text(own.get("reason"), "reason").strip()
        if not re.fullmatch(_RULE, rule):
            fields.fault(own.get("rule", item), "an accepted finding names its rule", "write rule: CJ and three digits")
        if not reason:
            fields.fault(
                own.get("reason", item), "an accepted finding has a reason", "write in a few words why it is acceptable"
            )
        variable = fields.text(own.get("variable"), "variable") or None
        if variable:
            _must_be_declared(fields, jar, variable, location(own["variable"], fields.file), "'accepted'")
        stage, service = (
            fields.text(own.get("stage"), "stage") or None,
            fields.text(own.get("service"), "service") or None,
        )
        accepted.append(
            AcceptedFinding(
                rule=rule,
                reason=reason,
                location=location(item, fields.file),
                variable=variable,
                stage=stage,
                service=service,
            )
        )
    return tuple(accepted)
