"""The data of a report for machines (docs/json.md)."""

from __future__ import annotations

from typing import Any

from coinjar.actions.reporting.contents import ReportContents, ReportedVariable
from coinjar.report.clusters import ordered


def data_of(contents: ReportContents) -> dict[str, Any]:
    """Return the contents as JSON data."""
    return {
        "app": contents.app,
        "made_on": contents.made_on.isoformat(),
        "revision": contents.revision,
        "columns": contents.columns,
        "stages": [
            {
                "name": stage.name,
                "about": stage.about,
                "follows": stage.follows,
                "guarded": stage.guarded,
                "values": stage.values,
                "secrets": stage.secrets,
            }
            for stage in contents.stages
        ],
        "services": [
            {
                "name": service.name,
                "about": service.about,
                "variables": service.variables,
                "own_values": service.own_values,
            }
            for service in contents.services
        ],
        "kinds": contents.kinds,
        "states": contents.states(),
        "variables": [_variable(variable, contents.columns) for variable in contents.variables],
        "findings": [finding._asdict() for finding in contents.findings],
        "secrets": [
            {
                "name": secret.name,
                "layer": secret.layer,
                "scopes": list(secret.scopes),
                "state": secret.state,
                "set_on": secret.set_on.isoformat() if secret.set_on else None,
                "good_until": secret.good_until.isoformat() if secret.good_until else None,
            }
            for secret in contents.secrets
        ],
        "readers": [reader._asdict() for reader in contents.readers],
        "approvals": contents.approvals,
        "destinations": [
            row._asdict() | {"delivered": row.delivered.isoformat() if row.delivered else None}
            for row in contents.destinations
        ],
        "deliveries": [row._asdict() | {"started": row.started.isoformat()} for row in contents.deliveries],
        "drifts": [drift._asdict() for drift in contents.drifts] if contents.drifts is not None else None,
        "order": ordered(contents.columns, contents.distances).names,
        "distances": [
            {
                "left": pair.left,
                "right": pair.right,
                "distance": pair.distance,
                "parts": dict(pair.parts),
                "unknown": sorted(pair.unknown),
            }
            for pair in contents.distances
        ],
        "apartness": contents.apartness,
        "past": [
            {
                "revision": past.revision,
                "when": past.when.isoformat(),
                "subject": past.subject,
                "distances": [
                    {"left": left, "right": right, "distance": distance}
                    for (left, right), distance in past.distances.items()
                ],
            }
            for past in contents.past
        ],
        "unchecked": contents.unchecked,
        "undated": contents.undated,
        "not_looked_at": contents.not_looked_at,
    }


def _variable(variable: ReportedVariable, columns: list[str]) -> dict[str, Any]:
    return {
        "name": variable.name,
        "about": variable.about,
        "kind": variable.kind,
        "rules": variable.rules,
        "default": variable.default,
        "secret": variable.secret,
        "required": variable.required,
        "services": variable.services,
        "stages": variable.stages,
        "agreement": variable.agreement,
        "missing": variable.missing,
        "places": [place._asdict() for place in variable.places],
        "cells": {
            column: {
                "state": cell.state,
                "shown": cell.shown,
                "secret": cell.secret,
                "reasons": [
                    {**reason._asdict(), "services": list(reason.services), "places": list(reason.places)}
                    for reason in cell.reasons
                ],
            }
            for column, cell in zip(columns, variable.cells, strict=True)
        },
        "mentions": [mention._asdict() for mention in variable.mentions],
        "destinations": variable.destinations,
    }
