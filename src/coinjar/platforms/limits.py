"""Check the limits of a platform before anything is sent."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from coinjar.core.delivery import DesiredValue
from coinjar.core.names import matches
from coinjar.core.patterns import fullmatch
from coinjar.platforms.description import PlatformDescription

_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f]")
RESERVED, SUPPLIED, NAME, VALUE, EMPTY = "reserved", "supplied", "name", "value", "empty"
"""What of a variable is not supported: a name that the platform reserves, or sets itself; its pattern or length; the
value; an empty value.
"""


class UnsupportedVariable(NamedTuple):
    """Why a platform does not support a variable, what of it, and what to do."""

    name: str
    reason: str
    hint: str
    what: str = VALUE

    @property
    def taken(self) -> bool:
        """Return whether the platform uses the name itself."""
        return self.what in (RESERVED, SUPPLIED)


def unsupported_variables(
    platform: PlatformDescription, desired_values: Mapping[str, DesiredValue]
) -> Iterator[UnsupportedVariable]:
    """Yield every variable that the platform does not support, and a last one (without a name) if there are too
    many.
    """
    folded: dict[str, str] = {}
    for desired in desired_values.values():
        words = _name(platform, desired.name) or _value(platform, desired)
        if words:
            yield words
        there = platform.spelling.there(desired.name)
        other = folded.setdefault(there.casefold() if platform.folds_case else there, desired.name)
        if other != desired.name:
            why = "ignores case" if platform.folds_case else f"writes names as {there}"
            yield UnsupportedVariable(
                desired.name,
                f"{platform.name} {why}: this and {other} are the same name there",
                "rename one of them",
                NAME,
            )
    size = sum(
        len(platform.spelling.there(desired.name)) + len(desired.text.encode("utf-8", "surrogatepass"))
        for desired in desired_values.values()
    )
    if platform.total is not None and size > platform.total:
        yield UnsupportedVariable(
            "",
            f"all names and values have {size} bytes, but {platform.name} allows {platform.total}",
            "omit some (without:), or provide the largest as a file",
        )
    if platform.most is not None and len(desired_values) > platform.most:
        yield UnsupportedVariable(
            "",
            f"{len(desired_values)} variables exceed the {platform.most} that {platform.name} allows",
            "omit some (without:)",
        )


def is_reserved(platform: PlatformDescription, there: str, patterns: Sequence[str]) -> bool:
    """Return whether a name there is one of the reserved or supplied ones; in any case, where case does not matter."""
    if not platform.folds_case:
        return matches(there, patterns)
    return matches(there.casefold(), [pattern.casefold() for pattern in patterns])


def _name(platform: PlatformDescription, name: str) -> UnsupportedVariable | None:
    there = platform.spelling.there(name)
    if not platform.spelling.is_reversible(name):
        return UnsupportedVariable(
            name,
            f"{platform.name} writes it as {there}, which is not a name of its own",
            "rename it, or omit it (without:)",
            NAME,
        )
    if is_reserved(platform, there, platform.reserved):
        return UnsupportedVariable(
            name, f"{platform.name} reserves this name", "rename it, or omit it (without:)", RESERVED
        )
    if is_reserved(platform, there, platform.supplied):
        return UnsupportedVariable(
            name,
            f"{platform.name} supplies this itself",
            "declare it supplied: {by: [the destination]}, or omit it (without:)",
            SUPPLIED,
        )
    if platform.shape and not fullmatch(platform.shape, there):
        return UnsupportedVariable(
            name,
            f"{platform.name} accepts only names that match {platform.shape}",
            "rename it, or omit it (without:)",
            NAME,
        )
    if platform.longest_name is not None and len(there) > platform.longest_name:
        return UnsupportedVariable(
            name,
            f"the name is longer than the {platform.longest_name} characters that {platform.name} allows",
            "rename it, or omit it (without:)",
            NAME,
        )
    return None


def _value(platform: PlatformDescription, desired: DesiredValue) -> UnsupportedVariable | None:
    for reason, hint, what in _value_reasons(platform, desired.text):
        return UnsupportedVariable(desired.name, reason, hint, what)
    return None


def _value_reasons(platform: PlatformDescription, value: str) -> Iterator[tuple[str, str, str]]:
    """Yield why a value is not supported, what to do, and what of it."""
    size = len(value.encode("utf-8", "surrogatepass"))
    shorter = "shorten it, or provide it as a file"
    if platform.largest is not None and size > platform.largest:
        yield f"its value has {size} bytes, but {platform.name} allows {platform.largest}", shorter, VALUE
    if platform.longest_value is not None and len(value) > platform.longest_value:
        words = f"its value has {len(value)} characters, but {platform.name} allows {platform.longest_value}"
        yield words, shorter, VALUE
    if not value and platform.empty != "kept":
        what = "treats an empty value as none" if platform.empty == "removes" else "does not accept empty values"
        hint = "unset it here (`coinjar put NAME --unset`), or omit it (without:)"
        yield f"it is empty, but {platform.name} {what}", hint, EMPTY
    if not platform.line_breaks and re.search(r"[\r\n]", value):
        hint = "encode it in base64, or write it on one line"
        yield f"it has a line break, which {platform.name} does not accept", hint, VALUE
    if not platform.control_characters and _CONTROL.search(value):
        yield f"it has a control character, which {platform.name} does not accept", "encode it in base64", VALUE
    if platform.value_shape and value and not fullmatch(platform.value_shape, value):
        words = f"its value does not match {platform.value_shape}, which {platform.name} requires"
        yield words, "change it, or omit it (without:)", VALUE
