"""Load a jar's files: jar.yaml, and the requested plain values."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from yaml.nodes import MappingNode, Node, ScalarNode

from coinjar.core.definition import Definition
from coinjar.core.errors import CoinJarError, InputError, Location, UsageError, raise_all
from coinjar.core.model import Jar, Layer, Scope, Variable
from coinjar.core.names import ALL, SHARED, suggestion
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import NULLS, compose, is_null
from coinjar.jarfile.declarations import check_template, read_declarations
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.sealed_files import read_sealed_file
from coinjar.jarfile.simple_lines import simple_values
from coinjar.jarfile.values import read_value
from coinjar.system.files import display_path, read_file

if TYPE_CHECKING:
    from coinjar.jarfile.sealed_values import Ring


def read_bytes(path: Path) -> bytes:
    """Return a file's bytes. Raises InputError if it cannot be read, with the code `not-found` if it does not exist."""
    try:
        return read_file(path)
    except OSError as fault:
        raise InputError(
            f"cannot read it: {(fault.strerror or 'unknown error').lower()}",
            hint="check the path and its permissions",
            location=Location(display_path(path)),
            code="not-found" if isinstance(fault, FileNotFoundError) else "unreadable",
        ) from None


def load_declarations(folder: Path) -> Jar:
    """Load jar.yaml alone. Raises every fault of it at once."""
    path = JarLayout(folder).declarations
    return read_declarations(read_bytes(path), display_path(path))


def load(folder: Path, stages: Iterable[str] | None, ring: Ring, *, mine: str | None = None) -> Jar:
    """Load the jar in `folder` with the values of these stages and those they follow; of all stages for None.

    `ring` returns the keys when a sealed value is first read. `mine` names the stage whose own values (`.local/`) are
    loaded too. Raises every fault of every file at once.
    """
    jar = load_declarations(folder)
    layers = (
        value_layers(folder)
        if stages is None
        else [SHARED, *dict.fromkeys(name for stage in stages for name in jar.chain(stage))]
    )
    faults: list[CoinJarError] = []
    plain = {}
    for layer in layers:
        try:
            result = _read_layer(jar, folder, layer, ring)
        except CoinJarError as fault:
            faults += fault.each()
        else:
            if result is not None:
                plain[layer] = result
    own = {}
    if mine and (path := JarLayout(folder).own(mine)).exists():
        from coinjar.jarfile.local_folder import require_own_local

        try:
            require_own_local(folder)
            own[mine] = read_plain(jar, read_bytes(path), display_path(path))
        except CoinJarError as fault:
            faults += fault.each()
    raise_all(faults)
    return jar._replace(plain=plain, mine=own)


def _read_layer(jar: Jar, folder: Path, layer: str, ring: Ring) -> Layer | None:
    """Return a layer's values, plain and sealed; None if it has no file."""
    path = JarLayout(folder).plain(layer)
    result = None
    if path.exists():
        _refuse_stray(jar, layer, path)
        result = read_plain(jar, read_bytes(path), display_path(path))
    sealed = JarLayout(folder).sealed(layer)
    if (data := read_sealed_file(sealed)) is not None:
        from coinjar.jarfile.sealed_values import merge

        _refuse_stray(jar, layer, sealed)
        result = merge(jar, layer, result or {}, data, display_path(sealed), ring)
    return result


def value_layers(folder: Path) -> list[str]:
    """Return the layers that have a file of values, plain or sealed: `shared` first, then by name."""
    names = set()
    for sample in (JarLayout(folder).plain(SHARED), JarLayout(folder).sealed(SHARED)):
        with contextlib.suppress(FileNotFoundError):
            names |= {
                entry.name.removesuffix(sample.suffix)
                for entry in os.scandir(sample.parent)
                if entry.name.endswith(sample.suffix) and not entry.name.startswith(".")
            }
    return sorted(names, key=lambda name: (name != SHARED, name))


def _refuse_stray(jar: Jar, layer: str, path: Path) -> None:
    if layer == SHARED:
        return
    try:
        jar.stage(layer)
    except UsageError as fault:
        raise InputError(
            f"this file is for the stage '{layer}', which is not declared",
            hint=f"{fault.hint} If it was renamed: `coinjar stages rename {layer} NEW`. Otherwise remove the file",
            location=Location(display_path(path)),
            code="unknown-stage",
        ) from None


def read_plain(jar: Jar, data: bytes, file: str) -> Layer:
    """Read one file of plain values: first the service or `all`, then the variable. Raises every fault at once."""
    if (simple := simple_values(data, file, jar)) is not None:
        return simple
    fields = FieldReader(file)
    root = compose(data, file)
    layer: Layer = {}
    if root is None or is_null(root):
        return layer
    for scope, key, node in fields.members(root, "this file"):
        if scope != ALL and scope not in jar.services:
            if scope in jar.variables:
                fields.fault(
                    key,
                    f"{scope} is a variable, and must be below 'all' or a service",
                    "write 'all:' above it and indent it",
                )
            else:
                hint = suggestion(
                    scope,
                    [ALL, *jar.services],
                    f"the first level must be 'all' or a service: {', '.join(jar.services)}",
                )
                fields.fault(key, f"there is no service '{scope}'", hint, "unknown-service")
        elif not is_null(node):  # a service without members sets nothing
            layer[scope] = _read_scope(fields, jar.variables, node, scope)
            for name, definition in layer[scope].items():
                if not isinstance(definition.content, str):
                    check_template(fields, jar, definition.content, definition.location, name)
    raise_all(fields.faults)
    return layer


def _read_scope(fields: FieldReader, variables: Mapping[str, Variable], node: Node, scope: str) -> Scope:
    values: Scope = {}
    if not isinstance(node, MappingNode):
        fields.fault(node, f"'{scope}' must contain variables (NAME: value)", "indent them below it, one per line")
        return values
    file = fields.file
    for key, value in node.value:
        name = key.value
        if isinstance(key, ScalarNode) and name in variables and name not in values:
            if isinstance(value, ScalarNode) and (
                value.style or value.value not in NULLS
            ):  # by far the most common case, so first
                mark = value.start_mark
                values[name] = Definition(value.value, file, mark.line + 1, mark.column + 1)
            elif definition := read_value(fields, variables[name], value):
                values[name] = definition
        else:
            _refuse_name(fields, variables, key, values)
    return values


def _refuse_name(fields: FieldReader, variables: Mapping[str, Variable], key: Node, values: Scope) -> None:
    if not isinstance(key, ScalarNode):
        fields.fault(key, "a variable's name is not a text", "write a plain name before the colon")
    elif key.value in values:
        fields.fault(
            key,
            f"{key.value} is given twice here",
            f"it is also in line {values[key.value].line}: keep one",
            "duplicate",
        )
    elif key.value == "<<":
        fields.fault(
            key, "merge keys are not supported here", "move shared values into 'all' or into a stage that others follow"
        )
    else:
        hint = suggestion(key.value, variables, "declare it in jar.yaml, or with `coinjar put --declare`")
        fields.fault(key, f"{key.value} is not declared", hint, "unknown-variable", subject=key.value)
