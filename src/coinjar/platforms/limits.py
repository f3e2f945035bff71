"""What a platform cannot hold, told before anything is sent."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from coinjar.core.delivery import DesiredValue, matches
from coinjar.platforms.description import PlatformDescription

RESERVED, SUPPLIED, NAME, VALUE, EMPTY = "reserved", "supplied", "name", "value", "empty"
"""What of a variable is refused: a name that the platform keeps, or sets by itself; its shape or length; the value; its being empty."""


class UnsupportedVariable(NamedTuple):
    """Why a variable cannot be there, what of it is refused, and what to do."""

    name: str
    reason: str
    hint: str
    what: str = VALUE

    @property
    def taken(self) -> bool:
        """Whether the platform has the name for itself."""
        return self.what in (RESERVED, SUPPLIED)


def unsupported_variables(
    platform: PlatformDescription, desired_values: Mapping[str, DesiredValue]
) -> Iterator[UnsupportedVariable]:
    """Every variable that the platform cannot take, and a last one (of no name) if they are too many."""
    folded: dict[str, str] = {}
    for desired in desired_values.values():
        words = _name(platform, desired.name) or _value(platform, desired)
        if words:
            yield words
        other = folded.setdefault(desired.name.casefold() if platform.folds_case else desired.name, desired.name)
        if other != desired.name:
            yield UnsupportedVariable(
                desired.name,
                f"it and {other} are one name to {platform.name}, which ignores case",
                "rename one of them",
                NAME,
            )
    if platform.most is not None and len(desired_values) > platform.most:
        yield UnsupportedVariable(
            "",
            f"{len(desired_values)} variables are more than the {platform.most} that {platform.name} takes",
            "leave some out (without:)",
        )


def _name(platform: PlatformDescription, name: str) -> UnsupportedVariable | None:
    if matches(name, platform.reserved):
        return UnsupportedVariable(
            name, f"{platform.name} keeps this name for itself", "rename it, or leave it out (without:)", RESERVED
        )
    if matches(name, platform.supplied):
        return UnsupportedVariable(
            name,
            f"{platform.name} supplies this itself",
            "declare it supplied: {by: [the destination]}, or leave it out (without:)",
            SUPPLIED,
        )
    if platform.shape and not re.fullmatch(platform.shape, name):
        return UnsupportedVariable(
            name,
            f"{platform.name} takes only names like {platform.shape}",
            "rename it, or leave it out (without:)",
            NAME,
        )
    if platform.longest_name is not None and len(name) > platform.longest_name:
        return UnsupportedVariable(
            name,
            f"the name is over the {platform.longest_name} characters that {platform.name} takes",
            "rename it, or leave it out (without:)",
            NAME,
        )
    return None


def _value(platform: PlatformDescription, desired: DesiredValue) -> UnsupportedVariable | None:
    size = len(desired.text.encode("utf-8", "surrogatepass"))
    if platform.largest is not None and size > platform.largest:
        return UnsupportedVariable(
            desired.name,
            f"its value has {size} bytes, and {platform.name} takes {platform.largest}",
            "shorten it, or hand it over as a file",
        )
    if not desired.text and platform.empty != "kept":
        what = "takes an empty value for none" if platform.empty == "removes" else "takes no empty value"
        return UnsupportedVariable(
            desired.name,
            f"it is empty, and {platform.name} {what}",
            "unset it here (`coinjar put NAME --unset`), or leave it out (without:)",
            EMPTY,
        )
    if not platform.line_breaks and re.search(r"[\r\n]", desired.text):
        return UnsupportedVariable(
            desired.name, f"it has a line break, which {platform.name} cannot hold", "write it in base64 or in one line"
        )
    return None
