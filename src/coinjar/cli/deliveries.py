"""`coinjar deliveries`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    SecretsOption,
    YesOption,
    ask_to_go_on,
    counted,
    open_here,
    print_json,
)
from coinjar.cli.deliver import DryRunOption, GuardedOption, RestartOption, WaitOption
from coinjar.cli.opening import print_status
from coinjar.cli.structure import PlanOptions, finish_plan
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.records.rows import DeliveryRecord

_SIGNS = {"new": "+", "changed": "≠", "again": "?", "gone": "-"}


def run(
    ctx: typer.Context,
    what: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[NUMBER | undo NUMBER | forget]",
            help="A delivery to show in full, or to undo; or forget old ones.",
        ),
    ] = None,
    most: Annotated[int, typer.Option("--most", metavar="N", min=1, help="How many of the newest to list.")] = 20,
    older: Annotated[
        str | None, typer.Option("--older", metavar="TIME", help="With forget: what ended before, such as 180d or 2y.")
    ] = None,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    restart: RestartOption = False,
    allow_guarded: GuardedOption = None,
    wait: WaitOption = 0,
    show_secrets: SecretsOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """List deliveries, show one in full, undo one, or forget old ones.

    Undoing is a new delivery: the jar's values, except that variables changed by that delivery get their earlier
    values, from its encrypted snapshot. The jar itself is not changed: correct it to keep the earlier values.
    """
    words = list(what or [])
    if (older is not None or yes) and words != ["forget"]:
        raise UsageError("--older and --yes require forget", hint="write `coinjar deliveries forget --older 180d`")
    if words == ["forget"]:
        if restart or allow_guarded or wait or show_secrets:
            raise UsageError("forget contacts nothing", hint="omit the other options")
        _forget(ctx, older, jar, PlanOptions(dry_run, yes, as_json))
        return
    undo = words[:1] == ["undo"]
    numbers = words[1:] if undo else words
    if len(numbers) > 1 or (undo and not numbers) or not all(number.isdigit() for number in numbers):
        raise UsageError(
            "which delivery?", hint="write `coinjar deliveries`, `coinjar deliveries 7`, or `coinjar deliveries undo 7`"
        )
    if not undo and (dry_run or restart or allow_guarded or wait):
        raise UsageError("--dry-run, --restart, --allow-guarded and --wait require undo", hint="omit them")
    if undo:
        how = UndoOptions(dry_run, restart, allow_guarded or [], wait, show_secrets, as_json)
        _undo(ctx, int(numbers[0]), jar, how)
    elif numbers:
        _one(ctx, int(numbers[0]), jar, as_json=as_json)
    else:
        _list(ctx, most, jar, as_json=as_json)


class UndoOptions(NamedTuple):
    """The options of undo."""

    dry_run: bool
    restart: bool
    allowed: list[str]
    wait: float
    show_secrets: bool
    as_json: bool


def _undo(ctx: typer.Context, number: int, jar: str | None, how: UndoOptions) -> None:
    from contextlib import closing

    from coinjar.actions.delivery.history import earlier_values
    from coinjar.actions.delivery.live_stage import LiveStage
    from coinjar.actions.delivery.outcome import DeliveryOptions
    from coinjar.actions.delivery.records import open_records
    from coinjar.cli.deliver import carry_out
    from coinjar.core.display import Masker

    opened = open_here(ctx, jar)
    declared = opened.load([])
    with closing(open_records(opened, declared)) as records:
        delivery, values, left = earlier_values(opened, declared, records, number)
    for name in left:
        print_status(f"cannot be restored: {name}")
    masker = Masker(show_secrets=how.show_secrets)
    work = LiveStage(opened, delivery.stage, [delivery.destination], masker, instead=values, writes=not how.dry_run)
    options = DeliveryOptions(restart=how.restart, patience=how.wait, undoes=number)
    carry_out(work, options, masker, dry_run=how.dry_run, requests=False, allowed=how.allowed, as_json=how.as_json)
    if not how.dry_run:
        print_status("The jar is unchanged: the next delivery brings its values back, unless you correct them there.")


def _forget(ctx: typer.Context, older: str | None, jar: str | None, how: PlanOptions) -> None:
    """Forget what ended before, after a question: it can be neither shown nor undone then."""
    from datetime import UTC, datetime, timedelta

    from coinjar.actions.delivery.history import forget
    from coinjar.core.secret_ages import days_of

    days = days_of(older) if older is not None else None
    if days is None:
        words = "forget what?" if older is None else f"'{older}' is no span of time"
        raise UsageError(words, hint="write --older with days, weeks or years: 180d, 26w, 2y", code="usage")
    opened = open_here(ctx, jar)
    before = datetime.now(UTC).replace(tzinfo=None, microsecond=0) - timedelta(days=days)
    count = forget(opened, before, only_count=True)
    if how.as_json:
        print_json({"before": f"{before:%Y-%m-%dT%H:%M:%SZ}", "deliveries": count})
    else:
        kept = "; the newest of each destination and stage are kept"
        print_status(f"{counted(count, 'delivery', 'deliveries')} ended before {before:%Y-%m-%d}{kept}")
    if not count:
        return
    finish_plan(dry_run=how.dry_run)
    ask_to_go_on("Forget them? They can be neither shown nor undone then.", yes=how.yes)
    print_status(f"Forgot {counted(forget(opened, before, only_count=False), 'delivery', 'deliveries')}.")


def _counts(counts: dict[str, int]) -> str:
    return " ".join(f"{_SIGNS[action]}{number}" for action, number in counts.items()) or "nothing"


def _list(ctx: typer.Context, most: int, jar: str | None, *, as_json: bool) -> None:
    from coinjar.actions.delivery.history import listed
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    result = listed(open_here(ctx, jar), most)
    if as_json:
        print_json([_as_json(record) | {"changes": dict(counts)} for record, counts in result])
        return
    show(
        styled(
            f"{counted(len(result), 'delivery', 'deliveries')}, newest first" if result else "no deliveries yet",
            "bold",
        )
    )
    styles = {"done": "green", "failed": "red", "interrupted": "yellow", "running": "cyan"}
    rows = [
        [
            StyledText(str(record.number)),
            StyledText(f"{record.started:%Y-%m-%d %H:%M}"),
            StyledText(record.stage),
            StyledText(record.destination),
            StyledText(_counts(dict(counts))),
            StyledText(
                record.state + (f", undoes {record.undoes}" if record.undoes else ""), styles.get(record.state, "")
            ),
            StyledText(record.who, "dim"),
        ]
        for record, counts in result
    ]
    for line in (
        table(
            ["", "when (UTC)", "stage", "destination", "changes", "", "who"],
            rows,
            least=[2, 16, 8, 10, 8, 8, 8],
            width=terminal_width(),
        )
        if rows
        else []
    ):
        show(line)


def _as_json(record: DeliveryRecord) -> dict[str, Any]:
    ended = f"{record.ended:%Y-%m-%dT%H:%M:%SZ}" if record.ended else None
    messages = {
        "number": record.number,
        "stage": record.stage,
        "destination": record.destination,
        "who": record.who,
        "state": record.state,
        "undoes": record.undoes,
    }
    return messages | {"started": f"{record.started:%Y-%m-%dT%H:%M:%SZ}", "ended": ended}


def _one(ctx: typer.Context, number: int, jar: str | None, *, as_json: bool) -> None:
    from coinjar.actions.delivery.history import whole
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    delivery, parts, records = whole(open_here(ctx, jar), number)
    if as_json:
        targets = [
            {
                "target": part.target,
                "state": part.state,
                "restart": part.restart,
                "notes": part.notes.splitlines(),
                "changes": [
                    {"name": record.name, "action": record.action, "secret": record.secret}
                    for record in records
                    if record.target == part.target
                ],
            }
            for part in parts
        ]
        print_json(_as_json(delivery) | {"targets": targets})
        return
    undoes = f", undoing {delivery.undoes}" if delivery.undoes else ""
    show(styled(f"Delivery {number}: {delivery.stage} → {delivery.destination}, {delivery.state}{undoes}", "bold"))
    show(styled(f"{delivery.who}, {delivery.started:%Y-%m-%d %H:%M:%S} UTC", "dim"))
    for part in parts:
        waits = {
            "waits": ", pending restart",
            "asked": ", restart requested but not confirmed",
            "done": ", restarted",
        }.get(part.restart, "")
        show(styled(f"{part.label}: {part.state}{waits}", "bold"))
        rows = [
            [
                StyledText(_SIGNS[record.action]),
                StyledText(record.name),
                StyledText("secret" if record.secret else "", "cyan"),
            ]
            for record in records
            if record.target == part.target
        ]
        for line in table(["", "", ""], rows, least=[1, 20, 6], width=terminal_width()) if rows else []:
            show(line)
        for note in part.notes.splitlines():
            show(styled(f"   {note}", "dim"))
