"""`coinjar why --in`: which value a step of a document gets, or everything that it sees."""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from coinjar.cli.common import counted, open_here, print_json
from coinjar.core.errors import CoinJarError, UsageError

if TYPE_CHECKING:
    from coinjar.actions.comparing.document_environment import EffectiveEntry
    from coinjar.actions.comparing.seen_variables import SeenVariable
    from coinjar.actions.open_jar import OpenJar
    from coinjar.cli.why import InsideQuestion
    from coinjar.core.display import Masker


def show_inside(
    ctx: typer.Context, question: InsideQuestion, jar: str | None, *, show_secrets: bool, as_json: bool
) -> None:
    """Show which level of a document decides a variable; without one, everything that is seen there."""
    from coinjar.core.display import Masker

    opened: OpenJar | None
    try:
        opened = open_here(ctx, jar)
    except CoinJarError as fault:
        if fault.code != "no-jar" or jar:
            raise
        opened = None  # the document need not be in a jar
    masker = Masker(show_secrets=show_secrets)
    where, inside = question.where, question.inside
    stage = where[0] if where and opened and where[0] in opened.load().stage_names() else None
    if inside is not None and (not where or [stage] == where):
        _show_everything(opened, question, inside, stage, masker, as_json=as_json)
        return
    if inside is None or question.at is None or len(where) > 2:
        raise UsageError(
            "--in and --at require each other, and a variable",
            hint="`coinjar why NAME --in DOCUMENT --at POINTER`; without NAME, everything that is there",
        )
    from coinjar.actions.comparing.document_environment import effective_entry
    from coinjar.jarfile.runner_files import load_runner

    runner = load_runner(opened.folder if opened else None, question.runner) if question.runner else None
    given = where[0] if len(where) == 2 else None
    effective = effective_entry(opened, where[-1], inside, question.at, given, runner)
    if as_json:
        print_json(_as_json(effective, masker))
    else:
        _show(effective, masker)


def _show_everything(
    opened: OpenJar | None,
    question: InsideQuestion,
    inside: str,
    stage: str | None,
    masker: Masker,
    *,
    as_json: bool,
) -> None:
    """Show everything that an environment of a document sees, or that a source holds. Raises UsageError."""
    from coinjar.actions.comparing.seen_variables import is_other_source, seen_in_document, seen_in_source

    if is_other_source(inside):
        if question.at is not None or question.runner is not None:
            raise UsageError("--at and --runner are for documents", hint=f"omit them for {inside}")
        at, seen = inside, seen_in_source(opened, inside, [question.service] if question.service else [])
    elif question.at is None:
        raise UsageError("which environment?", hint="name the step, the job or the container with --at POINTER")
    else:
        at, seen = seen_in_document(opened, inside, question.at, stage, question.runner)
    if as_json:
        print_json({"at": at, "variables": [_seen_json(variable, masker) for variable in seen]})
        return
    _show_seen(at, seen, masker)


def _seen_json(variable: SeenVariable, masker: Masker) -> dict[str, object]:
    hidden = variable.secret and not masker.show_secrets
    return {
        "name": variable.name,
        "value": None if hidden else variable.text,
        "secret": variable.secret,
        "level": variable.level,
        "where": variable.where,
        "jar": variable.jar or None,
    }


def _show_seen(at: str, seen: list[SeenVariable], masker: Masker) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    show(styled(f"{at} sees {counted(len(seen), 'variable')}", "bold"))
    rows = [
        [
            StyledText(variable.name, "bold"),
            StyledText("" if variable.text is None else masker.show(variable.text, secret=variable.secret)),
            StyledText(variable.level),
            StyledText(variable.where, "cyan"),
            StyledText(variable.jar, "yellow" if variable.jar == "not declared" else ""),
        ]
        for variable in seen
    ]
    header = ["variable", "value", "level", "where", "in the jar"]
    for line in table(header, rows, least=[16, 14, 14, 16, 10], width=terminal_width()) if rows else []:
        show(line)


def _as_json(effective: EffectiveEntry, masker: Masker) -> dict[str, object]:
    hidden = effective.secret and not masker.show_secrets

    def text(value: str | None) -> str | None:
        return None if hidden or value is None else value

    return {
        "name": effective.name,
        "at": effective.pointer,
        "value": text(effective.text),
        "has_value": effective.text is not None,
        "secret": effective.secret,
        "levels": [
            {
                "at": level_value.pointer,
                "says": text(level_value.text),
                "wins": level_value.wins,
                "file": level_value.location.file,
                "line": level_value.location.line,
                "column": level_value.location.column,
            }
            for level_value in effective.levels
        ],
        "remarks": effective.remarks,
    }


def _show(effective: EffectiveEntry, masker: Masker) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    words = "no value" if effective.text is None else masker.show(effective.text, secret=effective.secret)
    show(styled(f"{effective.name} = {words}", "bold"))
    show(f"at {effective.pointer}")
    rows = []
    for level_value in effective.levels:
        verdict = StyledText("✓ wins", "green") if level_value.wins else StyledText("  overridden", "dim")
        says = StyledText(masker.show(level_value.text, secret=effective.secret), "bold" if level_value.wins else "dim")
        rows.append([verdict, StyledText(level_value.pointer), says, StyledText(str(level_value.location), "cyan")])
    if rows:
        show("")
        for row in table(
            ["", "level, narrowest first", "value", "where"], rows, least=[9, 24, 16, 20], width=terminal_width()
        ):
            show(row)
    else:
        show("No level of the document sets it.")
    for remark in effective.remarks:
        show("")
        show(styled(f"Note: {remark}.", "yellow"))
