"""`coinjar overdue`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    NamePatterns,
    counted,
    fits,
    known_stages,
    layer_names,
    open_here,
    print_json,
    warn_no_match,
)
from coinjar.cli.opening import print_status
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from datetime import date

    from coinjar.core.secret_ages import SecretAge


def run(
    ctx: typer.Context,
    stages: Annotated[
        list[str] | None,
        typer.Argument(metavar="[STAGE...]", autocompletion=layer_names, help="Only these. Default: all."),
    ] = None,
    name: NamePatterns = None,
    soon: Annotated[
        str | None,
        typer.Option(
            "--soon",
            metavar="TIME",
            help="What ends within it is soon, such as 30d. Default: 14d, or a quarter of its time.",
        ),
    ] = None,
    every: Annotated[bool, typer.Option("--all", help="All secrets with their ages.")] = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """List secrets that are older than they are good for (valid), or will be soon. Exit code 1 if there are
    any, and if not all could be looked at.
    """
    from datetime import UTC, datetime

    from coinjar.core.names import SHARED
    from coinjar.core.rules.secrets import plain_secret_count
    from coinjar.core.secret_ages import OVERDUE, SOON, UNDATED, days_of, secret_ages, undecryptable_count

    days = days_of(soon) if soon is not None else None
    if soon is not None and days is None:
        raise UsageError(f"'{soon}' is no span of time", hint="write days, weeks or years: 30d, 4w, 1y", code="usage")
    opened = open_here(ctx, jar)
    declared = opened.load()
    known_stages(declared, [stage for stage in stages or [] if stage != SHARED], "STAGE")
    warn_no_match(name, declared.secret_names)
    today = datetime.now(UTC).date()
    found = [
        age
        for age in secret_ages(declared, today, days)
        if fits(age.variable.name, name) and (not stages or age.layer in stages)
    ]
    due = [age for age in found if age.state in (OVERDUE, SOON, UNDATED)]
    rows = sorted(found if every else due, key=lambda age: (age.good_until or today, age.variable.name, age.layer))
    limited = [str(variable.name) for variable in declared.variables.values() if variable.valid_days]
    limited = [variable for variable in limited if fits(variable, name)]
    asked = declared._replace(
        plain={layer: declared.plain[layer] for layer in declared.plain if not stages or layer in stages}
    )
    every_name = [secret for secret in declared.secret_names if fits(secret, name)]
    unread = undecryptable_count(asked, every_name if every else limited)
    plain = plain_secret_count(asked, limited)
    if as_json:
        print_json(
            {
                "today": today.isoformat(),
                "not_decrypted": unread,
                "in_plain_text": plain,
                "secrets": [_row(age, today) for age in rows],
            }
        )
    else:
        _show(rows, due, found, today)
    if unread:
        print_status(f"not looked at: {counted(unread, 'value')} encrypted for others")
    if plain:
        print_status(f"not looked at: {counted(plain, 'value')} in plain text: `coinjar readers seal` encrypts them")
    if due or unread or plain:
        raise typer.Exit(1)


def _row(age: SecretAge, today: date) -> dict[str, Any]:
    return {
        "name": age.variable.name,
        "layer": age.layer,
        "scopes": list(age.scopes),
        "state": age.state,
        "set_on": age.set_on.isoformat() if age.set_on else None,
        "days": age.days(today),
        "good_until": age.good_until.isoformat() if age.good_until else None,
    }


_WORDS = {"overdue": "overdue", "soon": "soon", "good": "good", "undated": "unknown", "unlimited": "no limit"}
_STYLES = {"overdue": "bold red", "soon": "yellow", "undated": "yellow", "good": "green", "unlimited": "dim"}


def _show(rows: list[SecretAge], due: list[SecretAge], found: list[SecretAge], today: date) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    limited = sum(age.state != "unlimited" for age in found)
    if not due:
        whole = f"{counted(limited, 'value')} with `valid`" if limited else "no secret has a term of validity (`valid`)"
        show(f"nothing overdue: {whole}")
    else:
        counts = [(sum(age.state == state for age in due), words) for state, words in _WORDS.items()]
        show(styled(", ".join(f"{number} {words}" for number, words in counts if number), "bold"))
    cells = []
    for age in rows:
        days = age.days(today)
        whom = "" if age.scopes == ("all",) else f" ({', '.join(age.scopes)})"
        cells.append(
            [
                StyledText(_WORDS[age.state], _STYLES[age.state]),
                StyledText(str(age.variable.name)),
                StyledText(age.layer + whom),
                StyledText("unknown" if days is None else counted(days, "day")),
                StyledText(age.good_until.isoformat() if age.good_until else "–"),
            ]
        )
    titles = ["", "secret", "stage", "age", "good until"]
    for line in table(titles, cells, least=[8, 20, 12, 8, 10], width=terminal_width()) if cells else ():
        show(line)
    if due:
        print_status(f"Next: `coinjar rotate {due[0].variable.name} --stage {due[0].layer}`")
