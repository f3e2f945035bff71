"""`coinjar why --in`: what a step of a document sees."""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from coinjar.cli.common import open_here, print_json
from coinjar.core.errors import CoinJarError, UsageError

if TYPE_CHECKING:
    from coinjar.actions.comparing.document_environment import EffectiveEntry
    from coinjar.actions.open_jar import OpenJar
    from coinjar.core.display import Masker


def tell_level(
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
    from coinjar.actions.comparing.document_environment import look_inside
    from coinjar.core.display import Masker

    if inside is None or at is None or len(where) > 2:
        raise UsageError(
            "--in and --at go together, with a variable", hint="`coinjar why NAME --in DOCUMENT --at POINTER`"
        )
    opened: OpenJar | None
    try:
        opened = open_here(ctx, jar)
    except CoinJarError as fault:
        if fault.code != "no-jar" or jar:
            raise
        opened = None  # any document can be asked
    found = look_inside(opened, where[-1], inside, at, where[0] if len(where) == 2 else None)
    masker = Masker(show_secrets=show_secrets)
    if as_json:
        print_json(_as_json(found, masker))
    else:
        _show(found, masker)


def _as_json(found: EffectiveEntry, masker: Masker) -> dict[str, object]:
    hidden = found.secret and not masker.show_secrets

    def text(value: str | None) -> str | None:
        return None if hidden or value is None else value

    return {
        "name": found.name,
        "at": found.pointer,
        "value": text(found.text),
        "has_value": found.text is not None,
        "secret": found.secret,
        "levels": [
            {
                "at": level_value.pointer,
                "says": text(level_value.text),
                "wins": level_value.wins,
                "file": level_value.place.file,
                "line": level_value.place.line,
                "column": level_value.place.column,
            }
            for level_value in found.says
        ],
        "remarks": found.remarks,
    }


def _show(found: EffectiveEntry, masker: Masker) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    words = "no value" if found.text is None else masker.show(found.text, secret=found.secret)
    show(styled(f"{found.name} = {words}", "bold"))
    show(f"at {found.pointer}")
    rows = []
    for level_value in found.says:
        verdict = StyledText("✓ wins", "green") if level_value.wins else StyledText("  covered", "dim")
        says = StyledText(masker.show(level_value.text, secret=found.secret), "bold" if level_value.wins else "dim")
        rows.append([verdict, StyledText(level_value.pointer), says, StyledText(str(level_value.place), "cyan")])
    if rows:
        show("")
        for row in table(
            ["", "level, narrowest first", "says", "where"], rows, least=[9, 24, 16, 20], width=terminal_width()
        ):
            show(row)
    else:
        show("No level of the document says anything of it.")
    for remark in found.remarks:
        show("")
        show(styled(f"Note: {remark}.", "yellow"))
