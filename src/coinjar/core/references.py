"""References in a `{text: …}`: POSIX parameter expansion (IEEE 1003.1, 2.6.2) with `@` additions.

reference = "${" NAME additions [ operator word ] "}"
additions = { "@" ( "url" | "base64" | "json" | "upper" | "lower" | "trim" | "of:" SERVICE ) }
operator  = ":-" | "-" | ":?" | "?" | ":+" | "+"
word      = text, "$$" for a dollar sign, "\\}" for a brace, and further references
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from functools import cached_property
from typing import TypeAlias

from coinjar.core.errors import InputError
from coinjar.core.record import Record

_NAME = r"[A-Za-z_][A-Za-z0-9_]*"
_OPERATOR = r":[-?+]|[-?+]"
_SERVICE = r"[a-z0-9_]+(?:-+[a-z0-9_]+)*"
_DEEPEST = 40
LARGEST_TEXT = 1 << 20
"""Characters; a longer value made by references is an error (a kernel accepts 128 KiB for one variable)."""


class Reference(Record, kw_only=True):
    """One `${…}`."""

    name: str
    additions: tuple[str, ...] = ()
    service: str | None = None
    operator: str = ""
    word: Parts = ()


Parts: TypeAlias = "tuple[str | Reference, ...]"


class Template(Record):
    """A parsed text with references."""

    source: str
    parts: Parts

    def references(self) -> tuple[Reference, ...]:
        """Return every reference, those inside words included."""
        return self._every_reference

    @cached_property
    def _every_reference(self) -> tuple[Reference, ...]:
        return tuple(_references(self.parts))


def own_text(parts: Parts) -> str:
    """Return what a template contains itself, with the words that stand in for missing values: all but what references
    bring.
    """
    return "".join(
        part if isinstance(part, str) else own_text(part.word if part.operator.endswith(("-", "+")) else ())
        for part in parts
    )


class ReferenceValue:
    """What a reference resolves to: a text (None: no value), and whether it is secret."""

    __slots__ = ("secret", "text")

    def __init__(self, text: str | None, secret: bool = False) -> None:
        self.text = text
        self.secret = secret


Lookup: TypeAlias = Callable[[Reference], ReferenceValue]


def _references(parts: Parts) -> Iterator[Reference]:
    for part in parts:
        if not isinstance(part, str):
            yield part
            yield from _references(part.word)


def parse_template(source: str) -> Template:
    """Parse a text with references. Raises InputError with the position of the fault."""
    return Template(source, _parse(source, 0, inside=False, depth=0)[0])


def _fault(at: int, message: str, hint: str) -> InputError:
    return InputError(f"{message} at character {at + 1} of the text", hint=hint, code="reference")


def _parse(source: str, at: int, *, inside: bool, depth: int) -> tuple[Parts, int]:
    if depth > _DEEPEST:
        raise _fault(at, "references are nested too deeply", "split the value into several variables")
    parts: list[str | Reference] = []
    text: list[str] = []
    stops = re.compile(r"[$}\\]" if inside else r"\$")
    while True:
        match = stops.search(source, at)
        if match is None:
            if inside:
                raise _fault(len(source), "a '${' is not closed", "add the missing '}'")
            text.append(source[at:])
            break
        text.append(source[at : match.start()])
        at = match.start()
        if source[at] == "}":
            break
        if source[at] == "\\":
            escaped = source[at + 1 : at + 2] in ("}", "\\")
            text.append(source[at + 1] if escaped else "\\")
            at += 2 if escaped else 1
        elif source.startswith("$$", at):
            text.append("$")
            at += 2
        else:
            reference, at = _parse_reference(source, at, depth)
            parts += ["".join(text), reference]
            text = []
    parts.append("".join(text))
    return tuple(part for part in parts if part != ""), at if inside else len(source)


def _at(pattern: str, source: str, at: int) -> re.Match[str] | None:
    return re.compile(pattern).match(source, at)  # compiled on first use: most runs meet no reference


def _parse_reference(source: str, at: int, depth: int) -> tuple[Reference, int]:
    if not source.startswith("${", at):
        raise _fault(at, "a lone '$'", "write '$$' for a dollar sign, or '${NAME}' for a reference")
    name = _at(_NAME, source, at + 2)
    if name is None:
        raise _fault(at, "no name after '${'", "write a reference as '${NAME}'")
    at = name.end()
    additions: list[str] = []
    service = None
    while source.startswith("@", at):
        word = _at(_NAME, source, at + 1)
        addition = word.group() if word else ""
        if addition == "of" and source.startswith(":", at + 3):
            match = _at(_SERVICE, source, at + 4)
            if match is None or service:
                raise _fault(at, "'@of:' requires one service's name", "write '${NAME@of:SERVICE}'")
            service, at = match.group(), match.end()
        elif addition in ADDITIONS:
            additions.append(addition)
            at += 1 + len(addition)
        else:
            known = ", ".join(f"@{addition}" for addition in [*ADDITIONS, "of:SERVICE"])
            raise _fault(at, f"there is no addition '@{addition}'", f"the additions are {known}")
    operator = _at(_OPERATOR, source, at)
    word_parts: Parts = ()
    if operator:
        word_parts, at = _parse(source, operator.end(), inside=True, depth=depth + 1)
    elif not source.startswith("}", at):
        what = "a '${' is not closed" if at == len(source) else f"'{source[at]}' is not allowed in a reference"
        raise _fault(at, what, "write '${NAME}', '${NAME:-word}' or '${NAME@url}'")
    reference = Reference(
        name=name.group(),
        additions=tuple(additions),
        service=service,
        operator=operator.group() if operator else "",
        word=word_parts,
    )
    return reference, at + 1


def expand(template: Template, lookup: Lookup) -> ReferenceValue:
    """Return the template's text with every reference replaced; secret if any of the values is.

    Raises InputError for a reference without a value, and whatever `lookup` raises.
    """
    return _expand(template.parts, lookup)


def _expand(parts: Parts, lookup: Lookup) -> ReferenceValue:
    texts: list[str] = []
    secret = False
    size = 0
    for part in parts:
        value = ReferenceValue(part) if isinstance(part, str) else _replace(part, lookup)
        texts.append(value.text or "")
        secret = secret or value.secret
        size += len(texts[-1])
        if size > LARGEST_TEXT:
            raise InputError(
                f"references produce a text of more than {LARGEST_TEXT} characters",
                hint="look for a value that contains itself many times",
                code="reference",
            )
    return ReferenceValue("".join(texts), secret)


def _replace(reference: Reference, lookup: Lookup) -> ReferenceValue:
    value = lookup(reference)
    operator = reference.operator
    there = value.text is not None and (value.text != "" or not operator.startswith(":"))
    if operator.endswith("+"):
        return _expand(reference.word, lookup) if there else ReferenceValue("")
    if there:
        text = value.text or ""
        for addition in reference.additions:
            text = ADDITIONS[addition](text)
        return ReferenceValue(text, value.secret)
    if operator.endswith("-"):
        return _expand(reference.word, lookup)
    if operator.endswith("?"):
        message = _expand(reference.word, lookup)
        explanation = message.text if message.text and not message.secret else "it has no value"
        raise InputError(
            f"${{{reference.name}}}: {explanation}", hint=f"give {reference.name} a value here", code="reference"
        )
    whose = f" of {reference.service}" if reference.service else ""
    raise InputError(
        f"${{{reference.name}}}{whose} has no value here",
        hint=f"give {reference.name} a value, write '${{{reference.name}:-word}}', or refer to another service's with "
        "'@of:SERVICE'",
        code="reference",
    )


def _url(text: str) -> str:
    from urllib.parse import quote

    return quote(text, safe="")


def _base64(text: str) -> str:
    from base64 import b64encode

    return b64encode(text.encode()).decode()


def _json(text: str) -> str:
    from json import dumps

    return dumps(text, ensure_ascii=False)


ADDITIONS: dict[str, Callable[[str], str]] = {
    "url": _url,
    "base64": _base64,
    "json": _json,
    "upper": str.upper,
    "lower": str.lower,
    "trim": str.strip,
}
"""The additions allowed after `@`. `@url` encodes all but RFC 3986's unreserved characters."""
