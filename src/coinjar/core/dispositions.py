"""Decide what happens to each variable when a set moves from one place to another. Pure."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from typing import NamedTuple

from coinjar.core.names import ALL, nearest

CARRIED, RENAMED, REPLACED, LEFT, SUPPLIED, GIVEN = (
    "carried",
    "renamed",
    "replaced",
    "left_behind",
    "supplied",
    "to_be_given",
)
DISPOSITIONS = (CARRIED, RENAMED, REPLACED, LEFT, SUPPLIED, GIVEN)
"""The groups of a sheet. `to_be_given`: the value cannot be read at the old place, or cannot be moved as it is."""

MOVED = (CARRIED, RENAMED, REPLACED, GIVEN)
"""Groups whose variables have a value of ours at the new place afterwards."""
NAMEABLE = (RENAMED, REPLACED, GIVEN)
"""Groups whose variables may get another name."""


class SourceValue(NamedTuple):
    """One variable at the old place: its value (None: not readable, or `differing`), and whether the old place sets it
    itself.
    """

    name: str
    stage: str
    service: str | None
    text: str | None
    secret: bool = False
    supplied: bool = False
    differing: str = ""
    """The stages that become one here, if their values differ (then there is no text)."""

    @property
    def where(self) -> str:
        """Return stage and service as one word; `all` where the place distinguishes neither."""
        return f"{self.stage or ALL}/{self.service}" if self.service else self.stage or ALL


def stage_and_service(where: str) -> tuple[str, str | None]:
    """Return the stage ("" for all) and the service of such a word."""
    stage, _, service = where.partition("/")
    return "" if stage == ALL else stage, service or None


class RejectedValue(NamedTuple):
    """Why the new place cannot have a variable.

    `what`: its name, its value, its emptiness, or a name that the place reserves or supplies.
    """

    what: str
    reason: str


NAME, VALUE, EMPTY, KEPT, GIVES = "name", "value", "empty", "reserved", "supplied"


class MigrationContext(NamedTuple):
    """What is known besides the old place.

    `rejection` says by name and value why the new place cannot have a variable. `takes` says why it does not take a
    variable for a stage and service (None: it does). `jar` returns (declared, value or None). `existing` returns what
    the new place already has. `mentioned` is None where no code is known.
    """

    old: str
    new: str
    rejection: Callable[[str, str], RejectedValue | None]
    takes: Callable[[SourceValue], str | None]
    jar: Callable[[SourceValue], tuple[bool, str | None]]
    existing: Callable[[SourceValue, str], str | None]
    mentioned: Mapping[str, list[str]] | None = None
    known_names: Iterable[str] = ()
    has_jar: bool = True
    folds_case: bool = False
    """Whether the new place ignores case in names."""
    renamed: Callable[[str], str | None] = lambda _: None
    """Returns the jar's variable that had this name before (None: none)."""


class Disposition(NamedTuple):
    """What happens to one variable in one place, under which name, and why."""

    group: str
    name: str
    why: str


class SheetEntry(NamedTuple):
    """One line of a sheet: a variable with the same disposition in all these places."""

    group: str
    variable: str
    where: tuple[str, ...]
    new_name: str
    why: str
    secret: bool


# The questions in their order, an answer each.
def disposition_of(source_value: SourceValue, context: MigrationContext) -> Disposition:  # noqa: C901, PLR0911
    """Return what happens to a variable."""
    declared, in_jar = context.jar(source_value)
    if source_value.supplied:
        return _was_supplied(source_value, context, declared=declared)
    refused = context.rejection(source_value.name, source_value.text or in_jar or "x")
    if refused and refused.what == GIVES:
        return Disposition(SUPPLIED, source_value.name, f"{context.new} sets it itself")
    if refused and refused.what == KEPT:
        return Disposition(LEFT, source_value.name, refused.reason)
    if owner := context.renamed(source_value.name):
        return Disposition(
            LEFT, source_value.name, f"a former name of {owner}, which is delivered under its declared names"
        )
    if words := context.takes(source_value):
        return Disposition(LEFT, source_value.name, words)
    if source_value.text is None and in_jar is None:
        return Disposition(
            GIVEN,
            source_value.name,
            _not_read(source_value, context) + (", and the jar does not have it" if context.has_jar else ""),
        )
    if context.mentioned is not None and not declared and source_value.name not in context.mentioned:
        return Disposition(LEFT, source_value.name, "no code uses it; to keep it, move this line to carried")
    if refused and refused.what in (VALUE, EMPTY):
        return Disposition(GIVEN, source_value.name, refused.reason)
    if refused:
        return _under_another_name(source_value, context, refused.reason, in_jar)
    if source_value.text is None:
        return Disposition(REPLACED, source_value.name, f"{_not_read(source_value, context)}: the jar's is used")
    if in_jar is not None and in_jar != source_value.text:
        return Disposition(
            REPLACED, source_value.name, f"the jar's value differs from that of {context.old}: the jar's is used"
        )
    return Disposition(CARRIED, source_value.name, _carried(source_value, context, declared=declared, in_jar=in_jar))


def _not_read(source_value: SourceValue, context: MigrationContext) -> str:
    """Return why there is no value of the old place."""
    if source_value.differing:
        return f"{source_value.differing} have different values at {context.old}"
    return f"{context.old} does not return its value"


def _under_another_name(
    source_value: SourceValue, context: MigrationContext, reason: str, in_jar: str | None, taken: Iterable[str] = ()
) -> Disposition:
    """Return the disposition of a variable whose name the new place does not accept; its value may be refused, too."""
    new = proposed_name(source_value.name, context, taken)
    why = reason + _mentioned_in(context, source_value.name)
    if not new:
        return Disposition(LEFT, source_value.name, f"{why}; to keep it, move this line to renamed, with as: NAME")
    refused = context.rejection(new, source_value.text or in_jar or "x")
    if refused:
        return Disposition(GIVEN, new, f"{why}; {refused.reason}")
    if source_value.text is None:
        return Disposition(REPLACED, new, f"{why}; {_not_read(source_value, context)}: the jar's is used")
    if in_jar is not None and in_jar != source_value.text:
        return Disposition(REPLACED, new, f"{why}; the jar's value differs from that of {context.old}, and is used")
    return Disposition(RENAMED, new, why)


def _was_supplied(source_value: SourceValue, context: MigrationContext, *, declared: bool) -> Disposition:
    refused = context.rejection(source_value.name, source_value.text or "x")
    if refused and refused.what == GIVES:
        return Disposition(SUPPLIED, source_value.name, f"{context.new} sets it itself, as {context.old} did")
    needed = declared or (context.mentioned is not None and source_value.name in context.mentioned)
    if needed and not context.takes(source_value):
        return Disposition(GIVEN, source_value.name, f"{context.old} set it itself, but {context.new} does not")
    return Disposition(LEFT, source_value.name, f"{context.old} set it itself, and nothing else uses it")


def _carried(source_value: SourceValue, context: MigrationContext, *, declared: bool, in_jar: str | None) -> str:
    words = (
        "as in the jar"
        if in_jar is not None
        else "the jar takes the value over"
        if declared
        else "not in the jar: it will be declared"
    )
    words = words if context.has_jar else "unchanged"
    there = context.existing(source_value, source_value.name)
    if there is None:
        return words
    return (
        f"{words}; {context.new} has it already"
        if there == source_value.text
        else f"{words}; {context.new} has a different value, which is overwritten"
    )


def _mentioned_in(context: MigrationContext, name: str) -> str:
    places = (context.mentioned or {}).get(name, [])
    return (
        f"; used in {', '.join(places[:3])}{f' and {len(places) - 3} more' if len(places) > 3 else ''}"
        if places
        else ""
    )


_LENGTHS = (64, 40, 32, 20, 12, 8)
"""Lengths to which a name is truncated, for a place that refuses longer ones."""


def proposed_name(name: str, context: MigrationContext, taken: Iterable[str] = ()) -> str:
    """Return a name that the new place accepts and that is not taken there; "" if none of the usual spellings is.

    Words are separated by '_', in capitals or in small letters, or by '-' or '.'; without a leading digit; truncated if
    too long.
    """
    used = {_folded(other, context) for other in taken}
    words = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name)
    words = re.sub(r"[^A-Za-z0-9]+", "_", words).strip("_") or "RENAMED"
    words = f"V_{words}" if words[0].isdigit() else words

    def is_free(candidate: str) -> bool:
        return _folded(candidate, context) not in used and context.rejection(candidate, "x") is None

    plain = words.replace("_", "").casefold()
    known = [other for other in context.known_names if other.replace("_", "").casefold() == plain]
    if (near := nearest(name, known)) and is_free(near):
        return near
    small = words.lower()
    spellings = [(words.upper(), "_"), (small, "_"), (small.replace("_", "-"), "-"), (small.replace("_", "."), ".")]
    for number in ("", *range(2, 100)):
        for spelling, separator in spellings:
            ending = f"{separator}{number}" if number else ""
            for length in dict.fromkeys((len(spelling) + len(ending), *_LENGTHS)):
                candidate = spelling[: length - len(ending)].rstrip("_-.") + ending
                if is_free(candidate):
                    return candidate
    return ""


def _folded(name: str, context: MigrationContext) -> str:
    return name.casefold() if context.folds_case else name


def entries(result: Iterable[SourceValue], context: MigrationContext) -> list[SheetEntry]:
    """Return the lines of a sheet: the places of a variable with the same disposition together, ordered by group and
    name. No two variables of a place get one name.
    """
    lines: dict[tuple[str, str, str, str], list[SourceValue]] = {}
    decided = [(source_value, disposition_of(source_value, context)) for source_value in result]
    decided.sort(key=lambda item: item[1].name != item[0].name)  # those that keep their name come first
    taken: dict[str, dict[str, str]] = {}
    for source_value, first in decided:
        what = first
        names = taken.setdefault(source_value.where, {})
        other = names.get(_folded(what.name, context))
        if what.group in MOVED and other is not None:
            reason = (
                f"{context.new} ignores case: this and {other} are the same name there"
                if what.name == source_value.name
                else what.why
            )
            in_jar = context.jar(source_value)[1]
            what = _under_another_name(source_value, context, reason, in_jar, names.values())
        if what.group in MOVED:
            names[_folded(what.name, context)] = what.name
        lines.setdefault((what.group, source_value.name, what.name, what.why), []).append(source_value)
    entries = [
        SheetEntry(
            group,
            variable,
            tuple(dict.fromkeys(source_value.where for source_value in places)),
            becomes,
            why,
            any(source_value.secret for source_value in places),
        )
        for (group, variable, becomes, why), places in lines.items()
    ]
    return sorted(entries, key=lambda entry: (DISPOSITIONS.index(entry.group), entry.variable, entry.where))


class InboundReference(NamedTuple):
    """A value that contains an address of the old place: where it is set, and its replacement (a reference or a text;
    "" if unknown).
    """

    variable: str
    stage: str
    scope: str
    address: str
    replacement: str
    why: str


def in_order(services: Iterable[str], needs: Mapping[str, set[str]]) -> list[str]:
    """Return the services, each after those that it depends on; a cycle is entered where it is first met."""
    ordered: list[str] = []
    open_ones: set[str] = set()

    def add(name: str) -> None:
        if name in ordered or name in open_ones:
            return
        open_ones.add(name)
        for other in sorted(needs.get(name, ())):
            add(other)
        ordered.append(name)

    wanted = list(services)
    for name in wanted:
        add(name)
    return [name for name in ordered if name in wanted]
