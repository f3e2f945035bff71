"""`coinjar why --in`: which value a step of a document gets."""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from coinjar.cli.common import open_here, print_json
from coinjar.core.errors import CoinJarError, UsageError

if TYPE_CHECKING:
    from coinjar.actions.comparing.document_environment import EffectiveEntry
    from coinjar.actions.open_jar import OpenJar
    from coinjar.core.display import Masker


def show_level(
    ctx: typer.Context,
    where: list[str],
    inside: str | None,
    at: str | None,
    jar: str | None,
    *,
    show_secrets: bool,
    as_json: bool,
) -> None:
    """Show which level of a document decides a variable."""
    from coinjar.actions.comparing.document_environment import effective_entry
    from coinjar.core.display import Masker

    if inside is None or at is None or len(where) > 2:
        raise UsageError(
            "--in and --at require each other, and a variable", hint="`coinjar why NAME --in DOCUMENT --at POINTER`"
        )
    opened: OpenJar | None
    try:
        opened = open_here(ctx, jar)
    except CoinJarError as fault:
        if fault.code != "no-jar" or jar:
            raise
        opened = None  # the document need not be in a jar
    effective = effective_entry(opened, where[-1], inside, at, where[0] if len(where) == 2 else None)
    masker = Masker(show_secrets=show_secrets)
    if as_json:
        print_json(_as_json(effective, masker))
    else:
        _show(effective, masker)


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
