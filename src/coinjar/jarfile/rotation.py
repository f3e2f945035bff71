"""Read `valid:` and `rotate:` of a variable, and check what they name."""

from __future__ import annotations

from yaml.nodes import Node

from coinjar.core.errors import InputError
from coinjar.core.model import Jar, Variable
from coinjar.core.names import suggestion
from coinjar.core.rotation import RotationRules
from coinjar.core.secret_ages import days_of
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import location

KEYS = ("make", "change", "revoke", "service", "turns", "proofs")


def read_valid(fields: FieldReader, node: Node, name: str) -> int | None:
    """Return for how many days a secret is good."""
    days = days_of(fields.text(node, f"valid of {name}"))
    if days is None:
        fields.fault(node, f"valid of {name} is not a span of time", "write days, weeks or years: 90d, 12w, 1y")
    return days


def read_rotation(fields: FieldReader, node: Node, name: str, jar: Jar) -> RotationRules:
    """Return how a secret is rotated; proofs and variables are checked by `check_rotations`."""
    what = f"rotate of {name}"
    own = fields.fields(node, what, KEYS)
    programs: dict[str, tuple[str, ...]] = {}
    for key in ("make", "change", "revoke"):
        words = tuple(text for text, _ in fields.texts(own.get(key), f"{key} in {what}"))
        if key in own and not words:
            fields.fault(own[key], f"{key} in {what} names no program", "write [program, word, ...]")
        programs[key] = words
    service = fields.text(own.get("service"), f"service in {what}") or None
    if service is not None and service not in jar.services:
        hint = suggestion(service, jar.services, f"the services are {', '.join(jar.services)}")
        fields.fault(own["service"], f"there is no service '{service}'", hint, "unknown-service")
    turns: dict[str, tuple[str, str]] = {}
    for other, at, value in fields.members(own["turns"], f"turns in {what}") if "turns" in own else ():
        pair = [text for text, _ in fields.texts(value, f"the turns of {other}")]
        if len(set(pair)) == len(pair) == 2:
            turns[other] = (pair[0], pair[1])
        else:
            fields.fault(at, f"{other} takes turns between two values", "write two different ones: [one, another]")
    proofs = tuple(text for text, _ in fields.texts(own.get("proofs"), f"proofs in {what}"))
    where = location(node, fields.file)
    return RotationRules(location=where, service=service, turns=turns, proofs=proofs, **programs)


def check_rotations(fields: FieldReader, jar: Jar) -> None:
    """Report what `rotate:` names and jar.yaml does not declare, and what only a secret has."""
    for variable in jar.variables.values():
        if not variable.secret and (variable.valid_days or variable.rotation):
            key = "rotate" if variable.rotation else "valid"
            fields.faults.append(
                InputError(
                    f"{variable.name} has {key}, but is not a secret",
                    hint=f"add secret: true, or remove {key}",
                    location=variable.location,
                )
            )
        if variable.rotation is not None:
            _check(fields, jar, variable, variable.rotation)


def _check(fields: FieldReader, jar: Jar, variable: Variable, rotation: RotationRules) -> None:
    for name in rotation.proofs:
        if name not in jar.proofs:
            hint = suggestion(name, jar.proofs, "declare it under proofs:")
            message = f"rotate of {variable.name} names the proof '{name}', which is not declared"
            fields.faults.append(InputError(message, hint=hint, location=rotation.location, code="unknown-proof"))
    for name in rotation.turns:
        other = jar.variables.get(name)
        if other is None:
            message = f"rotate of {variable.name} names {name}, which is not declared"
            hint = suggestion(name, jar.variables, "declare it, or correct the name")
            fields.faults.append(
                InputError(message, hint=hint, location=rotation.location, code="unknown-variable", subject=name)
            )
        elif other.secret:
            message = f"{name} takes turns, but is a secret, whose values are not written in jar.yaml"
            fields.faults.append(InputError(message, hint="only plain variables", location=rotation.location))
