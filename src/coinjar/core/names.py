"""The grammar of names, and the declared name nearest to a mistyped one."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from fnmatch import translate
from functools import lru_cache
from typing import NewType

StageName = NewType("StageName", str)
ServiceName = NewType("ServiceName", str)
VariableName = NewType("VariableName", str)

ALL = "all"
SHARED = "shared"
OWN_PREFIX = "COINJAR_"
"""Prefix of Coin Jar's own environment variables; programs that it starts do not get them."""
RESERVED = frozenset({ALL, SHARED})

SMALL_NAME = r"[a-z0-9](?:[a-z0-9_-]{0,61}[a-z0-9])?"
STAGE_PATTERN = r"[a-z0-9](?:[a-z0-9_-]{0,60})\*"
# IEEE 1003.1, 8.1: what a shell can assign; a jar may contain more, for consumers that accept more.
SHELL_NAME = r"[A-Za-z_][A-Za-z0-9_]*"
ANY_NAME = r"[^\s=\x00-\x1f\x7f]{1,255}"


def shell_can_set(name: str) -> bool:
    """Return whether a POSIX shell can assign to this name."""
    return re.fullmatch(SHELL_NAME, name) is not None


def quoted_name(text: str) -> str:
    """Return a name for a message. A text that is not a name may be part of a multi-line secret, and is not shown."""
    return f"'{text}'" if re.fullmatch(r"[\w.-]{1,40}", text) else "this text"


_LONGEST_NAME = 255


def name_fault(what: str, name: str) -> str | None:
    """Return why `name` cannot name a stage, service, set, application or variable (`what`); None if it can."""
    if what == "variable":
        if len(name) > _LONGEST_NAME:
            return f"a variable's name has at most {_LONGEST_NAME} characters"
        ok = re.fullmatch(ANY_NAME, name) and not name.startswith("#")
        return None if ok else "a variable's name contains no spaces, '=' or control characters"
    if name in RESERVED:
        return f"'{name}' is a reserved name"
    if what == "stage" and "*" in name:
        return None if re.fullmatch(STAGE_PATTERN, name) else "a stage pattern is a stage's name that ends with '*'"
    if re.fullmatch(SMALL_NAME, name):
        return None
    return f"a {what}'s name is 1 to 63 of a-z, 0-9, '-' and '_', with a letter or digit at both ends"


def matches(name: str, patterns: Iterable[str]) -> bool:
    """Return whether a name matches one of these patterns (`MAIL_*`)."""
    return _matcher(tuple(patterns))(name) is not None


@lru_cache(maxsize=256)
def _matcher(patterns: tuple[str, ...]) -> Callable[[str], re.Match[str] | None]:
    """One expression for all: destinations name hundreds, and ask of thousands of names."""
    return re.compile("|".join(map(translate, patterns)) or r"(?!)").match


def same_but_for_case(names: Iterable[str], others: Iterable[str]) -> list[tuple[str, str]]:
    """Return the pairs of a name and another that differ only in case: to a program they are two names."""
    folded = {other.casefold(): other for other in others}
    pairs = [(name, folded.get(name.casefold(), name)) for name in names]
    return [(name, other) for name, other in pairs if name != other]


def nearest(name: str, known: Iterable[str]) -> str | None:
    """Return the known name that `name` most likely means, or None if none is near."""
    from difflib import get_close_matches

    by_fold = {other.casefold(): other for other in known}
    result = get_close_matches(name.casefold(), by_fold, n=1, cutoff=0.6)
    return by_fold[result[0]] if result else None


def suggestion(name: str, known: Iterable[str], else_say: str) -> str:
    """Return a hint: the nearest known name, or `else_say`."""
    near = nearest(name, known)
    return f"did you mean '{near}'?" if near else else_say
