"""The output of `deliver` and `deliveries undo`: the changes, and the result."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from coinjar.cli.common import counted
from coinjar.cli.opening import print_status
from coinjar.core.display import visible

if TYPE_CHECKING:
    from coinjar.actions.delivery.deliver import Delivery
    from coinjar.actions.delivery.outcome import DeliveryOutcome
    from coinjar.cli.tables import StyledText
    from coinjar.core.delivery import DeliveryChange
    from coinjar.core.display import Masker
    from coinjar.core.errors import CoinJarError

_SIGNS = {"new": "+", "changed": "≠", "again": "?", "gone": "-"}


def change_words(change: DeliveryChange, masker: Masker) -> str:
    """Return one change in words: for secrets only that they differ."""
    if change.action == "gone":
        return "" if change.old is None else masker.show(change.old, secret=change.secret)
    new = masker.show(change.new or "", secret=change.secret)
    if change.action == "again":
        return f"{new}   (the present value is not readable)"
    if change.old is None:
        return new
    if change.secret and not masker.show_secrets:
        return f"{new}   (different)"
    return f"{masker.show(change.old, secret=change.secret)} → {new}"


def _row(change: DeliveryChange, masker: Masker) -> tuple[str, str, str]:
    """Return sign, name and words of one change; a rename is one row."""
    if change.renamed:
        return "»", f"{change.renamed} → {change.name}", change_words(change, masker)
    return _SIGNS[change.action], change.name, change_words(change, masker)


def show_changes(outcomes: Sequence[DeliveryOutcome], masker: Masker) -> None:
    """Show what would change, target by target."""
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    styles = {"+": "green", "≠": "yellow", "?": "yellow", "»": "yellow", "-": "red"}
    alike: dict[tuple[tuple[str, str, str], ...], list[str]] = {}
    for outcome in outcomes:
        changed = tuple(
            _row(change, masker) for change in outcome.changes if not (change.renamed and change.action == "gone")
        )
        if changed:
            alike.setdefault(changed, []).append(outcome.label)
    for changed, labels in alike.items():
        more = f" and {len(labels) - 1} more like it" if len(labels) > 1 else ""
        show(styled(labels[0] + more, "bold"))
        rows = [[StyledText(sign, styles[sign]), StyledText(name), StyledText(text)] for sign, name, text in changed]
        for line in table(["", "", ""], rows, least=[1, 20, 18], width=terminal_width()):
            show(line)


def _words(outcome: DeliveryOutcome, *, dry: bool) -> str:
    if outcome.fault:
        return outcome.fault.words if outcome.fault.of == outcome.label else outcome.fault.message
    parts = []
    renamed = sum(1 for change in outcome.changes if change.renamed and change.action != "gone")
    if len(outcome.changes) > 2 * renamed:
        parts.append(f"{counted(len(outcome.changes) - 2 * renamed, 'change')}{' to make' if dry else ''}")
    if renamed:
        parts.append(f"{renamed} {'to rename' if dry else 'renamed'}")
    if outcome.same:
        parts.append(f"{outcome.same} equal")
    if outcome.trusted:
        parts.append(f"{outcome.trusted} not readable, as last delivered")
    if outcome.extra:
        parts.append(f"{len(outcome.extra)} unmanaged")
    return ", ".join(parts) or "nothing to deliver"


def _restart(outcome: DeliveryOutcome) -> str:
    if outcome.restart == "done":
        return "restarted, in use"
    if outcome.restart == "waits":
        return "pending restart"
    return ""


def show_outcomes(outcomes: Sequence[DeliveryOutcome], *, dry: bool) -> None:
    """Show one line per target; the first line is the summary."""
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    failed = [outcome for outcome in outcomes if outcome.fault]
    changed = [outcome for outcome in outcomes if outcome.changes and not outcome.fault]
    is_settled = len(outcomes) - len(failed) - len(changed)
    words = [
        f"{len(changed)} {'to deliver to' if dry else 'delivered'}" if changed else "",
        f"{is_settled} up to date" if is_settled else "",
    ]
    head = ", ".join([*filter(None, words), *([f"{len(failed)} failed"] if failed else [])])
    show(styled(head or "nothing to deliver to", "bold red" if failed else "bold"))
    rows: list[list[StyledText]] = []
    for outcome in outcomes:
        mark = (
            StyledText("!", "red")
            if outcome.fault
            else StyledText("✓", "green")
            if not dry or not outcome.changes
            else StyledText("→", "yellow")
        )
        rows.append(
            [
                mark,
                StyledText(outcome.label),
                StyledText(_words(outcome, dry=dry)),
                StyledText(_restart(outcome), "yellow" if outcome.restart == "waits" else "dim"),
            ]
        )
    for line in table(["", "", "", ""], rows, least=[1, 24, 30, 20], width=terminal_width()) if rows else []:
        show(line)
    if restarts := [
        outcome.restart_words for outcome in outcomes if outcome.restart == "waits" and outcome.restart_words
    ]:
        shown = restarts if len(restarts) < 6 else [*restarts[:4], f"and {len(restarts) - 4} more like it"]
        show(styled(f"with --restart: {'; '.join(dict.fromkeys(shown))}", "yellow"))


def show_errors(faults: Sequence[tuple[str, CoinJarError]]) -> None:
    """Show errors by label; of several that differ only in the label, the first, and how many more."""
    from coinjar.cli.main import print_error

    alike: dict[tuple[str, str], list[CoinJarError]] = {}
    for label, fault in faults:
        alike.setdefault((fault.words if fault.of == label else fault.message, fault.hint), []).append(fault)
    for group in alike.values():
        print_error(group[0])
        if len(group) > 1:
            print_status(f"    and {len(group) - 1} more like it")


def show_rest(delivery: Delivery, outcomes: Sequence[DeliveryOutcome]) -> None:
    """Print to stderr: errors with hints, remarks, what was written into the jar."""
    for outcome in outcomes:
        for note in outcome.notes:
            print_status(f"{outcome.label}: {visible(note)}")
    show_errors([(outcome.label, outcome.fault) for outcome in outcomes if outcome.fault])
    supplied: dict[tuple[str, str], list[str]] = {}
    for taken in delivery.taken:
        supplied.setdefault((taken.name, taken.destination), []).append(taken.service)
    for (name, destination), services in supplied.items():
        print_status(f"{name} of {', '.join(services)} is supplied by {destination}: written into the jar")
    if delivery.recorded:
        print_status(
            f"recorded the account of {', '.join(dict.fromkeys(delivery.recorded))} in jar.yaml; deliveries to "
            "another account will be refused"
        )


def as_json(delivery: Delivery, outcomes: Sequence[DeliveryOutcome], masker: Masker, *, dry: bool) -> dict[str, Any]:
    """docs/json.md"""
    return {
        "stage": delivery.opened.stage,
        "dry_run": dry,
        "targets": [
            {
                "destination": outcome.destination,
                "target": outcome.key,
                "label": outcome.label,
                "state": outcome.state,
                "delivery": outcome.number,
                "changes": [
                    {
                        "name": change.name,
                        "action": change.action,
                        "secret": change.secret,
                        "value": _value(change.new, change, masker),
                        "before": _value(change.old, change, masker),
                        "renamed": change.renamed,
                    }
                    for change in outcome.changes
                ],
                "same": outcome.same,
                "not_read_back": outcome.trusted,
                "extra": outcome.extra,
                "restart": outcome.restart,
                "notes": outcome.notes,
                "error": outcome.fault.message if outcome.fault else None,
            }
            for outcome in outcomes
        ],
        "supplied": [
            {"destination": supplied.destination, "service": supplied.service, "name": supplied.name}
            for supplied in delivery.taken
        ],
    }


def _value(text: str | None, change: DeliveryChange, masker: Masker) -> str | None:
    from coinjar.core.secret import reveal

    return None if text is None or (change.secret and not masker.show_secrets) else reveal(text)


def show_requests(delivery: Delivery) -> None:
    """Print the requests and steps of each target's changes, secrets and tokens masked."""
    for inspected in delivery.inspected:
        if inspected.inspection and inspected.inspection.plan.changes:
            print(f"# {visible(inspected.target.label)}")
            for line in inspected.target.steps(inspected.inspection.plan.changes, inspected.inspection.live):
                print(visible(line))
