"""Change values in a YAML or JSON text and nothing else: comments, order, quoting, anchors and line ends are kept.

The text is spliced at the positions of its nodes, read again, and compared with the intended data; if they differ,
nothing is changed.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import yaml

from coinjar.core.errors import CoinJarError, InputError, Location
from coinjar.documents.jsontree import build_json_tree
from coinjar.documents.removal import Path, Splice, after_line, emptied, start_of, trail_of, without
from coinjar.documents.tree import NULL, TreeNode, build_tree, data_of
from coinjar.documents.writer import Plain, ScalarWriter, UnquotedScalar, as_block
from coinjar.documents.yamltext import compose

END = -1
"""The position after a list's last element."""
_NOTHING = object()
_ANCHOR = re.compile(r"(?:[&!]\S*[ \t]+)+")


class Edit(NamedTuple):
    """Set the value at a path, or remove it (`value` is None).

    A removal also removes the collections that become empty, except those at the first `keeps` steps of the path: these
    stay as `{}`.
    """

    path: Path
    value: Plain | None
    keeps: int = 0


def apply(data: bytes, file: str, edits: Sequence[Edit], *, careful: bool = False, as_json: bool = False) -> bytes:
    """Return the file's bytes with the edits applied.

    Raises InputError, with nothing changed, if they cannot be applied exactly.

    `careful` writes text so that every YAML reader takes it for text; `as_json` is for JSON.
    """
    if not as_json:
        compose(data, file)  # the same limits as for every file that is read
    source = data.decode()
    mark = "\ufeff" if source.startswith("\ufeff") else ""
    writer = ScalarWriter("\r\n" if "\r\n" in source else "\n", careful, as_json)
    done = apply_to_text(source[len(mark) :], file, edits, writer)
    return (mark + done).encode()


def apply_to_text(source: str, file: str, edits: Sequence[Edit], writer: ScalarWriter) -> str:
    """Apply edits to the text of one document that was already checked."""
    read: Callable[[str], TreeNode | None] = (
        (lambda name: build_json_tree(name, file)) if writer.as_json else build_tree
    )
    before = read(source)
    meant: Any = data_of(before)
    for edit in edits:
        meant = _edited(meant, edit.path, edit.value)
    removals = [edit for edit in edits if edit.value is None]
    for edit in removals:
        meant = _without_empty(meant, edit.path[:-1], edit.keeps)
    once = _once(before, edits)
    for tried in [once, edits] if len(once) < len(edits) else [edits]:
        created, done = _made(source, tried, writer, read)
        for edit in removals:
            done = _without_empty(done, edit.path[:-1], edit.keeps)
        if done == meant:
            return created
    names = ", ".join(dict.fromkeys(_named(before, edit) for edit in edits))
    raise InputError(
        f"changing {names} here would also change something else (a shared anchor, or an unusual layout)",
        hint="change it by hand",
        location=Location(file),
        code="edit",
    )


def _made(
    source: str, edits: Sequence[Edit], writer: ScalarWriter, read: Callable[[str], TreeNode | None]
) -> tuple[str, Any]:
    """Return the text with the edits applied, and its data: what equals nothing for an unsupported notation (an
    explicit key).
    """
    additions = [edit for edit in edits if edit.value is not None]
    try:
        while additions:
            source, additions = _written(source, additions, writer, read)
        source = _all_removed(
            source, [edit for edit in edits if edit.value is None], writer, read
        )  # last, so that a collection that gets others is never empty
        return source, data_of(read(source))
    except (yaml.YAMLError, CoinJarError, ValueError):
        return source, _NOTHING


def _once(tree: TreeNode | None, edits: Sequence[Edit]) -> list[Edit]:
    """Return the edits without those that repeat an edit of the same collection by another path: an anchor and its
    aliases.
    """
    result: dict[tuple[int, Path, str], Edit] = {}
    kept = []
    for edit in edits:
        node, rest = tree.plain if tree is not None else None, edit.path
        while node is not None and len(rest) > 1 and (inner := node.child(rest[0])) is not None:
            node, rest = inner.plain, rest[1:]
        first = result.setdefault((id(node), rest, repr(edit.value)), edit)
        if first.path == edit.path or node is None:
            kept.append(edit)
    return kept


def _texts(value: Plain) -> Any:  # noqa: ANN401 - data of any shape
    """Return the data that a written value reads as."""
    if isinstance(value, dict):
        return {name: _texts(item) for name, item in value.items()}
    if isinstance(value, list):
        return [_texts(item) for item in value]
    return NULL if isinstance(value, UnquotedScalar) and value == "null" else str(value)


def _edited(data: Any, path: Path, value: Plain | None) -> Any:  # noqa: ANN401 - data of any shape
    """Apply one edit to the data, in place."""
    if not path:
        return None if value is None else _texts(value)
    step, rest = path[0], path[1:]
    if isinstance(step, int):
        elements: list[Any] = data if isinstance(data, list) else []
        if step == END:
            elements.append(_edited(None, rest, value))
        else:
            elements[step] = _edited(
                elements[step], rest, value
            )  # a removed element leaves None, so that the positions of the others stay
        return elements
    mapping: dict[str, Any] = data if isinstance(data, dict) else {}
    inner = _edited(mapping.get(step), rest, value)
    if inner is None:
        mapping.pop(step, None)
    else:
        mapping[step] = inner
    return mapping


def _without_empty(data: Any, path: Path, keeps: int) -> Any:  # noqa: ANN401 - data of any shape
    """Return the data without empty collections along the path, which a removal may leave or not; those at its first
    `keeps` steps stay.
    """
    if isinstance(data, list) and path and isinstance(path[0], int) and path[0] < len(data):
        data[path[0]] = _without_empty(data[path[0]], path[1:], keeps - 1)
    if isinstance(data, list):
        data = [element for element in data if element is not None] if not path else data
        return data or None
    if not isinstance(data, dict) or not path:
        return None if data is NULL or data == {} else data
    step = str(path[0])
    inner = _without_empty(data.get(step), path[1:], keeps - 1)
    if inner is not None:
        data[step] = inner
    elif keeps > 0 and step in data:
        data[step] = {}
    else:
        data.pop(step, None)
    return data or None


def _named(tree: TreeNode | None, edit: Edit) -> str:
    """Return what an edit is about, in the reader's words: a variable, not its number in a list."""
    path = edit.path
    while path and (isinstance(path[-1], int) or path[-1] == "value"):
        trail = trail_of(tree, path)
        node = trail[-1].child(path[-1]) if trail else None
        node = node.plain if node else None
        name = (
            node.child("name") if node and node.kind == "map" else node if node and isinstance(path[-1], int) else None
        )
        if name is not None and name.plain.kind == "scalar":
            return name.plain.text.partition("=")[0]
        value = edit.value
        if path is edit.path and path[-1] == END and value and not isinstance(value, list):  # a new one
            return value.partition("=")[0] if isinstance(value, str) else str(value.get("name", next(iter(value))))
        path = path[:-1]
    return str(path[-1]) if path else "it"


def _all_removed(
    source: str, removals: Sequence[Edit], writer: ScalarWriter, read: Callable[[str], TreeNode | None]
) -> str:
    """Remove what the edits name: as many at a time as do not touch each other."""
    tree = read(source)
    groups: dict[int, tuple[TreeNode, list[Edit]]] = {}
    for edit in removals:
        nodes = trail_of(tree, edit.path)
        if nodes:
            groups.setdefault(id(nodes[-1]), (nodes[-1], []))[1].append(edit)
    cuts: list[Splice] = []
    for parent, edits in groups.values():
        whole = len(edits) == (len(parent.members) or len(parent.elements))
        keeps = max(edit.keeps for edit in edits)
        cuts += (
            emptied(source, tree, edits[0].path, keeps, writer)
            if whole
            else without(source, parent, [edit.path[-1] for edit in edits])
        )
    for cut in sorted(cuts, reverse=True):
        source = source[: cut.start] + cut.text + source[cut.end :]
    return source


def _written(
    source: str, edits: list[Edit], writer: ScalarWriter, read: Callable[[str], TreeNode | None]
) -> tuple[str, list[Edit]]:
    """Apply as many edits as one parse of the text allows; return the new text and the remaining edits."""
    tree = read(source)
    if tree is None or tree.is_null:
        return _start(source, edits[0], writer), edits[1:]
    splices: list[Splice] = []
    new: dict[int, tuple[TreeNode, list[tuple[str, Plain]]]] = {}
    left: list[Edit] = []
    opened: set[Path] = set()
    for edit in edits:
        assert edit.value is not None
        parent, rest = _descend(tree, edit.path)
        created = edit.path[: len(edit.path) - len(rest) + 1]
        if len(rest) > 1 and created in opened:
            left.append(edit)  # its collection is created in this round
            continue
        opened.add(created)
        if parent.child(rest[0]) is not None:
            splices.append(_replacement(source, parent, rest[0], _nested(rest[1:], edit.value), writer))
        else:
            new.setdefault(id(parent), (parent, []))[1].append((str(rest[0]), _nested(rest[1:], edit.value)))
    splices += [_insertion(source, parent, members, writer) for parent, members in new.values()]
    for splice in sorted(splices, reverse=True):
        source = source[: splice.start] + splice.text + source[splice.end :]
    return source, left


def _descend(tree: TreeNode, path: Path) -> tuple[TreeNode, Path]:
    """Return the deepest existing collection along the path, and the remaining path."""
    while len(path) > 1 and (inner := tree.child(path[0])) is not None and inner.kind in ("map", "seq"):
        if (inner.kind == "seq") != isinstance(path[1], int):
            break
        tree, path = inner, path[1:]
    return tree, path


def _nested(path: Path, value: Plain) -> Plain:
    for step in reversed(path):
        value = [value] if isinstance(step, int) else {step: value}
    return value


def _start(source: str, edit: Edit, writer: ScalarWriter) -> str:
    assert edit.value is not None
    if writer.as_json:
        return writer.pretty(_nested(edit.path, edit.value), 0, 2) + writer.newline
    if source.strip() in ("---", "{}", "~", "null"):
        source = ""
    gap = writer.newline if source and not source.endswith("\n") else ""
    return source + gap + writer.block(str(edit.path[0]), _nested(edit.path[1:], edit.value), 0)


def _insertion(source: str, parent: TreeNode, members: list[tuple[str, Plain]], writer: ScalarWriter) -> Splice:
    """Return the insertion of members or elements at the end of a collection, in its own style."""
    inner = [(member.key.start, member.value) for member in parent.members] or [
        (node.start, node) for node in parent.elements
    ]
    if parent.flow:
        return _flow_insertion(source, parent, inner, members, writer)
    first, last = inner[0][0], inner[-1][1].last
    if parent.kind == "seq":
        first = source.rindex("-", 0, first)
    indent = first - (source.rfind("\n", 0, first) + 1)
    at = after_line(source, last)
    gap = writer.newline if at and source[at - 1] != "\n" else ""
    if parent.kind == "map":
        return Splice(at, at, gap + "".join(writer.block(name, value, indent) for name, value in members))
    flowing = parent.elements[-1].flow
    lines = [
        f"{' ' * indent}- {writer.flow(value)}{writer.newline}" if flowing else writer.element(value, indent)
        for _, value in members
    ]
    return Splice(at, at, gap + "".join(lines))


def _flow_insertion(
    source: str,
    parent: TreeNode,
    inner: list[tuple[int, TreeNode]],
    members: list[tuple[str, Plain]],
    writer: ScalarWriter,
) -> Splice:
    opened = source.index("{" if parent.kind == "map" else "[", parent.start) + 1
    line = source.rfind("\n", 0, opened) + 1
    outer = len(source[line:]) - len(source[line:].lstrip(" "))
    many = (
        "\n" in source[opened : inner[0][0]]
        if inner
        else writer.as_json and (len(source.strip()) <= 2 or "\n" in source)
    )
    indent = inner[0][0] - (source.rfind("\n", 0, inner[0][0]) + 1) if inner and many else outer + 2

    def words(value: Plain) -> str:
        return writer.pretty(value, indent, max(indent - outer, 1)) if many and writer.as_json else writer.flow(value)

    definitions = [
        f"{writer.scalar(name, flow=True)}: {words(value)}" if parent.kind == "map" else words(value)
        for name, value in members
    ]
    gap = f"{writer.newline}{' ' * indent}" if many else " "
    if not inner:
        close = f"{writer.newline}{' ' * outer}" if many else ""
        return Splice(opened, parent.end - 1, (gap if many else "") + f",{gap}".join(definitions) + close)
    at = inner[-1][1].last
    comma = re.compile(r"[ \t\r\n]*,").match(source, at)
    if comma:  # a comma after the last, as YAML allows
        return Splice(comma.end(), comma.end(), "".join(f"{gap}{line}," for line in definitions))
    return Splice(at, at, "".join(f",{gap}{line}" for line in definitions))


def _replacement(source: str, parent: TreeNode, step: str | int, value: Plain, writer: ScalarWriter) -> Splice:
    old = parent.child(step)
    assert old is not None
    anchor = _ANCHOR.match(source, old.start, old.end) if old.kind != "alias" and not writer.as_json else None
    start = anchor.end() if anchor else old.start
    if writer.as_json:
        line = source.rfind("\n", 0, start) + 1
        indent = len(source[line:]) - len(source[line:].lstrip(" "))
        many = "\n" in source[parent.start : start_of(parent, 0)]
        return Splice(start, old.last, writer.pretty(value, indent, 2) if many else writer.flow(value))
    if parent.flow or old.flow:
        return Splice(
            start,
            old.last,
            writer.flow(value, old.style)
            if parent.flow or not isinstance(value, str)
            else writer.scalar(value, old.style),
        )
    line = source.rfind("\n", 0, start_of(parent, step)) + 1
    if (
        isinstance(value, str)
        and old.kind in ("scalar", "alias")
        and old.style not in ("|", ">")
        and (isinstance(value, UnquotedScalar) or not as_block(value))
    ):
        gap = " " if source[start - 1 : start] == ":" else ""
        return Splice(start, old.last, gap + writer.scalar(value, old.style))
    if parent.kind == "seq":
        dash = source.rindex("-", 0, old.start)
        return Splice(
            line, after_line(source, old.last), source[line:dash] + writer.element(value, dash - line)[dash - line :]
        )
    return _member_replacement(source, parent, str(step), value, writer, anchor.group().rstrip() if anchor else "")


def _member_replacement(
    source: str, parent: TreeNode, name: str, value: Plain, writer: ScalarWriter, anchor: str
) -> Splice:
    """Return a member's new value over several lines: everything after the colon is replaced, except a comment."""
    member = parent.member(name)
    assert member
    line = source.rfind("\n", 0, member.key.start) + 1
    old = member.value
    whole = writer.block(name, value, member.key.start - line)
    first, rest = whole[whole.index(":", len(writer.scalar(name))) :].split(writer.newline, 1)
    comment = _comment_behind(source, old)
    tail = f"{first}{'  ' if comment else ''}{comment}{writer.newline}{rest}"
    kept = f": {anchor}{tail[1:]}" if anchor else tail
    return Splice(member.colon(source), after_line(source, old.last), kept)


def _comment_behind(source: str, old: TreeNode) -> str:
    """Return the comment on the line where a value ends; for a block scalar, on the line where it starts."""
    line = source[old.start :] if old.style in ("|", ">") else source[old.last :]
    match = re.match(r"[^\r\n#]*(?<=[ \t])(#[^\r\n]*)", line)
    return match[1] if match else ""
