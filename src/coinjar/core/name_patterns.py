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


def renamed_by_pattern(old: str, new: str, known: Iterable[str]) -> dict[str, str]:
    """Return the new names of all that match a pattern with one `*`, which stands for the same text in both.

    Raises UsageError for other patterns, and if nothing matches.
    """
    before, star, behind = old.partition("*")
    if old.count("*") != 1 or new.count("*") != 1 or any(sign in old + new for sign in "?["):
        hint = "write `coinjar rename 'MAIL_*' 'SMTP_*'`"
        raise UsageError("both patterns need exactly one *", hint=hint, code="pattern")
    names = [name for name in known if matches(name, [before + star + behind])]
    if not names:
        raise UsageError(f"no variable matches '{old}'", hint="`coinjar grid` lists them", code="no-match")
    return {name: new.replace("*", name[len(before) : len(name) - len(behind)]) for name in names}
