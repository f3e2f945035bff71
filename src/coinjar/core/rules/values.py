"""Rules on the text of values."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.core.diagnostics import Diagnostic
from coinjar.core.inference import is_placeholder
from coinjar.core.layers import plain
from coinjar.core.rules.base import CheckContext

_SURPRISING = re.compile(
    r"(?P<word>(?:null|Null|NULL|None|nil|undefined|NaN)\Z)|(?P<true>(?:True|False|TRUE|FALSE)\Z)"
    r"|(?P<blank>[ \t\n\r\f\v]|(?s:.*)[ \t\n\r\f\v]\Z)|(?P<quote>(?P<mark>[\"'`])(?s:.*)(?P=mark)\Z)"
)
_INSIDE = re.compile(r"\r|\$\{[A-Za-z_]")
_INVISIBLE = re.compile("[\u00a0\u00ad\u061c\u180e\u2000-\u200f\u2028-\u202f\u205f-\u206f\u3000\ufeff\ufff9-\ufffb]")
# Greek and Cyrillic letters inside a Latin word; typographic quotes and dashes in a value without spaces.
_MIXED = re.compile("[A-Za-z][\u0370-\u03ff\u0400-\u04ff]|[\u0370-\u03ff\u0400-\u04ff][A-Za-z]|[\uff01-\uff5e]")
_TYPOGRAPHIC = re.compile("[\u2018\u2019\u201c\u201d\u2010-\u2015\u2212]")


def kind_broken(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ003"""
    for each in context.set_texts:
        variable = each.variable
        if variable.kind == "text" and not variable.constraints and "\0" not in each.text:
            continue
        fault = plain(variable, each.found[0][0]).fault
        if fault is None:
            continue
        for place in each.places:
            yield Diagnostic(fault.message, fault.hint, place.definition.location, variable.name, place.stage, None)
    for derived, variable, stage, service in context.derived_faults:
        if derived.code == "CJ003":
            yield Diagnostic(
                f"{derived.message} (on {stage})",
                derived.hint,
                derived.location or variable.location,
                variable.name,
                stage,
                service,
            )


def placeholder_left(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ007"""
    for each in context.set_texts:
        variable = each.variable
        for place in each.places if is_placeholder(each.text) else ():
            message = f"{variable.name} is still a placeholder"
            fix = "set the real value, or remove it"
            yield Diagnostic(message, fix, place.definition.location, variable.name, place.stage)


def surprise(kind: str, value: str, *, secret: bool) -> str | None:
    """Return what is surprising about a text; None if nothing is. A word is shown unless it is `secret`."""
    match = _SURPRISING.match(value)
    if match and kind not in ("json", "pem"):
        if match["word"]:
            return "is a word for an absent value" if secret else f"is the word '{value}', not the absence of a value"
        if match["true"] and kind != "boolean":
            word = "a word for true or false" if secret else f"'{value}'"
            return f"is {word}: many programs take any text for true, and not all accept this spelling"
        if match["blank"] and kind not in ("integer", "port", "boolean", "duration", "size", "list"):
            return "begins or ends with a space or a line break"
        if match["quote"] and len(value) > 1:
            return f"is wrapped in {match['mark']} quotes, which are part of the value"
    inside = _INSIDE.search(value)
    if inside and kind != "pem":
        return (
            "contains a carriage return"
            if inside[0] == "\r"
            else "contains '${…}', which is not expanded in a plain text"
        )
    return None


def surprising_text(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ008"""
    for each in context.set_texts:
        variable, value = each.variable, each.text
        if _SURPRISING.match(value) is None and _INSIDE.search(value) is None:
            continue  # by far the most
        choices = variable.constraints.get("choices")
        if isinstance(choices, list) and value in choices:
            continue
        words = surprise(variable.kind, value, secret=variable.secret)
        if words:
            fix = (
                "write {text: …} for a reference; otherwise correct the text, or accept the finding in jar.yaml"
                if "${" in words
                else "declare `kind: boolean`, correct the text, or accept the finding in jar.yaml"
                if "for true" in words
                else "correct the text, or accept the finding in jar.yaml"
            )
            message = f"the value of {variable.name} {words}"
            for place in each.places:
                yield Diagnostic(message, fix, place.definition.location, variable.name, place.stage)


def look_alikes(context: CheckContext) -> Iterator[Diagnostic]:
    """CJ009"""
    for variable in context.jar.variables.values():
        odd = next((letter for letter in variable.name if not letter.isascii()), None)
        if odd:
            message = (
                f"the name {ascii(variable.name)[1:-1]} contains {_called(odd)}, which looks like another character "
                "or is invisible"
            )
            yield Diagnostic(message, "write the name with A to Z, digits and '_'", variable.location, variable.name)
    for each in context.set_texts:
        variable, value = each.variable, each.text
        if value.isascii():
            continue
        match = (
            _INVISIBLE.search(value)
            or _MIXED.search(value)
            or (" " not in value and _TYPOGRAPHIC.search(value))
            or None
        )
        if match:
            odd = next(letter for letter in match[0] if not letter.isascii())
            message = f"the value of {variable.name} contains {_called(odd)} at character {value.index(odd) + 1}"
            fix = "type it again by hand, or accept it in jar.yaml"
            for place in each.places:
                yield Diagnostic(message, fix, place.definition.location, variable.name, place.stage)


def _called(letter: str) -> str:
    from unicodedata import name

    return f"U+{ord(letter):04X} ({name(letter, 'a character without a name').lower()})"
