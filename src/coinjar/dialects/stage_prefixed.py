"""One flat JSON map for all stages: names begin with their stage."""

from __future__ import annotations

import re
from collections.abc import Sequence

from coinjar.dialects.base import Entry, FileHeader, ReadItem, ReadResult
from coinjar.dialects.maps import JsonDialect
from coinjar.dialects.positioned import ParsedDocument
from coinjar.documents.edit import Edit, apply


def prefix_of(stage: str) -> str:
    """Return the prefix of a stage's names: `prod-isles` gives `PROD_ISLES_`."""
    return re.sub(r"[^A-Z0-9]+", "_", stage.upper()) + "_"


class StagePrefixedDialect(JsonDialect):
    """`{"PROD_LOG_LEVEL": …, "PROD_ISLES_LOG_LEVEL": …}`."""

    name = "stage-prefixed"
    about = "one flat JSON map for all stages, names prefixed by the stage"
    many_stages = True

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        return self.update(b"{}\n", heading.stage, entries, heading)

    def clash(self, entries: Sequence[Entry]) -> str | None:
        for entry in entries:
            for stage in self.parse_context.stages:
                others = [
                    other
                    for other in self.parse_context.stages
                    if other != stage and self._owner(prefix_of(stage) + entry.name) == other
                ]
                if others and entry.text is not None:
                    return f"{prefix_of(stage)}{entry.name} would be read as a name of the stage {others[0]}"
        return None

    def update(self, old: bytes, file: str, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        wanted = {prefix_of(heading.stage) + entry.name: entry.text for entry in entries if entry.text is not None}
        old = old if old.strip() else b"{}\n"
        there = [key.text for key, _ in ParsedDocument(old, file, as_json=True).members("JSON object")]
        stages = {*self.parse_context.stages, heading.stage}
        gone = [name for name in there if name not in wanted and self._owner(name, stages) == heading.stage]
        edits = [Edit((name,), None) for name in gone] + [Edit((name,), source) for name, source in wanted.items()]
        kept = apply(old, file, edits, as_json=True)
        return kept if kept.endswith(b"\n") else kept + b"\n"

    def _owner(self, name: str, stages: Sequence[str] | set[str] | None = None) -> str | None:
        """Return the stage whose prefix the name has, the longest first; in capitals or spelled as the stage is."""
        for stage in sorted(stages or self.parse_context.stages, key=len, reverse=True):
            if any(name.startswith(begin) and len(name) > len(begin) for begin in (prefix_of(stage), f"{stage}_")):
                return stage
        return None

    def read(self, data: bytes, file: str) -> ReadResult:
        reading = super().read(data, file)
        items: list[ReadItem] = []
        document = ParsedDocument(data, file, as_json=True)
        for item in reading.items:
            stage = self._owner(item.name)
            if stage is None:
                key = next(key for key, _ in document.members("JSON object") if key.text == item.name)
                known = ", ".join(self.parse_context.stages) or "none: there is no jar here"
                document.remark(
                    key, f"ignored: {item.name} does not begin with a stage's name (the stages are {known})", lost=True
                )
            else:
                begin = prefix_of(stage) if item.name.startswith(prefix_of(stage)) else f"{stage}_"
                items.append(item._replace(name=item.name[len(begin) :], stage=stage))
        return ReadResult(items, sorted({*reading.remarks, *document.remarks}, key=lambda remark: remark.location))
