"""Names of variables as people give them: whole names, and patterns with *, ? and [."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from coinjar.core.errors import UsageError, raise_all
from coinjar.core.names import matches, suggestion


def is_pattern(name: str) -> bool:
    """Return whether a given name is a pattern."""
    return any(sign in name for sign in "*?[")


def matched(given: Sequence[str], known: Iterable[str], what: str = "variable") -> list[str]:
    """Return the known names that the given names and patterns mean, each once.

    Raises UsageError for every one that means nothing.
    """
    names = list(known)
    faults = []
    result: dict[str, None] = {}
    for word in given:
        found = [name for name in names if name == word] or (
            [name for name in names if matches(name, [word])] if is_pattern(word) else []
        )
        result |= dict.fromkeys(found)
        if not found and is_pattern(word):
            faults.append(UsageError(f"no {what} matches '{word}'", hint="`coinjar grid` lists them", code="no-match"))
        elif not found:
            hint = suggestion(word, names, "`coinjar grid` lists them")
            faults.append(UsageError(f"there is no {what} '{word}'", hint=hint, code=f"unknown-{what}"))
    raise_all([*faults])
    return list(result)
