"""`coinjar history`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    NameArgument,
    SecretsOption,
    counted,
    open_here,
    print_json,
    stage_names,
)
from coinjar.cli.opening import print_status

if TYPE_CHECKING:
    from coinjar.actions.comparing.variable_history import HistoryEvent
    from coinjar.core.display import Masker


def run(
    ctx: typer.Context,
    name: NameArgument,
    stage: Annotated[
        str | None,
        typer.Option(
            "--stage", metavar="STAGE", autocompletion=stage_names, help="Only what this stage gets. Default: all."
        ),
    ] = None,
    show_secrets: SecretsOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Show who set a variable when, on which stage, by the commits of version control, with the deliveries between.

    Equal secrets have the same number. Exit code 1 if a commit could not be looked at.
    """
    from coinjar.actions.comparing.variable_history import variable_history
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width
    from coinjar.core.display import Masker, visible

    history = variable_history(open_here(ctx, jar), name, stage)
    masker = Masker(show_secrets=show_secrets)
    if as_json:
        events = [_as_json(event, masker) for event in history.events]
        print_json({"name": name, "events": events, "not_looked_at": history.not_looked_at})
    else:
        show(styled(f"{name}: {counted(len(history.events), 'event')}", "bold"))
        rows = [
            [
                StyledText(f"{event.when:%Y-%m-%d %H:%M}" if event.when else "now", "dim"),
                StyledText(visible(event.who)),
                StyledText(event.action),
                StyledText(event.layer + (f" ({event.scope})" if event.scope != "all" else "")),
                StyledText(_words(event, masker)),
                StyledText(visible(event.origin), "dim"),
            ]
            for event in history.events
        ]
        titles = ["when", "who", "", "where", "value", "commit or delivery"]
        for line in table(titles, rows, least=[16, 8, 9, 10, 16, 12], width=terminal_width()) if rows else ():
            show(line)
    for what in history.not_looked_at:
        print_status(f"not looked at: {what}")
    if history.not_looked_at:
        raise typer.Exit(1)


def _words(event: HistoryEvent, masker: Masker) -> str:
    if event.text is None:
        return f"({event.note})" if event.note else ""
    return masker.show(event.text, secret=event.secret)


def _as_json(event: HistoryEvent, masker: Masker) -> dict[str, Any]:
    hidden = event.secret and not masker.show_secrets
    shown: dict[str, Any] = {
        "when": event.when.isoformat() if event.when else None,
        "who": event.who,
        "action": event.action,
        "layer": event.layer,
        "scope": event.scope,
        "value": None if hidden or event.text is None else str(event.text),
        "note": event.note,
        "origin": event.origin,
    }
    return shown | ({"masked": masker.mask(event.text)} if hidden and event.text is not None else {})
