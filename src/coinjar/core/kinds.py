"""The kinds of values. Each kind checks a text; seven of them also normalize it to one spelling.

A kind is a function `(text, constraints) -> normalized text` that raises ValueError with the fault;
the message never contains the text itself, which may be a secret.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import TYPE_CHECKING, TypeAlias

from coinjar.core.errors import InputError
from coinjar.core.record import Record
from coinjar.core.secret import reveal

if TYPE_CHECKING:
    from coinjar.core.model import Variable

Constraints: TypeAlias = Mapping[str, object]

# Patterns are compiled on first use: most runs need two or three of them.
_INTEGER = r"(?a)([+-]?)0*(\d+)"
_NUMBER = r"(?a)[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?"
_LABEL = r"(?!-)[A-Za-z0-9_-]{1,63}(?<!-)"
_SCHEME = r"(?s)([A-Za-z][A-Za-z0-9+.-]*):(.*)"  # RFC 3986, 3.1
_DURATION = r"(?a)(\d+(?:\.\d+)?)(ns|us|µs|ms|s|m|h|d)"
_SIZE = r"(?a)(\d+) ?([A-Za-z]*)"
_PEM = r"\s*-----BEGIN ([A-Z0-9 ]+)-----\r?\n[A-Za-z0-9+/=\s:,.-]*?-----END \1-----\s*"
_JSON_BLANKS = r'("(?:[^"\\]|\\.)*")|[ \t\r\n]+'
FORMS = {"text": 40, "hex": 64, "base64": 44, "uuid": 36, "words": 8}
"""The forms in which values are generated, and the default length of each: in characters; for `words`, in words."""
_TRUE = frozenset({"true", "yes", "on", "1"})
_FALSE = frozenset({"false", "no", "off", "0"})
_NANOSECONDS = {
    "d": 86_400_000_000_000,
    "h": 3_600_000_000_000,
    "m": 60_000_000_000,
    "s": 1_000_000_000,
    "ms": 1_000_000,
    "us": 1000,
    "ns": 1,
}
_DECIMAL = {unit: 1000**power for power, unit in enumerate(("B", "kB", "MB", "GB", "TB", "PB"))}
_BINARY = {unit: 1024**power for power, unit in enumerate(("B", "KiB", "MiB", "GiB", "TiB", "PiB"))}


def _between(number: float, constraints: Constraints) -> None:
    low, high = constraints.get("min"), constraints.get("max")
    if isinstance(low, int | float) and number < low:
        raise ValueError(f"must be {low} or more")
    if isinstance(high, int | float) and number > high:
        raise ValueError(f"must be {high} or less")


def _text(value: str, constraints: Constraints) -> str:
    low, high = constraints.get("min_length"), constraints.get("max_length")
    if isinstance(low, int) and len(value) < low:
        raise ValueError(f"must have {low} characters or more, has {len(value)}")
    if isinstance(high, int) and len(value) > high:
        raise ValueError(f"must have {high} characters or less, has {len(value)}")
    pattern = constraints.get("pattern")
    if isinstance(pattern, str):
        _require_pattern(pattern, value)
    return value


def _require_pattern(pattern: str, value: str) -> None:
    from coinjar.core.patterns import TooSlow, fullmatch  # not needed for a jar without patterns

    try:
        if fullmatch(pattern, value):
            return
    except TooSlow:
        raise ValueError(f"takes too long to compare with the pattern {pattern}") from None
    raise ValueError(f"does not match the pattern {pattern}")


def _integer(value: str, constraints: Constraints) -> str:
    match = re.fullmatch(_INTEGER, value.strip())
    if not match:
        raise ValueError("is not a whole number")
    sign, digits = match.groups()
    if len(digits) > 40:
        raise ValueError("has more than 40 digits")
    normal = ("-" if sign == "-" and digits != "0" else "") + digits
    _between(int(normal), constraints)
    return normal


def _number(value: str, constraints: Constraints) -> str:
    if not re.fullmatch(_NUMBER, value):
        raise ValueError("is not a number")
    _between(float(value), constraints)
    return value


def _port(value: str, constraints: Constraints) -> str:
    if not re.fullmatch(_INTEGER, value.strip()) or len(value) > 40:
        raise ValueError("is not a port (1 to 65535)")
    try:
        return _integer(value, {"min": 1, "max": 65535, **constraints})
    except ValueError as fault:
        raise ValueError(f"as a port {fault}") from None


def _boolean(value: str, constraints: Constraints) -> str:
    spelling = constraints.get("spelling")
    words = spelling if isinstance(spelling, Mapping) else {"true": "true", "false": "false"}
    word = value.strip()
    if word in (words["true"], words["false"]):
        return word
    if word.lower() in _TRUE:
        return str(words["true"])
    if word.lower() in _FALSE:
        return str(words["false"])
    raise ValueError("is not a boolean (true, false, yes, no, on, off, 1, 0)")


def _host(value: str, constraints: Constraints) -> str:
    name = value[:-1] if value.endswith(".") else value
    bare = value[1:-1] if value.startswith("[") and value.endswith("]") else value
    if ":" in bare:
        from ipaddress import IPv6Address

        try:
            IPv6Address(bare)
        except ValueError:
            raise ValueError("is not a host (a port is a variable of its own)") from None
    elif len(name) > 253 or not all(re.fullmatch(_LABEL, label) for label in name.split(".")):
        raise ValueError("is not a host name or an IP address")
    return _text(value, constraints)


def _url(value: str, constraints: Constraints) -> str:
    match = re.fullmatch(_SCHEME, value)
    if not match or not match[2] or re.search(r"[\s\x00-\x1f\x7f]", value):
        raise ValueError("is not a URL (scheme:…, without spaces)")
    if match[2].startswith("//") and not re.match(r"//[^/?#]+|///", match[2]):
        raise ValueError("is a URL without a host")
    schemes = constraints.get("schemes")
    if isinstance(schemes, list) and match[1].lower() not in schemes:
        raise ValueError(f"has a scheme that is not one of {', '.join(schemes)}")
    return _text(value, constraints)


def _choice(value: str, constraints: Constraints) -> str:
    choices = constraints.get("choices")
    if isinstance(choices, list) and value not in choices:
        raise ValueError(f"is not one of {', '.join(choices)}")
    return value


def separator_of(constraints: Constraints) -> str:
    """The separator between the elements of a list."""
    result = constraints.get("separator", ",")
    return result if isinstance(result, str) else ","


def _list(value: str, constraints: Constraints) -> str:
    separator = separator_of(constraints)
    elements = [element.strip() for element in value.split(separator)] if value.strip() else []
    for place, element in enumerate(elements, 1):
        try:
            _choice(_text(element, {"pattern": constraints.get("pattern")}), constraints)
        except ValueError as fault:
            raise ValueError(f"has an element {place} that {fault}") from None
    return separator.join(elements)


def join_list(elements: list[str], constraints: Constraints) -> str:
    """Return the text of a list given as a list. Raises ValueError for an element that contains the separator."""
    separator = separator_of(constraints)
    for place, element in enumerate(elements, 1):
        if separator in element:
            raise ValueError(f"contains the separator '{separator}' in element {place}")
    return separator.join(elements)


def split_list(value: str, constraints: Constraints) -> list[str]:
    """Return the elements of a list's text; none for an empty one."""
    return value.split(separator_of(constraints)) if value else []


def _json(value: str, constraints: Constraints) -> str:
    del constraints
    from json import JSONDecodeError, loads

    try:
        loads(value, parse_int=str, parse_float=str, parse_constant=_no_constant)
    except JSONDecodeError as fault:
        raise ValueError(f"is not JSON: {fault.msg} at character {fault.pos + 1}") from None
    except RecursionError:
        raise ValueError("is JSON that is nested too deeply") from None
    # Only whitespace between tokens is removed: digits (1.10) and escapes stay as they were written.
    return re.sub(_JSON_BLANKS, lambda match: match[1] or "", value)


def _no_constant(name: str) -> object:
    del name  # one of three words, but nothing of a value is repeated
    raise ValueError("is not JSON: it contains a special number")


def nanoseconds(value: str) -> int:
    """Return the length of a duration such as `90s` or `1h30m`, in nanoseconds. Raises ValueError for another text."""
    compact = value.strip().replace(" ", "")
    pieces = re.findall(_DURATION, compact)
    if not pieces or "".join(number + unit for number, unit in pieces) != compact:
        raise ValueError("is not a duration such as 90s or 1h30m (d, h, m, s, ms, us, ns)")
    from fractions import Fraction

    total = sum((Fraction(number) * _NANOSECONDS[unit.replace("µ", "u")] for number, unit in pieces), Fraction(0))
    if total.denominator != 1:
        raise ValueError("is finer than a nanosecond")
    return int(total)


def _duration(value: str, constraints: Constraints) -> str:
    total = nanoseconds(value)
    _between(total / 1e9, constraints)
    unit, size = next(
        (unit, size) for unit, size in _NANOSECONDS.items() if total % size == 0 and (total or unit == "s")
    )
    return f"{total // size}{unit}"  # one number and one unit: every reader of durations accepts that


def _size(value: str, constraints: Constraints) -> str:
    match = re.fullmatch(_SIZE, value.strip())
    if not match:
        raise ValueError("is not a size such as 512MiB or 20MB")
    number, unit = int(match[1][:40]), match[2]
    known = {name.lower(): (name, table) for table in (_BINARY, _DECIMAL) for name in table}
    if unit and unit.lower() not in known:
        raise ValueError(
            "has a unit that is not one of B, kB, MB, GB, TB, KiB, MiB, GiB, TiB (K, M and G are ambiguous)"
        )
    name, table = known[unit.lower()] if unit else ("B", _BINARY)
    total = number * table[name]
    _between(total, constraints)
    if not unit:
        return str(number)
    best = max((unit for unit in table if total % table[unit] == 0), key=lambda unit: table[unit]) if total else name
    return f"{total // table[best]}{best}"


def _base64(value: str, constraints: Constraints) -> str:
    from base64 import b64decode

    try:
        b64decode(value, validate=True)
    except ValueError:
        raise ValueError("is not base64 (RFC 4648, padded, without line breaks)") from None
    return _text(value, constraints)


def _pem(value: str, constraints: Constraints) -> str:
    del constraints
    rest = value
    while match := re.match(_PEM, rest):
        rest = rest[match.end() :]
    if rest or not value:
        raise ValueError("is not PEM (lines between -----BEGIN X----- and -----END X-----)")
    return value


class Kind(Record):
    """A kind's function, the constraints it accepts, and whether it has a normal spelling."""

    normalize: Callable[[str, Constraints], str]
    constraints: frozenset[str]
    has_normal_form: bool = False


_LENGTHS = frozenset({"min_length", "max_length", "pattern"})
_RANGE = frozenset({"min", "max"})

KINDS: dict[str, Kind] = {
    "text": Kind(_text, _LENGTHS),
    "integer": Kind(_integer, _RANGE, has_normal_form=True),
    "number": Kind(_number, _RANGE),
    "boolean": Kind(_boolean, frozenset({"spelling"}), has_normal_form=True),
    "port": Kind(_port, _RANGE | {"listens"}, has_normal_form=True),
    "host": Kind(_host, _LENGTHS),
    "url": Kind(_url, _LENGTHS | {"schemes"}),
    "choice": Kind(_choice, frozenset({"choices"})),
    "list": Kind(_list, frozenset({"separator", "choices", "pattern"}), has_normal_form=True),
    "json": Kind(_json, frozenset(), has_normal_form=True),
    "duration": Kind(_duration, _RANGE, has_normal_form=True),
    "size": Kind(_size, _RANGE, has_normal_form=True),
    "base64": Kind(_base64, _LENGTHS),
    "pem": Kind(_pem, frozenset()),
}


@lru_cache(maxsize=65536)
def _usual(kind: str, value: str) -> str:
    """Return the normal spelling without constraints. Cached: stages and variables share most values."""
    return KINDS[kind].normalize(value, {})


def normal(variable: Variable, value: str) -> str:
    """Return the text in the variable's normal spelling. Raises InputError (CJ003) without showing the text."""
    if "\0" in value:
        message = f"the value of {variable.name} contains a NUL character, which no environment can carry"
        raise InputError(message, hint="encode it, for example as base64, and decode it in the program", code="CJ003")
    if variable.kind == "text" and not variable.constraints:
        return value
    try:
        if not variable.constraints and not variable.secret:
            return _usual(variable.kind, reveal(value))
        return KINDS[variable.kind].normalize(reveal(value), variable.constraints)
    except ValueError as fault:
        raise InputError(
            f"the value of {variable.name} {fault}",
            hint=f"{variable.name} is declared as {variable.kind} ({variable.location})",
            code="CJ003",
        ) from None
