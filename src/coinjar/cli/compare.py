"""`coinjar compare`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    NamePatterns,
    SecretsOption,
    ServicesOption,
    fits,
    open_here,
    print_json,
    stage_names,
    warn_no_match,
)
from coinjar.cli.opening import print_status
from coinjar.core.errors import InputError, UsageError, is_encrypted_for_others

if TYPE_CHECKING:
    from coinjar.actions.comparing.sides import Comparison
    from coinjar.actions.open_jar import OpenJar
    from coinjar.core.compare import Difference, SideValue
    from coinjar.core.display import Masker

KINDS = {"different": "different", "left": "only left", "right": "only right", "same": "same", "unknown": "unknown"}


def run(
    ctx: typer.Context,
    left: Annotated[
        str,
        typer.Argument(
            metavar="A",
            autocompletion=stage_names,
            help="A stage, file:PATH, file+DIALECT:PATH, or another source.",
        ),
    ],
    right: Annotated[str, typer.Argument(metavar="B", autocompletion=stage_names, help="The other side.")],
    service: ServicesOption = None,
    name: NamePatterns = None,
    only: Annotated[
        list[str] | None,
        typer.Option(
            "--only",
            metavar="WHAT",
            help="Only these: different, left, right, same or unknown; may be repeated. Default: all but same.",
        ),
    ] = None,
    everything: Annotated[bool, typer.Option("--all", help="Also show equal variables.")] = False,
    every_name: Annotated[
        bool,
        typer.Option("--every-name", help="Also include standard variables such as PATH and HOME. Default: skip them."),
    ] = False,
    sheet: Annotated[
        str | None,
        typer.Option("--sheet", metavar="FILE", help="Explain differences by the lines of a migration's sheet."),
    ] = None,
    show_secrets: SecretsOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Compare two stages or files: same, different, only in one.

    Exit code 1 if they differ (with --sheet: if no line explains it).

    For secrets it shows only whether they are equal.
    """
    from coinjar.actions.comparing.sides import compare_sources
    from coinjar.core.compare import SAME
    from coinjar.core.display import Masker, visible
    from coinjar.sources import is_source

    unknown = [name for name in only or [] if name not in KINDS]
    if unknown:
        raise UsageError(f"--only does not know '{unknown[0]}'", hint=f"it accepts {', '.join(KINDS)}")
    try:
        opened = open_here(ctx, jar)
    except InputError:
        if not (is_source(left) and is_source(right)) or jar:
            raise
        opened = None  # two files can be compared without a jar
    comparison = compare_sources(
        opened,
        left,
        right,
        services=list(dict.fromkeys(service or [])),
        every_name=every_name,
    )
    for remark in comparison.remarks:
        print_status(f"{remark.location}: {visible(remark.message)}")
    rows = [row for row in comparison.rows if fits(row.name, name)]
    warn_no_match(name, [*comparison.left.names(), *comparison.right.names()])
    messages = _explained(opened, sheet, rows, left, right) if sheet else {}
    wanted = {KINDS[name] for name in only} if only else set(KINDS.values())
    masker = Masker(show_secrets=show_secrets)
    if as_json:
        kept = [row for row in rows if row.verdict in wanted]
        print_json(
            {
                "left": comparison.left.label,
                "right": comparison.right.label,
                "near_misses": [list(pair) for pair in _near_misses(rows)],
                "rows": [
                    _json_row(row, masker) | ({"sheet": messages.get((row.name, row.service))} if sheet else {})
                    for row in kept
                ],
            }
        )
    else:
        _show(comparison, rows, wanted if only or everything else wanted - {SAME}, masker, messages)
    for one, other in _near_misses(rows):
        print_status(f"{one} and {other} differ only in case: to a program they are two names")
    left_over = [row for row in rows if row.verdict != SAME and (row.name, row.service) not in messages]
    if sheet and not as_json:
        names = ", ".join(dict.fromkeys(row.name for row in left_over))
        print_status(f"{sheet} does not explain {names}." if left_over else f"{sheet} explains every difference.")
    if left_over:
        raise typer.Exit(1)


def _near_misses(rows: list[Difference]) -> list[tuple[str, str]]:
    """Return the names that only one side has, and that the other has in another case."""
    from coinjar.core.compare import ONLY_LEFT, ONLY_RIGHT
    from coinjar.core.names import same_but_for_case

    left, right = (
        dict.fromkeys(row.name for row in rows if row.verdict == verdict) for verdict in (ONLY_LEFT, ONLY_RIGHT)
    )
    return same_but_for_case(left, right)


def _explained(
    opened: OpenJar | None, path: str, rows: list[Difference], left: str, right: str
) -> dict[tuple[str, str | None], str]:
    """Return how the lines of a sheet explain these rows, by variable and service."""
    from pathlib import Path

    from coinjar.actions.migration.explain_differences import explanations
    from coinjar.jarfile.sheets import read_sheet

    jar = opened.load() if opened else None

    def in_jar(name: str, stage: str, service: str | None) -> str | None:
        if opened is None or jar is None or name not in jar.variables or not stage:
            return None
        services_with = jar.services_with(jar.variables[name])
        asked = service if service in services_with else next(iter(services_with), None)
        return opened.resolver(stage, jar=jar).value(name, asked).revealed if asked else None

    return explanations(read_sheet(Path(path)), rows, (left, right), in_jar)


def _json_row(row: Difference, masker: Masker) -> dict[str, Any]:
    def side(entry: SideValue) -> dict[str, Any]:
        hidden = row.secret and not masker.show_secrets
        shown: dict[str, Any] = {"value": None if hidden else entry.text, "has_value": entry.text is not None}
        if hidden and entry.text is not None:
            shown["masked"] = masker.mask(entry.text)
        return shown | ({"note": _why_none(entry)} if entry.note else {})

    return {
        "name": row.name,
        "service": row.service,
        "verdict": row.verdict,
        "secret": row.secret,
        "left": side(row.left),
        "right": side(row.right),
    }


def _why_none(entry: SideValue) -> str:
    return entry.fault.message if entry.fault and not is_encrypted_for_others(entry.fault) else entry.note


def _words(row: Difference, entry: SideValue, masker: Masker) -> str:
    if entry.text is None:
        return f"({_why_none(entry)})"
    return masker.show(entry.text, secret=row.secret)


def _alike(rows: list[Difference]) -> list[list[Difference]]:
    """Group rows of one variable whose sides are the same for several services."""
    groups: dict[tuple[str, SideValue, SideValue], list[Difference]] = {}
    for row in rows:
        groups.setdefault((row.name, row.left, row.right), []).append(row)
    return list(groups.values())


def _show(
    comparison: Comparison,
    rows: list[Difference],
    wanted: set[str],
    masker: Masker,
    messages: dict[tuple[str, str | None], str],
) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    left, right = comparison.left.label, comparison.right.label
    words = {
        "different": "different",
        "only left": f"only in {left}",
        "only right": f"only in {right}",
        "unknown": "unknown",
        "same": "the same",
    }
    counts = [
        f"{number} {words[verdict]}" for verdict in words if (number := sum(row.verdict == verdict for row in rows))
    ]
    show(styled(f"{left} and {right}: {', '.join(counts) or 'nothing to compare'}", "bold"))
    marks = {
        "different": StyledText("≠", "yellow"),
        "only left": StyledText("<", "cyan"),
        "only right": StyledText(">", "cyan"),
        "same": StyledText("=", "dim"),
        "unknown": StyledText("?", "red"),
    }
    lines = []
    for verdict in words:
        for alike in _alike([row for row in rows if row.verdict == verdict and verdict in wanted]):
            row = alike[0]
            name = (
                f"{row.name} ({', '.join(str(difference.service) for difference in alike)})"
                if row.service
                else row.name
            )
            why = "" if verdict == "same" else "not explained by a line of the sheet"
            explained = [StyledText(messages.get((row.name, row.service), why))] if messages else []
            lines.append(
                [
                    marks[verdict],
                    StyledText(name),
                    StyledText(_words(row, row.left, masker)),
                    StyledText(_words(row, row.right, masker)),
                    *explained,
                ]
            )
    more = ["in the sheet"] if messages else []
    if lines:
        titles, least = ["", "variable", left, right, *more], [1, 20, 18, 18, 24][: 4 + len(more)]
        show("\n".join(table(titles, lines, least=least, width=terminal_width())))
    hidden = sum(row.verdict not in wanted for row in rows)
    if hidden:
        show(styled(f"{hidden} more not shown (show them with --all)", "dim"))
