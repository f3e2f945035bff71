"""`coinjar put`."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated

import typer

from coinjar.cli.common import (
    JarOption,
    LabelOption,
    ServicesOption,
    YesOption,
    confirm_patterns,
    label_first_reader,
    layer_names,
    named_variables,
    open_here,
    variable_names,
)
from coinjar.cli.opening import print_status
from coinjar.cli.structure import DryRunOption
from coinjar.core.errors import UsageError
from coinjar.core.utf8 import decode_value

if TYPE_CHECKING:
    from coinjar.actions.editing.values import AssignedValue, Assignment


def run(
    ctx: typer.Context,
    assignments: Annotated[
        list[str],
        typer.Argument(
            metavar="NAME=VALUE...",
            autocompletion=variable_names,
            help="What to set. The value of a NAME alone is asked for, or read from stdin.",
        ),
    ],
    stage: Annotated[
        list[str],
        typer.Option(
            "--stage",
            metavar="STAGE",
            autocompletion=layer_names,
            help="The stage, or shared for every stage; may be repeated.",
        ),
    ],
    service: ServicesOption = None,
    unset: Annotated[bool, typer.Option("--unset", help="Unset the names, also patterns; inherit nothing.")] = False,
    text: Annotated[
        bool,
        typer.Option("--text", help="The values are texts with references: ${NAME}."),
    ] = False,
    mine: Annotated[bool, typer.Option("--mine", help="Set your own values, which are never committed.")] = False,
    declare: Annotated[bool, typer.Option("--declare", help="Declare new names. Default: refuse them.")] = False,
    secret: Annotated[
        bool,
        typer.Option("--secret", help="With --declare: declare secrets. Default: guessed."),
    ] = False,
    empty: Annotated[
        bool,
        typer.Option("--empty", help="Accept an empty input as the empty text."),
    ] = False,
    exact: Annotated[bool, typer.Option("--exact", help="Keep the final line break of stdin.")] = False,
    set_on: Annotated[
        str | None,
        typer.Option("--set-on", metavar="DATE", help="The day when the value of a secret was set. Default: today."),
    ] = None,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    label: LabelOption = None,
    jar: JarOption = None,
) -> None:
    """Set values, for one stage or several, for one service or all.

    The value of a secret is never read from the command line, where others can see it: give its NAME alone.
    """
    from coinjar.actions.editing.values import OnlyChecked, put

    opened = open_here(ctx, jar)
    if unset and text:
        raise UsageError("--unset and --text exclude each other", hint="omit one")
    if secret and not declare:
        raise UsageError("--secret is for new variables", hint="add --declare, or omit it")
    since = _past_day(set_on) if set_on is not None else None
    label_first_reader(opened, label)
    if unset:
        given, assignments = assignments, named_variables(opened.load(), assignments)
        confirm_patterns(given, assignments, f"Unset on {', '.join(stage)}", dry_run=dry_run, yes=yes)
    puttings = (
        [_unset(assignment) for assignment in assignments]
        if unset
        else _read(assignments, references=text, empty=empty, exact=exact)
    )
    services = list(dict.fromkeys(service or []))
    try:
        done = put(
            opened,
            puttings,
            list(dict.fromkeys(stage)),
            services=services,
            declare=declare,
            mine=mine,
            as_secret=secret,
            set_on=since,
            only_checks=dry_run,
        )
    except OnlyChecked:
        names = ", ".join(assignment.name for assignment in puttings)
        print_status(f"{names}: can be set on {', '.join(stage)}. Nothing was written.")
        raise typer.Exit(1) from None
    for note in done.notes:
        print_status(note)
    for assigned in done.puts:
        _tell(assigned, mine)


def _past_day(text: str) -> str:
    """Return a day as ISO 8601 writes it. Raises UsageError for another text, and for a day to come."""
    from datetime import UTC, date, datetime

    try:
        day = date.fromisoformat(text)
    except ValueError:
        raise UsageError(f"'{text}' is no day", hint="write it as 2026-08-31", code="date") from None
    if day > datetime.now(UTC).date():
        raise UsageError(f"{day} is in the future", hint="give the day when the value was set", code="date")
    return day.isoformat()


def _unset(name: str) -> Assignment:
    from coinjar.actions.editing.values import Assignment
    from coinjar.core.definition import UNSET

    if "=" in name:
        raise UsageError(
            f"--unset requires names alone, not {name.partition('=')[0]}=…", hint="omit the '=' and the value"
        )
    return Assignment(name, UNSET)


def _read(assignments: list[str], *, references: bool, empty: bool, exact: bool) -> list[Assignment]:
    from coinjar.actions.editing.values import Assignment
    from coinjar.core.references import parse_template

    alone = [assignment for assignment in assignments if "=" not in assignment]
    if len(alone) > 1 and not sys.stdin.isatty():
        raise UsageError(
            f"stdin contains one value, but {len(alone)} are needed: {', '.join(alone)}",
            hint="set them one at a time",
        )
    names = [assignment.partition("=")[0] for assignment in assignments]
    if twice := next((name for name in names if names.count(name) > 1), None):
        raise UsageError(f"{twice} is given twice", hint="omit one")
    found = []
    for assignment in assignments:
        name, equals, value = assignment.partition("=")
        if not name:
            raise UsageError("there is no name before the '='", hint="write NAME=VALUE")
        if not equals:
            value = _from_person(name) if sys.stdin.isatty() else _from_stdin(name, exact=exact)
            if not value and not empty:
                message = f"nothing was {'typed' if sys.stdin.isatty() else 'read from stdin'} for {name}"
                raise UsageError(message, hint="for an empty text add --empty; for no value --unset", code="empty")
        found.append(Assignment(name, parse_template(value) if references else value, in_argv=bool(equals)))
    return found


def _from_person(name: str) -> str:
    return str(typer.prompt(f"{name} (not shown)", hide_input=True, default="", show_default=False, err=True))


def _from_stdin(name: str, *, exact: bool) -> str:
    """Return stdin without the line break that `echo` and editors add at the end; a PEM text keeps it, since its
    readers require it.
    """
    hint = "encode bytes first, for example as base64"
    value = decode_value(sys.stdin.buffer.read(), f"the input for {name}", hint)
    if exact or not value.endswith("\n") or value.lstrip().startswith("-----BEGIN "):
        return value
    print_status(f"note: the line break at the end of {name} was removed (--exact keeps it)")
    return value.removesuffix("\n").removesuffix("\r")


def _tell(done: AssignedValue, mine: bool) -> None:
    whom = "" if done.scope == "all" else f" for {done.scope}"
    verb = "encrypted" if done.sealed else "set"
    words = f"declared and {verb}" if done.declared else verb
    within = f" for {', '.join(done.sealed)}" if done.sealed and done.sealed != (done.scope,) else whom
    print_status(f"{done.name}: {words} on {done.stage}{within} ({done.file}){', only for you' if mine else ''}")
    if done.was_plain:
        print_status(
            f"note: it was removed from {done.was_plain}; if that was committed, the history still contains the old "
            "value: replace it where that matters"
        )
    if done.beaten_for:
        print_status(
            f"note: {', '.join(done.beaten_for)} still gets another value: `coinjar why {done.stage} {done.name} "
            f"--service {done.beaten_for[0]}`"
        )
