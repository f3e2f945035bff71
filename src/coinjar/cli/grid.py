"""`coinjar grid`."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    NamePatterns,
    SecretsOption,
    ServicesOption,
    counted,
    fits,
    open_here,
    stage_names,
    warn_no_match,
)
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.cli.grid_parts import GridRows
    from coinjar.core.grid import GridRow
    from coinjar.core.layers import Resolver


def run(
    ctx: typer.Context,
    stages: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[STAGE...]", autocompletion=stage_names, help="Only these stages, in this order. Default: all."
        ),
    ] = None,
    across: Annotated[
        bool, typer.Option("--by-service", help="Show the services of one stage as columns, instead of stages.")
    ] = False,
    service: ServicesOption = None,
    name: NamePatterns = None,
    different: Annotated[bool, typer.Option("--different", help="Only variables whose columns differ.")] = False,
    missing: Annotated[
        bool, typer.Option("--missing", help="Only variables without a required value, or that cannot be computed.")
    ] = False,
    by_default: Annotated[
        bool, typer.Option("--by-default", help="Only variables that no layer sets, so that they take their default.")
    ] = False,
    ages: Annotated[
        bool, typer.Option("--ages", help="Only secrets, with their ages in days instead of their values.")
    ] = False,
    mine: Annotated[bool, typer.Option("--mine", help="Include your own values. Default: exclude them.")] = False,
    show_secrets: SecretsOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Show the grid: one row per variable, one column per stage; with --by-service one column per service of one
    stage.
    """
    from datetime import UTC, datetime

    from coinjar.cli.grid_json import print_rows
    from coinjar.cli.grid_parts import is_large, shared_rows
    from coinjar.core.display import Masker
    from coinjar.core.grid import DIFFERENT, StageGrid, by_service, with_ages
    from coinjar.core.stage_changes import StageChanges

    if across and len(stages or []) != 1:
        raise UsageError(
            "--by-service shows the services of one stage", hint="name one: `coinjar grid STAGE --by-service`"
        )
    stage = stages[0] if across and stages else None
    opened = open_here(ctx, jar)
    whole = opened.load(stages or None)
    services = [str(whole.service(name).name) for name in dict.fromkeys(service or [])] or [
        str(service) for service in whole.services
    ]
    columns = list(dict.fromkeys(stages or [])) or whole.stage_names()
    if not columns:
        raise UsageError("there are no stages to show", hint="add one: `coinjar stages add STAGE`")

    def resolver(column: str) -> Resolver:
        return opened.resolver(column, jar=opened.load([column], mine=column) if mine else whole, mine=mine)

    masker = Masker(show_secrets=show_secrets)
    grid = StageGrid(whole, services)
    known = list(whole.variables if stage else grid.asked)
    names = [each for each in known if fits(each, name)]
    warn_no_match(name, known)
    shown = services if stage else columns
    own = resolver(stage) if stage else None
    is_shared = is_large(names, shown) and not mine and not ages
    changes = StageChanges(whole, frozenset(names)) if is_shared else None

    def made(some: Sequence[str]) -> list[GridRow]:
        rows = (
            by_service([whole.variables[each] for each in some], own, services)
            if own
            else grid.rows(map(resolver, columns), some, changes)
        )
        if ages:
            places = [(own, [each]) for each in services] if own else [(resolver(each), services) for each in columns]
            rows = with_ages(rows, places, datetime.now(UTC).date())
        return [
            row
            for row in rows
            if (not different or row.agreement == DIFFERENT)
            and (not missing or row.is_missing)
            and (not by_default or row.by_default)
        ]

    plain = (lambda each: changes.is_plain(whole.variables[each])) if changes else None
    with shared_rows(names, shown, masker, made, plain) as rows:
        if as_json:
            print_rows(shown, "services" if stage else "stages", rows.json_rows())
        else:
            _show(f"{whole.app}, {stage}" if stage else whole.app, rows, shown, len(known))


def _show(what: str, rows: GridRows, columns: Sequence[str], total: int) -> None:
    from coinjar.cli.grid_table import TableShape, legend, wrapped
    from coinjar.cli.tables import StyledText, line, show, styled, terminal_height, terminal_width, width_of

    width = terminal_width()
    facts = rows.facts(width)
    shown = counted(total, "variable") if facts.rows == total else f"{facts.rows} of {counted(total, 'variable')}"
    if not facts.rows:
        show(f"{what}: {shown}")
        return
    shape = TableShape.of(facts, width)
    name_width, kept = shape.widths[0], shape.kept
    head = [StyledText(f"{what}: {shown}", "bold"), StyledText("")]
    if width_of(head[0].text) > name_width:  # too long for the corner: a line of its own
        show(styled(head[0].text, "bold"))
        head[0] = StyledText("")
    titles = line([*head, *(StyledText(column, "bold") for column in columns[:kept])], shape.widths)
    show(titles)
    for lines in rows.lines(shape):
        if lines:
            show("\n".join(lines))
    if facts.rows + 1 > terminal_height() - 3:
        show(titles)  # the first line has scrolled away
    for part in legend(facts, width):
        show(styled(part, "dim"))
    if kept < len(columns):
        rest = columns[kept:]
        for part in wrapped(f"not shown, too wide: {counted(len(rest), 'column')}: {', '.join(rest)}", width):
            show(styled(part, "yellow"))
