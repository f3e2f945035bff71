"""Change values in a YAML or JSON text and nothing else: comments, order, quoting, anchors and line ends stay.

The text is spliced at its nodes' marks, read again, and compared with what was meant; if they differ, nothing is changed.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple, TypeAlias

import yaml

from coinjar.core.errors import CoinJarError, InputError, Place
from coinjar.documents.jsontree import grow_json
from coinjar.documents.tree import NULL, Tree, data_of, grow
from coinjar.documents.writing import Bare, Plain, Writer, as_block
from coinjar.documents.yamltext import compose

Path: TypeAlias = tuple[str | int, ...]
"""Names of mappings and places in lists, from the root."""
END = -1
"""The place behind a list's last element."""
_ANCHOR = re.compile(r"(?:[&!]\S*[ \t]+)+")


class Edit(NamedTuple):
    """Set the value at a path, or remove it (`value` is None).

    A removal takes the collections that it empties with it, except those at the first `keeps` steps of the path: these stay, as `{}`.
    """

    path: Path
    value: Plain | None
    keeps: int = 0


class _Splice(NamedTuple):
    start: int
    end: int
    text: str


def apply(data: bytes, file: str, edits: Sequence[Edit], *, careful: bool = False, as_json: bool = False) -> bytes:
    """The file's bytes with the edits made. Raises InputError, with nothing changed, if they cannot be made faithfully.

    `careful` writes text so that every YAML reader takes it for text; `as_json` is for JSON.
    """
    if not as_json:
        compose(data, file)  # the same guards as for every file that is read
    text = data.decode()
    mark = "\ufeff" if text.startswith("\ufeff") else ""
    writer = Writer("\r\n" if "\r\n" in text else "\n", careful, as_json)
    done = apply_to_text(text[len(mark) :], file, edits, writer)
    return (mark + done).encode()


def apply_to_text(text: str, file: str, edits: Sequence[Edit], writer: Writer) -> str:
    """The same for the text of one document that has been looked at before."""
    read: Callable[[str], Tree | None] = (lambda one: grow_json(one, file)) if writer.as_json else grow
    meant: Any = data_of(read(text))
    for edit in edits:
        meant = _edited(meant, edit.path, edit.value)
    removals = [one for one in edits if one.value is None]
    additions = [one for one in edits if one.value is not None]
    done: Any = None
    try:
        while additions:
            text, additions = _written(text, additions, writer, read)
        text = _all_removed(text, removals, writer, read)  # last, so that a collection which gets others is never empty
        done = data_of(read(text))
    except (yaml.YAMLError, CoinJarError, ValueError):
        pass  # a way of writing that is not foreseen (an explicit key): refused below
    for edit in removals:
        meant, done = (_without_empty(data, edit.path[:-1], edit.keeps) for data in (meant, done))
    if done != meant:
        names = ", ".join(dict.fromkeys(str(edit.path[-1]) for edit in edits))
        raise InputError(
            f"changing {names} here would change something else too (an anchor that others use? an unusual layout?)",
            hint="change it by hand",
            place=Place(file),
            code="edit",
        )
    return text


def _texts(value: Plain) -> Any:  # noqa: ANN401 - data of any shape
    """The data that a written value reads as."""
    if isinstance(value, dict):
        return {name: _texts(one) for name, one in value.items()}
    if isinstance(value, list):
        return [_texts(one) for one in value]
    return NULL if isinstance(value, Bare) and value == "null" else str(value)


def _edited(data: Any, path: Path, value: Plain | None) -> Any:  # noqa: ANN401 - data of any shape
    """The data with one edit made, in place."""
    if not path:
        return None if value is None else _texts(value)
    step, rest = path[0], path[1:]
    if isinstance(step, int):
        elements: list[Any] = data if isinstance(data, list) else []
        if step == END:
            elements.append(_edited(None, rest, value))
        else:
            elements[step] = _edited(elements[step], rest, value)  # one that goes leaves None behind: the places of the others stay
        return elements
    mapping: dict[str, Any] = data if isinstance(data, dict) else {}
    inner = _edited(mapping.get(step), rest, value)
    if inner is None:
        mapping.pop(step, None)
    else:
        mapping[step] = inner
    return mapping


def _without_empty(data: Any, path: Path, keeps: int) -> Any:  # noqa: ANN401 - data of any shape
    """The data without the empty collections along the path, which a removal may leave or not; those at its first `keeps` steps stay."""
    if isinstance(data, list) and path and isinstance(path[0], int) and path[0] < len(data):
        data[path[0]] = _without_empty(data[path[0]], path[1:], keeps - 1)
    if isinstance(data, list):
        data = [one for one in data if one is not None] if not path else data
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


def _all_removed(text: str, removals: Sequence[Edit], writer: Writer, read: Callable[[str], Tree | None]) -> str:
    """Take out what the edits name: as many at a time as do not touch each other."""
    tree = read(text)
    groups: dict[int, tuple[Tree, list[Edit]]] = {}
    for edit in removals:
        found = _trail(tree, edit.path)
        if found:
            groups.setdefault(id(found[-1]), (found[-1], []))[1].append(edit)
    cuts: list[_Splice] = []
    for parent, edits in groups.values():
        whole = len(edits) == (len(parent.members) or len(parent.elements))
        keeps = max(edit.keeps for edit in edits)
        cuts += _emptied(text, tree, edits[0].path, keeps, writer) if whole else _cut(text, parent, [edit.path[-1] for edit in edits])
    for cut in sorted(cuts, reverse=True):
        text = text[: cut.start] + cut.text + text[cut.end :]
    return text


def _trail(tree: Tree | None, path: Path) -> list[Tree]:
    """The collections along a path, the root first; empty if the path leads nowhere."""
    trail: list[Tree] = []
    for step in path:
        if tree is None:
            return []
        trail.append(tree)
        tree = tree.child(step)
    return trail if tree is not None else []


def _emptied(text: str, tree: Tree | None, path: Path, keeps: int, writer: Writer) -> list[_Splice]:
    """Take out a collection that loses all it has, and what that leaves empty in turn, unless a comment stands in it, or it is one that stays."""
    trail = _trail(tree, path)
    depth = len(path) - 1
    while depth > keeps and isinstance(path[depth - 1], str) and "#" not in text[_start_of(trail[depth - 1], path[depth - 1]) : _start_of(trail[depth], 0)]:
        depth -= 1
        if len(trail[depth].members) != 1:
            return _cut(text, trail[depth], [path[depth]])
    lost = trail[depth]
    if 0 < depth <= keeps and not lost.flow and lost.kind == "map" and "#" not in text[lost.start : lost.last]:
        member = trail[depth - 1].member(str(path[depth - 1]))
        if member and not text[member.colon(text) + 1 : lost.start].strip():  # beside its name, as people write it
            newline = writer.newline if text[lost.last - 1 : lost.last] == "\n" else ""
            return [_Splice(member.colon(text) + 1, lost.last, " {}" + newline)]
    if writer.careful or lost.flow or 0 < depth <= keeps:  # it stays, empty
        start = _start_of(lost, 0) if not lost.flow else lost.start + text[lost.start : lost.end].index("{" if lost.kind == "map" else "[")
        start = text.rindex("-", 0, start) if lost.kind == "seq" and not lost.flow else start
        newline = "" if lost.flow or text[lost.last - 1 : lost.last] != "\n" else writer.newline
        return [_Splice(start, lost.last, ("{}" if lost.kind == "map" else "[]") + newline)]
    return _cut(text, lost, [one.name for one in lost.members] or list(range(len(lost.elements))))


def _cut(text: str, parent: Tree, steps: Sequence[str | int]) -> list[_Splice]:
    """Cut some of a collection's members or elements."""
    return _flow_cuts(parent, set(steps)) if parent.flow else [_block_cut(text, parent, step) for step in steps]


def _start_of(parent: Tree, step: str | int) -> int:
    if parent.kind == "map":
        member = parent.members[step] if isinstance(step, int) else parent.member(step)
        assert member
        return member.key.start
    return parent.elements[int(step)].start


def _flow_cuts(parent: Tree, steps: set[str | int]) -> list[_Splice]:
    """Cut members or elements between brackets, each with one of the commas beside it."""
    inner: list[tuple[str | int, int, int]] = [(one.name, one.key.start, one.value.last) for one in parent.members]
    inner += [(at, one.start, one.last) for at, one in enumerate(parent.elements)]
    last_kept = max((number for number, one in enumerate(inner) if one[0] not in steps), default=-1)
    cuts = [_Splice(start, inner[number + 1][1], "") for number, (step, start, _) in enumerate(inner) if step in steps and number < last_kept]
    if last_kept + 1 < len(inner):
        start = inner[last_kept][2] if last_kept >= 0 else inner[0][1]
        cuts.append(_Splice(start, inner[-1][2], ""))
    return cuts


def _block_cut(text: str, parent: Tree, step: str | int) -> _Splice:
    """Cut the lines of one member or element in block style."""
    at = _start_of(parent, step)
    child = parent.child(step)
    assert child
    if parent.kind == "seq":
        at = text.rindex("-", 0, at)
    start = text.rfind("\n", 0, at) + 1
    if text[start:at].strip():  # the first of a collection that starts behind a dash
        start = at
        members = parent.members
        if len(members) > 1 and members[0].name == step:
            return _Splice(start, members[1].key.start, "")
    return _Splice(start, _after_line(text, child.last), "")


def _after_line(text: str, at: int) -> int:
    """Where the line that `at` ends in is over."""
    if at and text[at - 1] == "\n":  # a block scalar ends behind its line break
        return at
    end = text.find("\n", at)
    return len(text) if end < 0 else end + 1


def _written(text: str, edits: list[Edit], writer: Writer, read: Callable[[str], Tree | None]) -> tuple[str, list[Edit]]:
    """Make as many edits as one reading of the text allows; return the new text and the edits that are left."""
    tree = read(text)
    if tree is None or tree.is_null:
        return _start(text, edits[0], writer), edits[1:]
    splices: list[_Splice] = []
    new: dict[int, tuple[Tree, list[tuple[str, Plain]]]] = {}
    left: list[Edit] = []
    opened: set[Path] = set()
    for edit in edits:
        assert edit.value is not None
        parent, rest = _descend(tree, edit.path)
        made = edit.path[: len(edit.path) - len(rest) + 1]
        if len(rest) > 1 and made in opened:
            left.append(edit)  # its collection is being made in this round
            continue
        opened.add(made)
        if parent.child(rest[0]) is not None:
            splices.append(_replacement(text, parent, rest[0], _nested(rest[1:], edit.value), writer))
        else:
            new.setdefault(id(parent), (parent, []))[1].append((str(rest[0]), _nested(rest[1:], edit.value)))
    splices += [_insertion(text, parent, members, writer) for parent, members in new.values()]
    for splice in sorted(splices, reverse=True):
        text = text[: splice.start] + splice.text + text[splice.end :]
    return text, left


def _descend(tree: Tree, path: Path) -> tuple[Tree, Path]:
    """The deepest collection along the path that is there, and what is left of the path."""
    while len(path) > 1 and (inner := tree.child(path[0])) is not None and inner.kind in ("map", "seq"):
        if (inner.kind == "seq") != isinstance(path[1], int):
            break
        tree, path = inner, path[1:]
    return tree, path


def _nested(path: Path, value: Plain) -> Plain:
    for step in reversed(path):
        value = [value] if isinstance(step, int) else {step: value}
    return value


def _start(text: str, edit: Edit, writer: Writer) -> str:
    assert edit.value is not None
    if writer.as_json:
        return writer.pretty(_nested(edit.path, edit.value), 0, 2) + writer.newline
    if text.strip() in ("---", "{}", "~", "null"):
        text = ""
    gap = writer.newline if text and not text.endswith("\n") else ""
    return text + gap + writer.block(str(edit.path[0]), _nested(edit.path[1:], edit.value), 0)


def _insertion(text: str, parent: Tree, members: list[tuple[str, Plain]], writer: Writer) -> _Splice:
    """New members or elements at the end of a collection, in its own style."""
    inner = [(one.key.start, one.value) for one in parent.members] or [(one.start, one) for one in parent.elements]
    if parent.flow:
        return _flow_insertion(text, parent, inner, members, writer)
    first, last = inner[0][0], inner[-1][1].last
    if parent.kind == "seq":
        first = text.rindex("-", 0, first)
    indent = first - (text.rfind("\n", 0, first) + 1)
    at = _after_line(text, last)
    gap = writer.newline if at and text[at - 1] != "\n" else ""
    if parent.kind == "map":
        return _Splice(at, at, gap + "".join(writer.block(name, value, indent) for name, value in members))
    flowing = parent.elements[-1].flow
    lines = [f"{' ' * indent}- {writer.flow(value)}{writer.newline}" if flowing else writer.element(value, indent) for _, value in members]
    return _Splice(at, at, gap + "".join(lines))


def _flow_insertion(text: str, parent: Tree, inner: list[tuple[int, Tree]], members: list[tuple[str, Plain]], writer: Writer) -> _Splice:
    opened = text.index("{" if parent.kind == "map" else "[", parent.start) + 1
    line = text.rfind("\n", 0, opened) + 1
    outer = len(text[line:]) - len(text[line:].lstrip(" "))
    many = "\n" in text[opened : inner[0][0]] if inner else writer.as_json and (len(text.strip()) <= 2 or "\n" in text)
    indent = inner[0][0] - (text.rfind("\n", 0, inner[0][0]) + 1) if inner and many else outer + 2

    def words(value: Plain) -> str:
        return writer.pretty(value, indent, max(indent - outer, 1)) if many and writer.as_json else writer.flow(value)

    written = [f"{writer.scalar(name, flow=True)}: {words(value)}" if parent.kind == "map" else words(value) for name, value in members]
    gap = f"{writer.newline}{' ' * indent}" if many else " "
    if not inner:
        close = f"{writer.newline}{' ' * outer}" if many else ""
        return _Splice(opened, parent.end - 1, (gap if many else "") + f",{gap}".join(written) + close)
    at = inner[-1][1].last
    comma = re.compile(r"[ \t\r\n]*,").match(text, at)
    if comma:  # a comma behind the last, as YAML allows
        return _Splice(comma.end(), comma.end(), "".join(f"{gap}{one}," for one in written))
    return _Splice(at, at, "".join(f",{gap}{one}" for one in written))


def _replacement(text: str, parent: Tree, step: str | int, value: Plain, writer: Writer) -> _Splice:
    old = parent.child(step)
    assert old is not None
    anchor = _ANCHOR.match(text, old.start, old.end) if old.kind != "alias" and not writer.as_json else None
    start = anchor.end() if anchor else old.start
    if writer.as_json:
        line = text.rfind("\n", 0, start) + 1
        indent = len(text[line:]) - len(text[line:].lstrip(" "))
        many = "\n" in text[parent.start : _start_of(parent, 0)]
        return _Splice(start, old.last, writer.pretty(value, indent, 2) if many else writer.flow(value))
    if parent.flow or old.flow:
        return _Splice(start, old.last, writer.flow(value, old.style) if parent.flow or not isinstance(value, str) else writer.scalar(value, old.style))
    line = text.rfind("\n", 0, _start_of(parent, step)) + 1
    if isinstance(value, str) and old.kind in ("scalar", "alias") and old.style not in ("|", ">") and (isinstance(value, Bare) or not as_block(value)):
        gap = " " if text[start - 1 : start] == ":" else ""
        return _Splice(start, old.last, gap + writer.scalar(value, old.style))
    if parent.kind == "seq":
        dash = text.rindex("-", 0, old.start)
        return _Splice(line, _after_line(text, old.last), text[line:dash] + writer.element(value, dash - line)[dash - line :])
    return _member_replacement(text, parent, str(step), value, writer, anchor.group().rstrip() if anchor else "")


def _member_replacement(text: str, parent: Tree, name: str, value: Plain, writer: Writer, anchor: str) -> _Splice:
    """A member's value over several lines: all behind its colon is new, but a comment stays."""
    member = parent.member(name)
    assert member
    line = text.rfind("\n", 0, member.key.start) + 1
    old = member.value
    whole = writer.block(name, value, member.key.start - line)
    first, rest = whole[whole.index(":", len(writer.scalar(name))) :].split(writer.newline, 1)
    comment = _comment_behind(text, old)
    tail = f"{first}{'  ' if comment else ''}{comment}{writer.newline}{rest}"
    kept = f": {anchor}{tail[1:]}" if anchor else tail
    return _Splice(member.colon(text), _after_line(text, old.last), kept)


def _comment_behind(text: str, old: Tree) -> str:
    """The comment on the line where a value ends, or, of a block scalar, where it starts."""
    line = text[old.start :] if old.style in ("|", ">") else text[old.last :]
    found = re.match(r"[^\r\n#]*(?<=[ \t])(#[^\r\n]*)", line)
    return found[1] if found else ""
