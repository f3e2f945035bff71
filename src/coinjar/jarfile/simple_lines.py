"""Lines that YAML can read in one way only: `NAME: text`, `NAME: {text: "…"}`, or a variable's keys, in plain ASCII.

Nearly every line of a jar is one, and reading it as what it is takes a fifth of the time. The YAML library reads
everything else, and the whole file as soon as anything in it is unusual or wrong, so that every fault is found by it. A
property test compares both ways.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, TypeAlias

from coinjar.core.definition import Definition
from coinjar.core.errors import CoinJarError, InputError, Location
from coinjar.core.kinds import KINDS
from coinjar.core.model import Variable
from coinjar.core.names import ALL, VariableName
from coinjar.core.references import Template, parse_template
from coinjar.documents.yamltext import LARGEST_FILE, NULLS

if TYPE_CHECKING:
    from coinjar.core.model import Jar, Layer, Scope

_NAME = r"[A-Za-z_][A-Za-z0-9_]{0,127}"
_SCOPE = r"[a-z0-9][a-z0-9_-]{0,62}"
_PLAIN = (  # YAML 1.2.2, 7.3.3, inside a block: no ': ', no ' #', and no first character that means something else
    r"-?[A-Za-z0-9_/.][!-9;-~]*(?:(?::(?=[!-~])| (?=[!-\"$-~]))[!-9;-~]*)*"
)
_QUOTED = r"'[ -&(-~]*'|\"[ !#-\[\]-~]*\""
_TEXT = rf"{_QUOTED}|{_PLAIN}|{{text: (?:{_QUOTED})}}"
_SERVICES = rf"\[{_SCOPE}(?:, ?{_SCOPE})*\]"
_END = r"(?: +#[ -~]*)?$"
_NOTHING = r" *(?:#[ -~]*)?$"
_VALUE_LINES = rf"(?m)^(?:  ({_NAME}): ({_TEXT}){_END}|({_SCOPE}):{_END}|{_NOTHING})|(^.*$)"
_FLAGS = ("secret", "required", "may_be_empty", "per_stage")
_KEYS = "|".join(("about", "kind", "default", "services", *_FLAGS))
_FLOW_PLAIN = r"-?[A-Za-z0-9_/.][!-+\--9;-Z\\^-z|~]*(?: (?=[!\"$-~])[!-+\--9;-Z\\^-z|~]*)*"  # 7.4: also no ',[]{}:'
_FLOW_TEXT = rf"{_QUOTED}|{_FLOW_PLAIN}|{{text: (?:{_QUOTED})}}|{_SERVICES}"
_ENTRY = rf"(?:{_KEYS}): (?:{_FLOW_TEXT})"
_FLOW = rf"{{(?:{_ENTRY}(?:, {_ENTRY})*)?}}"
_FLOW_ENTRIES = rf"({_KEYS}): ({_FLOW_TEXT})(?:, |}}$)"
_VARIABLE_LINES = (
    rf"(?m)^(?:  ({_NAME}):(?: ({_FLOW}))?{_END}|    ({_KEYS}): ({_TEXT}|{_SERVICES}){_END}|{_NOTHING})|(^.*$)"
)
_Keys: TypeAlias = dict[str, tuple[str, int, int]]
"""How the keys of a variable are written, and on which lines and columns."""
_Simple: TypeAlias = tuple[str, int, _Keys]
"""A variable's name, its line and its keys."""
_SECTION = r"(?m)^variables:\n((?:(?:[ #].*)?\n)*)"


def simple_values(data: bytes, file: str, jar: Jar) -> Layer | None:
    """Return the values of a file that has nothing but such lines; None if one is another, or a fault."""
    if not data.isascii() or len(data) > LARGEST_FILE:
        return None
    layer: Layer = {}
    services, variables = jar.services, jar.variables
    scopes: set[str] = set()
    heading = ""
    values: Scope | None = None
    for line, (name, written, scope, other) in enumerate(re.findall(_VALUE_LINES, data.decode()), start=1):
        if name:
            if values is None or name in values or name not in variables or written in NULLS:
                return None
            if not values:
                layer[heading] = values
            content = _unquoted(written) if written[0] != "{" else _template(written, variables[name], jar)
            if content is None:
                return None
            values[name] = Definition(content, file, line, len(name) + 5)
        elif scope:
            if scope in scopes or (scope != ALL and scope not in services):
                return None
            scopes.add(scope)
            heading, values = scope, {}
        elif other:
            return None
    return layer


class SimpleVariables:
    """The variables of a jar.yaml that have nothing but such lines, in runs of neighbours.

    `rest` is the file with all lines of a run left empty except for the first name: YAML must find it in its place,
    without a value, and then what follows it is what it looks like, since no line of a run reaches into the next.
    """

    def __init__(self, data: bytes) -> None:
        self.rest = data
        self._runs: dict[int, list[_Simple]] = {}
        self._lists: dict[str, frozenset[str]] = {}
        """By how they are written: variables share most lists of services."""
        if not data.isascii() or len(data) > LARGEST_FILE or not (section := re.search(_SECTION, data.decode())):
            return
        self._first = data.count(b"\n", 0, section.start(1)) + 1
        lines = data.split(b"\n")
        run: list[_Simple] = []
        for one in self._found(section[1]):
            if one is None:
                run = []
                continue
            for _, line, _ in one[2].values():
                lines[line - 1] = b""
            lines[one[1] - 1] = b"" if run else f"  {one[0]}:".encode()
            if not run:
                self._runs[one[1]] = run
            run.append(one)
        self.rest = b"\n".join(lines)

    def _found(self, section: str) -> Iterator[_Simple | None]:
        """Yield the variables of this kind, and None for what else there is between them."""
        one: _Simple | None = None
        found = re.findall(_VARIABLE_LINES, section)
        for line, (name, flow, key, written, other) in enumerate(found, start=self._first):
            if name:
                if one:
                    yield one
                one = name, line, {}
                if flow:
                    keys = _flow_keys(flow, line, len(name) + 5)
                    yield (name, line, keys) if keys is not None else None
                    one = None
            elif key and one and key not in one[2] and _is_good(key, written):
                one[2][key] = written, line, len(key) + 7
            elif key or other:
                yield None
                one = None
        if one:
            yield one

    @property
    def are_left(self) -> bool:
        """Whether there are variables that were not taken."""
        return bool(self._runs)

    def take(self, file: str, line: int, jar: Jar) -> list[Variable]:
        """Return the variables of the run that starts in this line, once; none if no run does. Raises InputError if one
        is faulty.
        """
        return [self._variable(file, jar, *one) for one in self._runs.pop(line, ())]

    def _variable(self, file: str, jar: Jar, name: str, line: int, keys: _Keys) -> Variable:
        given: dict[str, Any] = {
            key: text == "true" if key in _FLAGS else _unquoted(text) for key, (text, _, _) in keys.items()
        }
        if "default" in given:
            written, at, column = keys["default"]
            if written[0] == "{":
                if given.get("kind") == "json":
                    raise InputError("this mapping is a value", hint="let YAML read it")
                given["default"] = parse_template(_inside(written))
            given["default"] = Definition(given["default"], file, at, column)
        if "services" in given:
            given["services"] = self._services(given["services"], jar)
        return Variable(name=VariableName(name), location=Location(file, line, 3), constraints={}, **given)

    def _services(self, written: str, jar: Jar) -> frozenset[str]:
        if written not in self._lists:
            names = written[1:-1].replace(" ", "").split(",")
            if any(name != ALL and name not in jar.services and name not in jar.sets for name in names):
                raise InputError("a service is not declared", hint="declare it")
            self._lists[written] = frozenset(jar.expand(names))
        return self._lists[written]


def _flow_keys(flow: str, line: int, column: int) -> _Keys | None:
    """Return the keys of a mapping on one line that begins in this column; None if one is invalid, or given twice."""
    keys: _Keys = {}
    for match in re.finditer(_FLOW_ENTRIES, flow):
        key, written = match.groups()
        if key in keys or not _is_good(key, written):
            return None
        keys[key] = written, line, column + match.start(2)
    return keys


def _is_good(key: str, written: str) -> bool:
    if key in _FLAGS:
        return written in ("true", "false")
    if key == "services":
        return written[0] == "[" and NULLS.isdisjoint(written[1:-1].replace(" ", "").split(","))
    if key == "kind":
        return written in KINDS and written != "choice"
    return written not in NULLS and written[0] != "[" and (key == "default" or written[0] != "{")


def _unquoted(written: str) -> str:
    return written[1:-1] if written[0] in "'\"" else written


def _template(written: str, variable: Variable, jar: Jar) -> Template | None:
    """Return the text with references of a value; None if it is faulty, or data."""
    if variable.kind == "json":
        return None
    try:
        template = parse_template(_inside(written))
    except CoinJarError:
        return None
    for reference in template.references():
        if reference.name not in jar.variables or (reference.service and reference.service not in jar.services):
            return None
    return template


def _inside(written: str) -> str:
    return written[len('{text: "') : -len('"}')]
