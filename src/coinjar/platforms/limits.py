"""Check the limits of a platform before anything is sent."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from coinjar.core.delivery import DesiredValue
from coinjar.core.names import matches
from coinjar.core.patterns import fullmatch
from coinjar.platforms.description import PlatformDescription

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
        other = folded.setdefault(desired.name.casefold() if platform.folds_case else desired.name, desired.name)
        if other != desired.name:
            yield UnsupportedVariable(
                desired.name,
                f"{platform.name} ignores case: this and {other} are the same name there",
                "rename one of them",
                NAME,
            )
    if platform.most is not None and len(desired_values) > platform.most:
        yield UnsupportedVariable(
            "",
            f"{len(desired_values)} variables exceed the {platform.most} that {platform.name} allows",
            "omit some (without:)",
        )


def _name(platform: PlatformDescription, name: str) -> UnsupportedVariable | None:
    if matches(name, platform.reserved):
        return UnsupportedVariable(
            name, f"{platform.name} reserves this name", "rename it, or omit it (without:)", RESERVED
        )
    if matches(name, platform.supplied):
        return UnsupportedVariable(
            name,
            f"{platform.name} supplies this itself",
            "declare it supplied: {by: [the destination]}, or omit it (without:)",
            SUPPLIED,
        )
    if platform.shape and not fullmatch(platform.shape, name):
        return UnsupportedVariable(
            name,
            f"{platform.name} accepts only names that match {platform.shape}",
            "rename it, or omit it (without:)",
            NAME,
        )
    if platform.longest_name is not None and len(name) > platform.longest_name:
        return UnsupportedVariable(
            name,
            f"the name is longer than the {platform.longest_name} characters that {platform.name} allows",
            "rename it, or omit it (without:)",
            NAME,
        )
    return None


def _value(platform: PlatformDescription, desired: DesiredValue) -> UnsupportedVariable | None:
    size = len(desired.text.encode("utf-8", "surrogatepass"))
    if platform.largest is not None and size > platform.largest:
        return UnsupportedVariable(
            desired.name,
            f"its value has {size} bytes, but {platform.name} allows {platform.largest}",
            "shorten it, or provide it as a file",
        )
    if not desired.text and platform.empty != "kept":
        what = "treats an empty value as none" if platform.empty == "removes" else "does not accept empty values"
        return UnsupportedVariable(
            desired.name,
            f"it is empty, but {platform.name} {what}",
            "unset it here (`coinjar put NAME --unset`), or omit it (without:)",
            EMPTY,
        )
    if not platform.line_breaks and re.search(r"[\r\n]", desired.text):
        return UnsupportedVariable(
            desired.name,
            f"it has a line break, which {platform.name} does not accept",
            "encode it in base64, or write it on one line",
        )
    return None
