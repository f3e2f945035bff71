"""Read a runner's description (runners/*.yaml); docs/formats.md lists what it contains."""

from __future__ import annotations

from yaml.nodes import Node

from coinjar.core.errors import InputError, Location, raise_all
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import compose, is_null
from coinjar.runners.description import RunnerDescription, Steps, WrongReference

_TOP = ("runner", "about", "environments", "levels", "jobs", "stage", "wrong", "names", "marks")


def read_runner(data: bytes, file: str, name: str) -> RunnerDescription:
    """Parse a description. Raises every fault at once, with its location."""
    fields = FieldReader(file)
    root = compose(data, file)
    if root is None or is_null(root):
        hint = "`coinjar help formats runners` lists what it contains"
        raise InputError("the file is empty", hint=hint, location=Location(file), code="runner")
    top = fields.fields(root, "a runner's description", _TOP)
    if fields.text(top.get("runner"), "runner") != "1":
        message = "this version does not read this format"
        fields.fault(top.get("runner", root), message, "the format is runner: 1", "runner")
    description = RunnerDescription(
        name,
        fields.text(top.get("about"), "about"),
        tuple(text for text, _ in fields.texts(top.get("environments"), "environments")),
        tuple(_steps(fields, text, node) for text, node in fields.texts(top.get("levels"), "levels")),
        _steps(fields, fields.text(top.get("jobs"), "jobs"), top.get("jobs")),
        fields.text(top.get("stage"), "stage"),
        tuple(_wrong(fields, form, key, node) for form, key, node in _members(fields, top.get("wrong"), "wrong")),
        {key: fields.text(node, key) for key, _, node in _members(fields, top.get("names"), "names")},
        tuple(_steps(fields, text, node) for text, node in fields.texts(top.get("marks"), "marks")),
    )
    raise_all(fields.faults)
    return description


def _members(fields: FieldReader, node: Node | None, what: str) -> list[tuple[str, Node, Node]]:
    return [*fields.members(node, f"'{what}'")] if node is not None else []


def _steps(fields: FieldReader, text: str, node: Node | None) -> Steps:
    if not text or text == "/":
        return ()
    if not text.startswith("/") and node is not None:
        fields.fault(node, f"'{text}' is not a pointer", "begin with /, and write * for any key or element", "runner")
    return tuple(text.split("/")[1:])


def _wrong(fields: FieldReader, form: str, key: Node, node: Node) -> WrongReference:
    if "{name}" not in form:
        fields.fault(key, f"the form '{form}' has no {{name}}", "write {name} where the variable's name is", "runner")
    return WrongReference(form, fields.text(node, form))
