"""The history of a variable: who set it when, on which stage, by version control; and the deliveries between."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from datetime import UTC, datetime
from typing import NamedTuple

from coinjar.actions.delivery.records import open_records
from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import (
    Command,
    Content,
    Definition,
    FromEnv,
    FromFile,
    FromJar,
    FromStore,
    Undecryptable,
    Unset,
)
from coinjar.core.errors import CoinJarError, is_encrypted_for_others
from coinjar.core.model import Jar, Variable
from coinjar.core.references import Template
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.revision import RevisionKeyRing, load_revision
from coinjar.records.rows import VariableDelivery
from coinjar.system.revisions import Commit, RevisionFiles, commits_of

SET, CHANGED, REMOVED, DELIVERED, UNREADABLE = "set", "changed", "removed", "delivered", "not readable"


class HistoryEvent(NamedTuple):
    """One event: when (with a zone; None: not committed yet), who, what, where, the value if it was set, and the commit
    or the delivery.
    """

    when: datetime | None
    who: str
    action: str
    layer: str
    scope: str
    text: str | None
    note: str
    secret: bool
    origin: str


class VariableHistory(NamedTuple):
    """The events, oldest first; and what could not be looked at."""

    events: list[HistoryEvent]
    not_looked_at: list[str]


Slots = dict[tuple[str, str], Definition]


def variable_history(opened: OpenJar, name: str, stage: str | None) -> VariableHistory:
    """Return the history of a variable, also under its earlier names. `stage` limits it to what is set on that stage or
    on what it inherits from.

    Raises UsageError for a name or stage that does not exist, and without version control, ExternalError.
    """
    jar = opened.load()
    variable = jar.variable(name)
    limits = {"default", "shared", *jar.chain(stage)} if stage else None
    formerly = {old: str(now.name) for now in jar.stages.values() for old in now.formerly}
    events: list[HistoryEvent] = []
    unread: list[str] = []
    before: Slots = {}
    closed = False
    files = RevisionFiles(opened.folder)
    names = (name, *variable.formerly)
    for commit in commits_of(opened.folder):
        found = files.at(commit.name)
        if not found:
            continue
        label = commit.name[:7]
        try:
            then = load_revision(found, label, RevisionKeyRing(opened.folder, opened.identity, found))
        except CoinJarError as fault:
            unread.append(f"{label} ({commit.subject}): {fault.each()[0].message}")
            continue
        after = _slots(then, names, formerly)
        events += _changes(variable, before, after, commit)
        closed |= _closed(before, after)
        before = after
    now = _slots(jar, names, formerly)
    events += _changes(variable, before, now, None)
    if closed | _closed(before, now):
        unread.append("changes of encrypted values that you cannot decrypt")
    events = [event for event in events if limits is None or event.layer in limits]
    deliveries, why = _deliveries(opened, jar, names)
    events += [event for event in deliveries if limits is None or event.layer in limits]
    if why:
        unread.append(f"the deliveries: {why}")
    return VariableHistory(sorted(events, key=lambda event: event.when or datetime.max.replace(tzinfo=UTC)), unread)


def _slots(jar: Jar, names: tuple[str, ...], formerly: dict[str, str]) -> Slots:
    """Return the definitions of a variable under any of its names, by layer and scope; a stage by its present name."""
    result: Slots = {}
    for name in names:
        declared = jar.variables.get(name)
        if declared is not None and declared.default is not None:
            result["default", "all"] = declared.default
        for layer, scopes in jar.plain.items():
            for scope, values in scopes.items():
                if name in values:
                    result[formerly.get(layer, layer), scope] = values[name]
    return result


def _changes(variable: Variable, before: Slots, after: Slots, commit: Commit | None) -> Iterator[HistoryEvent]:
    for slot in dict.fromkeys([*before, *after]):
        old, new = before.get(slot), after.get(slot)
        if old is not None and new is not None and _same(old.content, new.content):
            continue
        action = REMOVED if new is None else SET if old is None else CHANGED
        text, note = _shown(new.content) if new is not None else (None, "")
        yield HistoryEvent(
            commit.when if commit else None,
            commit.who if commit else "you",
            action,
            *slot,
            text,
            note,
            variable.secret,
            f"{commit.name[:7]} {commit.subject}" if commit else "not committed",
        )


def _same(old: Content, new: Content) -> bool:
    if isinstance(old, Undecryptable) and isinstance(new, Undecryptable):
        return True  # neither can be compared
    return type(old) is type(new) and old == new


def _closed(before: Slots, after: Slots) -> bool:
    """Return whether a value could not be compared, because neither of its versions can be decrypted."""
    return any(
        isinstance(old.content, Undecryptable) and isinstance(after[slot].content, Undecryptable)
        for slot, old in before.items()
        if slot in after
    )


def _shown(content: Content) -> tuple[str | None, str]:
    """Return the text of a value, or None and what it is."""
    if isinstance(content, str):
        return content, ""
    if isinstance(content, Template):
        return content.source, "references"
    if isinstance(content, Undecryptable):
        return None, "encrypted for others" if is_encrypted_for_others(content.fault) else "cannot be decrypted"
    if isinstance(content, Unset):
        return None, "unset on purpose"
    forms = {Command: "from a command", FromFile: "from a file", FromEnv: "from the environment", FromStore: "stored"}
    forms |= {FromJar: "from another jar"}
    return None, forms[type(content)]


def _deliveries(opened: OpenJar, jar: Jar, names: tuple[str, ...]) -> tuple[list[HistoryEvent], str]:
    """Return the deliveries that changed the variable somewhere; and why they are unknown."""
    if jar.records is None and not JarLayout(opened.folder).records.exists():
        return [], ""
    try:
        with closing(open_records(opened, jar)) as records:
            return [_delivered(item) for item in records.of_variable(names)], ""
    except CoinJarError as fault:
        return [], fault.message


def _delivered(item: VariableDelivery) -> HistoryEvent:
    return HistoryEvent(
        item.started.replace(tzinfo=UTC),
        item.who,
        f"{DELIVERED}: {item.action}",
        item.stage,
        item.target.partition("@")[0] or "all",
        None,
        f"to {item.destination}",
        item.secret,
        f"delivery {item.number}",
    )
