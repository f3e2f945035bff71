"""The JSON of `migrate` (docs/json.md)."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from coinjar.cli.opening import print_status

if TYPE_CHECKING:
    from collections.abc import Sequence

    from coinjar.actions.delivery.outcome import DeliveryOutcome
    from coinjar.actions.migration.migration import Migration
    from coinjar.actions.migration.sheet_builder import DraftSheet


def drafted(draft: DraftSheet, sheet: Path) -> dict[str, Any]:
    """Return a new sheet: what happens to each variable."""
    return {
        "source": draft.old.label,
        "target": draft.new.label,
        "sheet": str(sheet),
        "entries": [
            {
                "group": entry.group,
                "variable": entry.variable,
                "new_name": entry.new_name,
                "where": list(entry.where),
                "why": entry.why,
                "secret": entry.secret,
            }
            for entry in draft.entries
        ],
        "repointed": [
            {"variable": pointing.variable, "stage": pointing.stage, "scope": pointing.scope, "why": pointing.why}
            for pointing in draft.pointings
        ],
        "notes": list(draft.notes),
    }


async def executed(migration: Migration) -> tuple[dict[str, Any], bool]:
    """Execute a sheet. Return what happened at each target, and whether a step failed."""
    stages: list[dict[str, Any]] = []
    await migration.run(print_status, lambda stage, outcomes: stages.append(_stage(stage, outcomes)))
    failed = list(dict.fromkeys(migration.failed))
    shown = {**_ends(migration), "dry_run": False, "stages": stages, "failed": failed}
    return shown, bool(failed)


async def rehearsed(migration: Migration) -> tuple[dict[str, Any], bool]:
    """Rehearse a sheet on a copy of the jar. Return what would change, and whether a target refuses it."""
    from coinjar.actions.migration.jar_update import JarUpdate
    from coinjar.actions.migration.rehearsal import rehearsal

    stages: list[dict[str, Any]] = []
    is_refused = False
    with rehearsal(migration) as copy:
        if copy is not None:  # else the new place is a file, and nothing is sent
            await copy.reader.read()
            for note in await JarUpdate(copy).prepare():
                print_status(note)
            for stage in copy.reader.stages:
                outcomes = await copy.rehearse(stage).run(dry_run=True)
                is_refused = is_refused or any(outcome.fault for outcome in outcomes)
                stages.append(_stage(stage, outcomes))
    return {**_ends(migration), "dry_run": True, "stages": stages, "failed": []}, is_refused


def _ends(migration: Migration) -> dict[str, Any]:
    sheet = migration.sheet
    return {"source": sheet.source, "target": sheet.target, "sheet": str(sheet.path)}


def _stage(stage: str, outcomes: Sequence[DeliveryOutcome]) -> dict[str, Any]:
    targets = [
        {
            "destination": outcome.destination,
            "label": outcome.label,
            "state": outcome.state,
            "restart": outcome.restart,
            "changes": [{"name": change.name, "action": change.action} for change in outcome.changes],
            "error": outcome.fault.message if outcome.fault else None,
        }
        for outcome in outcomes
    ]
    return {"stage": stage, "targets": targets}
