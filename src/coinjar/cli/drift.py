"""`coinjar drift`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import JsonOption, SecretsOption, counted, deliver_names, print_json
from coinjar.cli.delivery_output import show_errors
from coinjar.cli.opening import print_status
from coinjar.cli.several import JarsOption, each, label_of, open_each
from coinjar.core import delivery as states
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.actions.delivery.drift import TargetDrift
    from coinjar.actions.open_jar import OpenJar
    from coinjar.core.delivery import VariableState
    from coinjar.core.display import Masker

_MARKS = {
    states.UP_TO_DATE: ("=", "dim"),
    states.SUPPLIED: ("◆", "dim"),
    states.NOT_READABLE: ("?", "cyan"),
    states.PENDING_RESTART: ("◐", "yellow"),
    states.NOT_DELIVERED: ("→", "yellow"),
    states.CHANGED_THERE: ("≠", "red"),
    states.MISSING: ("–", "red"),
    states.UNMANAGED: ("+", "cyan"),
}


def run(
    ctx: typer.Context,
    where: Annotated[
        list[str],
        typer.Argument(
            metavar="STAGE [DEST]...", autocompletion=deliver_names, help="The stage, then destinations (default: all)."
        ),
    ],
    everything: Annotated[bool, typer.Option("--all", help="Also show variables that are up to date.")] = False,
    show_secrets: SecretsOption = False,
    as_json: JsonOption = False,
    jar: JarsOption = None,
) -> None:
    """Compare what is live with what the jar says, and show what is pending a restart. Exit code 1 if anything differs.

    Values that cannot be read back are compared by the keyed fingerprint of the last delivery.
    """
    import asyncio

    from coinjar.actions.delivery.drift import drift
    from coinjar.actions.delivery.live_stage import LiveStage
    from coinjar.cli.progress import progress
    from coinjar.core.display import Masker

    stage, *names = where
    masker = Masker(show_secrets=show_secrets)
    jars = open_each(ctx, jar)
    several = len(jars) > 1
    if several:
        _drop_others(jars, stage)

    def read(opened: OpenJar) -> list[TargetDrift]:
        with LiveStage(opened, stage, names, masker) as live:
            return asyncio.run(drift(live, progress()))

    def show_one(opened: OpenJar) -> int:
        drifts = read(opened)
        _show(stage, drifts, masker, everything=everything)
        return _tell_rest(drifts)

    if not as_json:
        code = each(jars, show_one) if several else show_one(jars[0])
    else:
        found = [read(opened) for opened in jars]
        rows = [{"stage": stage, "targets": [_as_json(one, masker) for one in drifts]} for drifts in found]
        named = [{"jar": label_of(opened), **row} for opened, row in zip(jars, rows, strict=True)]
        print_json({"jars": named} if several else rows[0])
        code = max((_tell_rest(drifts) for drifts in found), default=0)
    if code:
        raise typer.Exit(code)


def _drop_others(jars: list[OpenJar], stage: str) -> None:
    """Drop the jars without such a stage, or that deliver nowhere, and say so. Raises UsageError if none has it."""
    from coinjar.destinations import is_live
    from coinjar.jarfile.load import load_declarations

    kept, lacking = [], 0
    for opened in jars:
        declared = load_declarations(opened.folder)
        try:
            declared.stage(stage)
        except UsageError:
            lacking += 1
            if lacking == len(jars):
                raise
            print_status(f"not looked at: {label_of(opened)} has no stage {stage}")
            continue
        if any(map(is_live, declared.destinations.values())):
            kept.append(opened)
        else:
            print_status(f"not looked at: {label_of(opened)} delivers to no running system")
    jars[:] = kept


def _tell_rest(drifts: list[TargetDrift]) -> int:
    """Print notes and errors; return the exit code."""
    for target_drift in drifts:
        for note in target_drift.notes:
            print_status(f"{target_drift.label}: {note}")
    show_errors([(one.label, one.fault) for one in drifts if one.fault])
    code = next((one.fault.exit_code for one in drifts if one.fault), 0)
    return code or int(not all(one.is_settled for one in drifts))


def _show(stage: str, drifts: list[TargetDrift], masker: Masker, *, everything: bool) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    failed = sum(drift.fault is not None for drift in drifts)
    off = [drift for drift in drifts if not drift.is_settled and not drift.fault]
    head = (
        f"{stage}: {counted(len(drifts) - len(off) - failed, 'target')} up to date"
        + (f", {len(off)} not" if off else "")
        + (f", {failed} not readable" if failed else "")
    )
    show(styled(head, "bold" if not off and not failed else "bold red"))
    for drift in drifts:
        if drift.fault:
            show(styled(f"{drift.label}: could not be read", "red"))
            continue
        counts = {state: sum(row.state == state for row in drift.rows) for state in _MARKS}
        message = ", ".join(f"{number} {state}" for state, number in counts.items() if number)
        show(styled(f"{drift.label}: {message or 'nothing there'}", "bold" if not drift.is_settled else "dim"))
        rows = [
            [
                StyledText(*_MARKS[row.state]),
                StyledText(row.name),
                StyledText(row.state, _MARKS[row.state][1]),
                *map(StyledText, _sides(row, masker)),
            ]
            for row in drift.rows
            if everything or not row.is_settled
        ]
        titles = ["", "", "", "there", "in the jar"] if any(row[4].text for row in rows) else [""] * 5
        for line in table(titles, rows, least=[1, 16, 15, 12, 12], width=terminal_width()) if rows else []:
            show(line)
        if not drift.in_effect and drift.restart_words:
            show(styled(f"   deliver --restart {drift.restart_words}", "yellow"))


def _sides(row: VariableState, masker: Masker) -> tuple[str, str]:
    """Return what is there, and what the jar says where that is different, with the note."""
    there, wanted = (
        masker.show(text, secret=row.secret) if text is not None else "" for text in (row.live, row.desired)
    )
    note = f"({row.note})" if row.note else ""
    if row.state in ("up to date", "pending restart", "supplied") or row.desired is None:
        return there or wanted, note
    if row.secret and row.live is not None and not masker.show_secrets:
        return "different", note
    return there or "–", f"{wanted}   {note}".strip()


def _as_json(drift: TargetDrift, masker: Masker) -> dict[str, Any]:
    from coinjar.core.secret import reveal

    def shown(text: str | None, row: VariableState) -> str | None:
        return None if text is None or (row.secret and not masker.show_secrets) else reveal(text)

    return {
        "destination": drift.destination,
        "target": drift.key,
        "label": drift.label,
        "in_effect": drift.in_effect,
        "variables": [
            {
                "name": row.name,
                "state": row.state,
                "live": shown(row.live, row),
                "wanted": shown(row.desired, row),
                "secret": row.secret,
                "note": row.note,
            }
            for row in drift.rows
        ],
        "notes": drift.notes,
        "error": drift.fault.message if drift.fault else None,
    }
