"""Read `variables:` of jar.yaml."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from yaml.nodes import Node

from coinjar.core.errors import InputError, Location
from coinjar.core.kinds import FORMS, KINDS
from coinjar.core.model import Jar, Variable
from coinjar.core.names import VariableName, name_fault, suggestion
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import is_null, location
from coinjar.jarfile.sections import named, services_of, stages
from coinjar.jarfile.simple_lines import SimpleVariables
from coinjar.jarfile.values import read_value

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
        "per_stage",
        "valid",
        "rotate",
    ),
    "supplied",
)


CONSTRAINTS = tuple(sorted({name for kind in KINDS.values() for name in kind.constraints}))


VARIABLE_KEYS = VARIABLE + CONSTRAINTS


PHASES = ("build", "run", "both")


def read_variables(
    fields: FieldReader, node: Node | None, jar: Jar, simple: SimpleVariables | None
) -> dict[str, Variable]:
    """Return the variables by name. Raises InputError if the `simple` ones are not all of them variables to YAML, each
    under its own name.
    """
    variables: dict[str, Variable] = {}
    read = 0
    for name, key, value in named(fields, node, "variable", "variables"):
        if simple and is_null(value) and (run := simple.take(fields.file, key.start_mark.line + 1, jar)):
            variables |= {variable.name: variable for variable in run}
            read += len(run)
            continue
        read += 1
        own = {} if is_null(value) else fields.fields(value, f"variable {name}", VARIABLE_KEYS)
        variables[name] = _read_variable(fields, VariableName(name), location(key, fields.file), own, jar)
        for which in ("also_as", "formerly"):
            for other in getattr(variables[name], which):
                if words := name_fault("variable", other):
                    fields.fault(own[which], words, "choose another name")
    if simple and (simple.are_left or len(variables) != read):
        raise InputError(
            "some lines are not the variables that they look like",
            hint="indent them further",
            location=Location(fields.file),
        )
    _refuse_own_names(fields, variables)
    return variables


def _refuse_own_names(fields: FieldReader, variables: Mapping[str, Variable]) -> None:
    """Report variables that are also another name of one."""
    for variable in variables.values():
        for which in ("also_as", "formerly"):
            for other in getattr(variable, which):
                if other in variables:
                    message = (
                        f"{variable.name} {'is also_as' if which == 'also_as' else 'was formerly'} {other}, which is "
                        "a variable itself"
                    )
                    fields.faults.append(InputError(message, hint="remove one of them", location=variable.location))


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


_FIELDS = {"place": "nested", "valid": "valid_days", "rotate": "rotation"}
"""Keys whose field has another name."""


_READ_BY_NAME = frozenset(VARIABLE) - {"kind", "default", "supplied"}


# Each key has a type of its own.
def _read_key(fields: FieldReader, key: str, node: Node, name: str, jar: Jar) -> Any:  # noqa: ANN401, PLR0911
    """Read one key of a variable, other than its kind, its constraints and its default."""
    if key in ("about", "phase"):
        return fields.text(node, f"{key} of {name}")
    if key in ("secret", "required", "may_be_empty", "per_stage"):
        return fields.flag(node, key)
    if key == "services":
        return frozenset(services_of(fields, node, f"services of {name}", jar))
    if key == "stages":
        return stages(fields, node, f"stages of {name}", jar)
    if key == "only_with":
        return _conditions(fields, node, name)
    if key in ("also_as", "formerly", "place"):
        return tuple(text for text, _ in fields.texts(node, key))
    if key in ("valid", "rotate"):
        from coinjar.jarfile.rotation import read_rotation, read_valid  # few variables have it

        return read_valid(fields, node, name) if key == "valid" else read_rotation(fields, node, name, jar)
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
