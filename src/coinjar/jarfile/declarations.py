"""Read jar.yaml. The JSON Schema (schemas/jar.schema.json) describes the same for editors."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Mapping
from typing import TYPE_CHECKING

from yaml.nodes import Node, SequenceNode

from coinjar.core.errors import CoinJarError, InputError, Location, raise_all
from coinjar.core.model import AcceptedFinding, Destination, Jar, Service, VariableGroup
from coinjar.core.names import ServiceName, VariableName, name_fault, suggestion
from coinjar.core.references import Template
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import compose, is_null, location
from coinjar.jarfile.sections import former_names, named, refuse_taken, services_of, stages
from coinjar.jarfile.simple_lines import SimpleVariables
from coinjar.jarfile.stages import read_stages
from coinjar.jarfile.variables import read_variables

if TYPE_CHECKING:
    from coinjar.core.code_uses import CodePaths
    from coinjar.core.proofs import Proof

TOP = (
    "coinjar",
    "app",
    "formerly",
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
_RULE = r"CJ\d{3}"


def read_declarations(data: bytes, file: str) -> Jar:
    """Return the jar of a jar.yaml, without values. Raises every fault at once."""
    simple = SimpleVariables(data)
    if simple.are_left:
        with contextlib.suppress(CoinJarError):  # raised by the whole file
            return _read(simple.rest, file, simple)
    return _read(data, file, None)


def _read(data: bytes, file: str, simple: SimpleVariables | None) -> Jar:
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
    elif app and (message := name_fault("application", app)):
        fields.fault(top["app"], message, "write it in lower case")
    services = _read_services(fields, top.get("services"))
    sets = _read_sets(fields, top.get("sets"), services)
    former = former_names(fields, top.get("formerly"), "application", app)
    jar = Jar(
        app=app,
        location=location(root, file),
        formerly=former,
        services=services,
        stages={},
        variables={},
        sets=sets,
    )
    jar = jar._replace(stages=read_stages(fields, top.get("stages"), jar))
    jar = jar._replace(variables=read_variables(fields, top.get("variables"), jar, simple))
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
    if any(variable.rotation or variable.valid_days for variable in jar.variables.values()):
        from coinjar.jarfile.rotation import check_rotations

        check_rotations(fields, jar)
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

    reader = ProofReader(fields, jar, lambda node, what: stages(fields, node, what, jar), references)
    result = {name: reader.read(name, key, value) for name, key, value in named(fields, node, "proof", "proofs")}
    return {name: proof for name, proof in result.items() if proof is not None}


def _read_destinations(fields: FieldReader, node: Node, jar: Jar) -> dict[str, Destination]:
    from coinjar.jarfile.destinations import read_destinations

    return read_destinations(
        fields,
        node,
        lambda node, what: services_of(fields, node, what, jar),
        lambda node, what: stages(fields, node, what, jar),
    )


def _read_version(fields: FieldReader, root: Node, node: Node | None) -> None:
    if node is None:
        fields.fault(root, "'coinjar' is missing", "add the line coinjar: 1")
    elif fields.text(node, "coinjar") != "1":
        fields.fault(node, "this version does not read this format", "the format is coinjar: 1")


def _read_services(fields: FieldReader, node: Node | None) -> dict[str, Service]:
    services = {}
    for name, key, value in named(fields, node, "service", "services"):
        own = {} if is_null(value) else fields.fields(value, f"service '{name}'", ["about", "code", "formerly"])
        code = _paths(fields, own["code"], f"code of '{name}'") if "code" in own else ()
        about, former = (
            fields.text(own.get("about"), "about"),
            former_names(fields, own.get("formerly"), "service", name),
        )
        services[name] = Service(
            name=ServiceName(name), location=location(key, fields.file), about=about, code=code, formerly=former
        )
    refuse_taken(fields, "service", {name: service.formerly for name, service in services.items()}, node)
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
    for name, key, value in named(fields, node, "set", "sets"):
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


def _check_references(fields: FieldReader, jar: Jar) -> None:
    for variable in jar.variables.values():
        for other, _ in variable.only_with:
            _must_be_declared(fields, jar, other, variable.location, f"only_with of {variable.name}")
        if variable.default and isinstance(variable.default.content, Template):
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
    for name, key, value in named(fields, node, "group", "together"):
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
