"""Sources of several stages at once, such as a base file of settings and one file per stage.

What a stage's source repeats of a layer below it is left out; what the sources of all stages agree on goes to shared.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from coinjar.core.errors import UsageError
from coinjar.core.inference import infer_all
from coinjar.core.model import Jar
from coinjar.core.names import SHARED
from coinjar.dialects.base import ReadItem, ReadResult
from coinjar.sources.base import SourceVariables

_Slot = tuple[str, str | None]


def layer_of(jar: Jar, word: str) -> tuple[str, str]:
    """Split `STAGE=SOURCE`. Raises UsageError for another form, and for a stage that does not exist."""
    layer, equals, source = word.partition("=")
    if not equals or not source:
        raise UsageError(
            f"'{word}' names no stage",
            hint="write STAGE=SOURCE for each of several sources (shared=base.json prod=prod.json); A,B are layers",
            code="which-stage",
        )
    if layer != SHARED:
        jar.stage(layer)
    return layer, source


def combined(jar: Jar, sources: Sequence[tuple[str, SourceVariables]], secret: Sequence[str]) -> SourceVariables:
    """Return sources by layer as one that distinguishes stages. `secret` names new variables that are secret."""
    layers: dict[str, list[ReadItem]] = {}
    for layer, source in sources:
        layers.setdefault(layer, []).extend(
            item._replace(stage=layer) for item in source.reading.items if item.stage in (None, layer)
        )
    by_layer = {layer: _by_slot(items) for layer, items in layers.items()}
    lifted = _agreed(jar, by_layer, secret)
    by_layer = {
        layer: {slot: item for slot, item in items.items() if slot not in lifted} for layer, items in by_layer.items()
    }
    if lifted:
        shared = {slot: item._replace(stage=SHARED) for slot, item in lifted.items()}
        by_layer = {SHARED: {**shared, **by_layer.pop(SHARED, {})}, **by_layer}
    order = [SHARED, *(stage for stage in jar.stages if stage in by_layer), *by_layer]
    ordered = {layer: by_layer[layer] for layer in dict.fromkeys(order) if layer in by_layer}
    items = [
        item for layer in ordered for slot, item in ordered[layer].items() if not _repeats(jar, ordered, layer, slot)
    ]
    dialects = list(dict.fromkeys(source.dialect for _, source in sources))
    return SourceVariables(
        ", ".join(source.label for _, source in sources),
        " and ".join(dialects),
        f"{len(sources)} sources, by stage",
        ReadResult(
            items,
            [remark for _, source in sources for remark in source.reading.remarks],
            frozenset(name for _, source in sources for name in source.reading.unread),
        ),
        {place: comment for _, source in sources for place, comment in source.comments.items()},
    )


def _by_slot(items: Sequence[ReadItem]) -> dict[_Slot, ReadItem]:
    return {(item.name, item.service): item for item in items}


def _agreed(jar: Jar, by_layer: Mapping[str, Mapping[_Slot, ReadItem]], secret: Sequence[str]) -> dict[_Slot, ReadItem]:
    """Return what the sources of all stages agree on, and the jar has nowhere: it is set once, on shared.

    Secrets stay on their stages: shared ones can be decrypted by every reader.
    """
    stages = [layer for layer in by_layer if layer != SHARED]
    covered = all(
        any(layer in by_layer for layer in jar.chain(stage)) for stage in jar.stage_names() if "*" not in stage
    )
    if len(stages) < 2 or not covered:
        return {}
    used = {name for layer in jar.plain.values() for values in layer.values() for name in values}
    result = {}
    for slot, item in by_layer[stages[0]].items():
        name = item.name
        there = [by_layer[stage].get(slot) for stage in stages]
        known = jar.variables.get(name)
        is_secret = known.secret if known else name in secret or infer_all(name, [item.text or ""]).secret
        stays = is_secret or name in used or slot in by_layer.get(SHARED, {})
        if known is not None:
            stays = stays or known.per_stage or known.stages is not None
        if not stays and all(other is not None and other.text == item.text for other in there):
            result[slot] = item
    return result


def _repeats(jar: Jar, by_layer: Mapping[str, Mapping[_Slot, ReadItem]], layer: str, slot: _Slot) -> bool:
    """Return whether a layer's source repeats what the nearest layer below it in this adoption has, with nothing of the
    jar in between.
    """
    if layer == SHARED:
        return False
    below = [SHARED, *(name for name in jar.chain(layer) if name != layer)]
    own = any(slot[0] in values for values in jar.plain.get(layer, {}).values())
    for name in reversed(below) if not own else ():
        if slot in by_layer.get(name, {}):
            return by_layer[name][slot].text == by_layer[layer][slot].text
        if any(slot[0] in values for values in jar.plain.get(name, {}).values()):
            return False
    return False
