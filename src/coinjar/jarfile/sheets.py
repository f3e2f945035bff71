"""Sheets: the reviewable YAML of a migration, without any secret's value. docs/formats.md describes the format."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from yaml.nodes import Node, SequenceNode

from coinjar.core.dispositions import (
    CARRIED,
    DISPOSITIONS,
    GIVEN,
    LEFT,
    NAMEABLE,
    RENAMED,
    REPLACED,
    SUPPLIED,
    InboundReference,
    SheetEntry,
)
from coinjar.core.errors import InputError, Location, raise_all
from coinjar.core.names import suggestion
from coinjar.documents.edit import Edit, apply
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.writer import ScalarWriter
from coinjar.documents.yamltext import compose, is_null, location
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import display_path, replace_file

TOP = ("move", "from", "to", "stages", "service", *DISPOSITIONS, "repointed", "emptied")
_ABOUT = {
    CARRIED: "moved unchanged",
    RENAMED: "moved under another name (`as`)",
    REPLACED: "the jar's value is used instead",
    LEFT: "not moved",
    SUPPLIED: "the new place sets it itself",
    GIVEN: "a value must be given: `coinjar put NAME --stage STAGE --service SERVICE`",
}


class SheetLine(NamedTuple):
    """One line of the file, possibly edited by somebody."""

    group: str
    number: int
    variable: str
    where: tuple[str, ...]
    new_name: str
    why: str
    digest: str
    location: Location


class RepointedValue(NamedTuple):
    """One value of the file that contains an address of the old place."""

    number: int
    pointing: InboundReference
    digest: str
    location: Location


class Sheet(NamedTuple):
    """A sheet's contents. `emptied` is "" until the old place starts to be emptied."""

    path: Path
    source: str
    target: str
    stages: tuple[str, ...]
    service: str | None
    lines: list[SheetLine]
    repointed: list[RepointedValue]
    emptied: str

    def of(self, *groups: str) -> list[SheetLine]:
        """Return the lines of some groups."""
        return [line for line in self.lines if line.group in groups]


def write_sheet(
    path: Path,
    source: str,
    target: str,
    stages: Sequence[str],
    entries: Iterable[SheetEntry],
    digests: Mapping[tuple[str, tuple[str, ...]], str],
    pointings: Sequence[InboundReference],
    service: str | None = None,
) -> None:
    """Write a new sheet. Raises InputError if the file exists, ExternalError."""
    if path.exists():
        raise InputError(
            "the file already exists",
            hint="name another with --out, or move this one away",
            location=Location(display_path(path)),
            code="exists",
        )
    flow = ScalarWriter().flow
    lines = [
        (
            f"# A move from {source} to {target}. Review it: move a line to another group to change what happens to "
            "it; "
            "then run\n"
        )
    ]
    lines += [
        f"#   coinjar migrate --execute {path.name}\n",
        "# It contains no secret values: `digest` only shows whether a value has changed since.\n",
        "move: 1\n",
    ]
    lines += [f"from: {flow(source)}\n", f"to: {flow(target)}\n", f"stages: {flow([*stages])}\n"]
    lines += [f"service: {flow(service)}\n"] if service else []
    by_group: dict[str, list[SheetEntry]] = {}
    for entry in entries:
        by_group.setdefault(entry.group, []).append(entry)
    for group in DISPOSITIONS:
        if group not in by_group:
            continue
        lines.append(f"\n{group}:   # {_ABOUT[group]}\n")
        for entry in by_group[group]:
            named = {"as": entry.new_name} if entry.group in NAMEABLE and entry.new_name != entry.variable else {}
            lines.append(
                "  - "
                + flow(
                    {
                        "variable": entry.variable,
                        **named,
                        "where": [*entry.where],
                        "why": entry.why,
                        "digest": digests[entry.variable, entry.where],
                    }
                )
                + "\n"
            )
    if pointings:
        lines.append("\nrepointed:   # values that contain an address of the old place, and their new value\n")
        for reference in pointings:
            where = f"{reference.stage}/{reference.scope}"
            held = {
                "variable": reference.variable,
                "where": where,
                "address": reference.address,
                "becomes": reference.replacement,
                "why": reference.why,
            }
            lines.append("  - " + flow({**held}) + "\n")
    text = "".join(lines).encode()
    compose(text, display_path(path))
    replace_file(path, text, mode=0o644)


def read_sheet(path: Path) -> Sheet:
    """Read an edited sheet. Raises every fault at once, with its location."""
    file = display_path(path)
    fields = FieldReader(file)
    root = compose(read_bytes(path), file)
    if root is None or is_null(root):
        raise InputError(
            "the sheet is empty",
            hint="create one with `coinjar migrate FROM TO --out FILE`",
            location=Location(file),
            code="sheet",
        )
    top = fields.fields(root, "a sheet", TOP)
    raise_all(fields.faults if not top else [])
    if fields.text(top.get("move"), "move") != "1":
        fields.fault(top.get("move", root), "this is not a sheet that this version reads", "its first key is move: 1")
    source, target = fields.text(top.get("from"), "from"), fields.text(top.get("to"), "to")
    stages = tuple(text for text, _ in fields.texts(top.get("stages"), "stages"))
    lines = [line for group in DISPOSITIONS if group in top for line in _lines(fields, group, top[group])]
    repointed = _repointed(fields, top["repointed"]) if "repointed" in top else []
    values: dict[tuple[str, str], SheetLine] = {}
    for line in lines:
        for where in line.where:
            other = values.setdefault((line.variable, where), line)
            if other is not line:
                message = f"{line.variable} of {where} is also in line {other.location.line}"
                fields.faults.append(InputError(message, hint="keep one line", location=line.location, code="sheet"))
    raise_all(fields.faults)
    return Sheet(
        path,
        source,
        target,
        stages,
        fields.text(top.get("service"), "service") or None,
        lines,
        repointed,
        fields.text(top.get("emptied"), "emptied"),
    )


def _lines(fields: FieldReader, group: str, node: Node) -> list[SheetLine]:
    if is_null(node):
        return []
    lines = []
    for number, (child, own) in enumerate(
        _each(fields, node, group, ("variable", "as", "where", "why", "digest", "outcome"))
    ):
        where = tuple(text for text, _ in fields.texts(own.get("where"), "where"))
        variable = fields.text(own.get("variable"), "variable")
        becomes = fields.text(own.get("as"), "as") or variable
        if not variable or not where:
            fields.fault(child, "a line requires a variable and its places", "restore the line of the original sheet")
        if group == RENAMED and becomes == variable:
            fields.fault(child, f"{variable} is in the group renamed, but has no new name", "add as: NEW_NAME")
        if group not in NAMEABLE and "as" in own and becomes != variable:
            fields.fault(
                own["as"],
                f"{variable} has a new name, but is in the group {group}",
                f"move the line to {', '.join(NAMEABLE)}",
            )
        lines.append(
            SheetLine(
                group,
                number,
                variable,
                where,
                becomes,
                fields.text(own.get("why"), "why"),
                fields.text(own.get("digest"), "digest"),
                location(child, fields.file),
            )
        )
    return lines


def _repointed(fields: FieldReader, node: Node) -> list[RepointedValue]:
    repointed = []
    for number, (child, own) in enumerate(
        _each(fields, node, "repointed", ("variable", "where", "address", "becomes", "why", "outcome"))
    ):
        texts = {key: fields.text(own.get(key), key) for key in ("variable", "where", "address", "becomes", "why")}
        stage, slash, scope = texts["where"].partition("/")
        if not (texts["variable"] and slash and texts["address"]):
            fields.fault(
                child,
                "a line requires a variable, its place (STAGE/SERVICE) and the address",
                "restore the line of the original sheet",
            )
        pointing = InboundReference(texts["variable"], stage, scope, texts["address"], texts["becomes"], texts["why"])
        repointed.append(RepointedValue(number, pointing, "", location(child, fields.file)))
    return repointed


def _each(fields: FieldReader, node: Node, group: str, keys: Sequence[str]) -> list[tuple[Node, dict[str, Node]]]:
    if not isinstance(node, SequenceNode):
        fields.fault(node, f"'{group}' must be a list", "write - {variable: NAME, where: [STAGE/SERVICE], why: …}")
        return []
    return [(item, fields.fields(item, f"a line of '{group}'", keys)) for item in node.value]


def record_outcomes(sheet: Sheet, outcomes: Mapping[tuple[str, int], str], *, emptied: str = "") -> None:
    """Write the results of lines into the sheet, by group and number. Raises InputError, ExternalError."""
    edits = [Edit((group, number, "outcome"), words) for (group, number), words in outcomes.items()]
    edits += [Edit(("emptied",), emptied)] if emptied else []
    old = read_bytes(sheet.path)
    new = apply(old, display_path(sheet.path), edits) if edits else old
    if new != old:
        replace_file(sheet.path, new)


def unknown_line(variable: str, known: Iterable[str], where: Location) -> InputError:
    """Return the error of a line for a variable that the old place does not have."""
    hint = suggestion(variable, known, "remove the line, or create the sheet again")
    return InputError(f"there is no {variable} at the old place", hint=hint, location=where, code="sheet")
