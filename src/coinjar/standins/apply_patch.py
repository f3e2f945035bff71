"""Patches as a Kubernetes API merges them: strategic, and server-side apply with field managers."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

MERGED_BY = {"env": "name", "containers": "name", "initContainers": "name", "ports": "containerPort"}
Leaf = tuple[str, ...]


class FieldConflict(Exception):
    """A field with another manager."""


def merged(old: Any, patch: Any, field: str = "") -> Any:
    """Apply a strategic merge patch: lists with a merge key by it, other lists whole."""
    if isinstance(patch, dict):
        new = dict(old) if isinstance(old, dict) else {}
        for key, value in patch.items():
            if value is None:
                new.pop(key, None)
            elif not key.startswith("$"):
                new[key] = merged(new.get(key), value, key)
        return new
    if isinstance(patch, list) and field in MERGED_BY:
        by = MERGED_BY[field]
        result = {item[by]: item for item in old or []}
        for item in patch:
            if item.get("$patch") == "delete":
                result.pop(item[by], None)
            else:
                result[item[by]] = merged(result.get(item[by]), item)
        return list(result.values())
    return patch


def leaves(data: Any, at: Leaf = ()) -> Iterator[tuple[Leaf, Any]]:
    """Yield every field that can be managed separately."""
    if isinstance(data, dict) and (data or not at):
        for key, value in data.items():
            if not (not at and key in ("kind", "apiVersion", "status")) and (at, key) not in (
                (("metadata",), "name"),
                (("metadata",), "namespace"),
            ):
                yield from leaves(value, (*at, key))
    elif isinstance(data, list) and at and at[-1] in MERGED_BY:
        for element in data:
            yield from leaves(element, (*at, str(element[MERGED_BY[at[-1]]])))
    else:
        yield at, data


def applied(old: dict[str, Any], wanted: dict[str, Any], manager: str, *, force: bool) -> dict[str, Any]:
    """Server-side apply: remove what `manager` applied before and does not now; a field of another manager with another
    value is a conflict.
    """
    entries = old.get("metadata", {}).get("managedFields", [])
    owned = {entry["manager"]: {tuple(leaf) for leaf in entry.get("fields", [])} for entry in entries}
    there = dict(leaves({key: value for key, value in old.items() if key != "status"}))
    unmanaged = {
        leaf for leaf in there if leaf[:2] != ("metadata", "managedFields") and leaf[0] != "metadata"
    } - set().union(*owned.values())
    new_leaves = dict(leaves(wanted))
    if not force:
        for leaf, value in new_leaves.items():
            if leaf in there and there[leaf] != value:
                others = [item for item, fields in owned.items() if item != manager and leaf in fields]
                if others or leaf in unmanaged:
                    raise FieldConflict(f"{others[0] if others else 'another program'} manages .{'.'.join(leaf)}")
    kept_by_others = {leaf for item, fields in owned.items() if item != manager for leaf in fields}
    for leaf in owned.get(manager, set()) - set(new_leaves) - kept_by_others:
        _remove(old, leaf)
    new: dict[str, Any] = merged(old, wanted)
    owned[manager] = set(new_leaves)
    for item, fields in owned.items():
        if item != manager:
            fields -= {leaf for leaf in fields if leaf in new_leaves and there.get(leaf) != new_leaves[leaf]}
    new["metadata"]["managedFields"] = [
        {"manager": item, "operation": "Apply", "fields": sorted(map(list, fields))}
        for item, fields in owned.items()
        if fields
    ]
    return new


def _remove(data: Any, leaf: Leaf) -> None:
    """Remove one field, and parents that become empty."""
    for number, step in enumerate(leaf):
        if isinstance(data, list):
            by = MERGED_BY[leaf[number - 1]]
            result = next((element for element in data if str(element.get(by)) == step), None)
            if result is not None and set(result) <= {by} | {leaf[number + 1] if number + 1 < len(leaf) else by}:
                data.remove(result)
                return
            data = result
        elif isinstance(data, dict) and number < len(leaf) - 1:
            data = data.get(step)
        elif isinstance(data, dict):
            data.pop(step, None)
        if data is None:
            return
