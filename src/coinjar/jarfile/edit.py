"""Change values in a YAML text and nothing else: comments, order, quoting, anchors and line ends stay.

The text is spliced at its nodes' marks, read again, and compared with what was meant; if they differ, nothing is changed.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple, TypeAlias

import yaml

from coinjar.core.errors import InputError, Place
from coinjar.jarfile.tree import NULL, Tree, data_of, grow
from coinjar.jarfile.yamltext import NULLS, compose

Plain: TypeAlias = "str | list[str] | dict[str, Plain]"
"""What can be written: a text, a list of texts, or a mapping of these."""
Path: TypeAlias = tuple[str, ...]
_ANCHOR = re.compile(r"(?:[&!]\S*[ \t]+)+")
_FORCED = re.compile(r"[\x00-\x09\x0b-\x1f\x7f-\x9f\u2028\u2029\ufeff\ud800-\udfff]")


class Edit(NamedTuple):
    """Set what stands at a path of names, or remove it (`value` is None)."""

    path: Path
    value: Plain | None


class _Splice(NamedTuple):
    start: int
    end: int
    text: str


def apply(data: bytes, file: str, edits: Sequence[Edit]) -> bytes:
    """The file's bytes with the edits made. Raises InputError, with nothing changed, if they cannot be made faithfully."""
    compose(data, file)  # the same guards as for every file that is read
    text = data.decode()
    mark = "\ufeff" if text.startswith("\ufeff") else ""
    text = text[len(mark) :]
    meant = data_of(grow(text))
    for edit in edits:
        meant = _edited(meant, edit.path, edit.value)
    newline = "\r\n" if "\r\n" in text else "\n"
    for edit in [one for one in edits if one.value is None]:
        text = _removed(text, edit.path)
    additions = [one for one in edits if one.value is not None]
    while additions:
        text, additions = _written(text, additions, newline)
    try:
        done = data_of(grow(text))
    except yaml.YAMLError:
        done = None
    for edit in edits:
        if edit.value is None:
            meant, done = _without_empty(meant, edit.path[:-1]), _without_empty(done, edit.path[:-1])
    if done != meant:
        names = ", ".join(edit.path[-1] for edit in edits)
        raise InputError(
            f"changing {names} here would change something else too (an anchor that others use?)", hint="change it by hand", place=Place(file), code="edit"
        )
    return (mark + text).encode()


def _edited(data: object, path: Path, value: Plain | None) -> object:
    """The data with one edit made."""
    if not path:
        return value
    mapping = dict(data) if isinstance(data, dict) else {}
    inner = _edited(mapping.get(path[0]), path[1:], value)
    if inner is None:
        mapping.pop(path[0], None)
    else:
        mapping[path[0]] = inner
    return mapping


def _without_empty(data: object, path: Path) -> object:
    """The data without the mappings along the path that hold nothing: a removal may leave them or not."""
    if not isinstance(data, dict) or not path:
        return None if data is NULL or data == {} else data
    mapping = {**data, path[0]: _without_empty(data.get(path[0]), path[1:])}
    if mapping[path[0]] is None:
        del mapping[path[0]]
    return mapping or None


def _removed(text: str, path: Path) -> str:
    tree = grow(text)
    if tree is None:
        return text
    mapping, trail = tree, []
    for name in path:
        inner = mapping.member(name)
        if inner is None:
            return text
        trail.append((mapping, inner))
        mapping = inner.value
    depth = len(path) - 1
    while depth > 0 and len(trail[depth][0].members) == 1 and "#" not in text[trail[depth - 1][1].key.end : trail[depth][1].key.start]:
        depth -= 1  # what it leaves empty goes too, unless a comment stands in it
    return _without(text, trail[depth][0], path[depth])


def _without(text: str, mapping: Tree, name: str) -> str:
    """The text without one member of a mapping."""
    members = mapping.members
    number = next(place for place, one in enumerate(members) if one.name == name)
    member = members[number]
    if mapping.flow:
        if number + 1 < len(members):
            return text[: member.key.start] + text[members[number + 1].key.start :]
        start = members[number - 1].value.last if number else member.key.start
        return text[:start] + text[member.value.last :]
    start = text.rfind("\n", 0, member.key.start) + 1
    end = _after_line(text, member.value.last)
    if text[start : member.key.start].strip():  # the first of a mapping that starts behind a dash
        start = member.key.start
    return text[:start] + text[end:]


def _after_line(text: str, at: int) -> int:
    """Where the line that `at` ends in is over."""
    if at and text[at - 1] == "\n":  # a block scalar ends behind its line break
        return at
    end = text.find("\n", at)
    return len(text) if end < 0 else end + 1


def _written(text: str, edits: list[Edit], newline: str) -> tuple[str, list[Edit]]:
    """Make as many edits as one reading of the text allows; return the new text and the edits that are left."""
    tree = grow(text)
    if tree is None or tree.is_null:
        return _start(text, edits[0], newline), edits[1:]
    splices: list[_Splice] = []
    new: dict[int, tuple[Tree, list[tuple[str, Plain]]]] = {}
    left: list[Edit] = []
    opened: set[Path] = set()
    for edit in edits:
        assert edit.value is not None
        parent, rest = _descend(tree, edit.path)
        made = edit.path[: len(edit.path) - len(rest) + 1]
        if len(rest) > 1 and made in opened:
            left.append(edit)  # its mapping is being made in this round
            continue
        opened.add(made)
        known = parent.member(rest[0])
        if known is not None:
            splices.append(_replacement(text, parent, known.name, _nested(rest[1:], edit.value), newline))
        else:
            new.setdefault(id(parent), (parent, []))[1].append((rest[0], _nested(rest[1:], edit.value)))
    splices += [_insertion(text, parent, members, newline) for parent, members in new.values()]
    for splice in sorted(splices, reverse=True):
        text = text[: splice.start] + splice.text + text[splice.end :]
    return text, left


def _descend(tree: Tree, path: Path) -> tuple[Tree, Path]:
    """The deepest mapping along the path that is there, and what is left of the path."""
    while len(path) > 1 and (inner := tree.member(path[0])) is not None and inner.value.kind == "map":
        tree, path = inner.value, path[1:]
    return tree, path


def _nested(path: Path, value: Plain) -> Plain:
    for name in reversed(path):
        value = {name: value}
    return value


def _start(text: str, edit: Edit, newline: str) -> str:
    assert edit.value is not None
    if text.strip() in ("---", "{}", "~", "null"):
        text = ""
    gap = newline if text and not text.endswith("\n") else ""
    return text + gap + _block(edit.path[0], _nested(edit.path[1:], edit.value), 0, newline)


def _insertion(text: str, mapping: Tree, members: list[tuple[str, Plain]], newline: str) -> _Splice:
    """New members at the end of a mapping, in the mapping's own style."""
    if mapping.flow:
        written = ", ".join(f"{_scalar(name, flow=True)}: {_flow(value)}" for name, value in members)
        at = mapping.members[-1].value.last if mapping.members else mapping.start + text[mapping.start : mapping.end].index("{") + 1
        return _Splice(at, at, f", {written}" if mapping.members else written)
    last = mapping.members[-1].value.last
    first = mapping.members[0].key.start
    indent = first - (text.rfind("\n", 0, first) + 1)
    at = _after_line(text, last)
    gap = newline if at and text[at - 1] != "\n" else ""
    return _Splice(at, at, gap + "".join(_block(name, value, indent, newline) for name, value in members))


def _replacement(text: str, mapping: Tree, name: str, value: Plain, newline: str) -> _Splice:
    member = mapping.member(name)
    assert member is not None
    old = member.value
    anchor = _ANCHOR.match(text, old.start, old.end) if old.kind != "alias" else None
    start = anchor.end() if anchor else old.start
    if mapping.flow or old.flow:
        return _Splice(start, old.last, _flow(value, old.style) if mapping.flow or not isinstance(value, str) else _scalar(value, old.style))
    line = text.rfind("\n", 0, member.key.start) + 1
    indent = member.key.start - line
    if isinstance(value, str) and old.kind in ("scalar", "alias") and old.style not in ("|", ">") and not _as_block(value):
        gap = " " if text[start - 1 : start] == ":" else ""
        return _Splice(start, old.last, gap + _scalar(value, old.style))
    colon = member.colon(text)
    whole = _block(name, value, indent, newline)
    first, rest = whole[whole.index(":", len(_scalar(name))) :].split(newline, 1)
    comment = _comment_behind(text, old)
    tail = f"{first}{'  ' if comment else ''}{comment}{newline}{rest}"
    kept = f": {anchor.group().rstrip()}{tail[1:]}" if anchor else tail
    return _Splice(colon, _after_line(text, old.last), kept)


def _comment_behind(text: str, old: Tree) -> str:
    """The comment on the line where a value ends, or, of a block scalar, where it starts."""
    line = text[old.start :] if old.style in ("|", ">") else text[old.last :]
    found = re.match(r"[^\r\n#]*(?<=[ \t])(#[^\r\n]*)", line)
    return found[1] if found else ""


def _block(name: str, value: Plain, indent: int, newline: str) -> str:
    """A member in block style, with its line break."""
    start = " " * indent + _scalar(name) + ":"
    if isinstance(value, dict) and value and not _small(value):
        return start + newline + "".join(_block(inner, one, indent + 2, newline) for inner, one in value.items())
    if isinstance(value, str) and _as_block(value):
        chomp = "" if value.endswith("\n") else "-"
        return f"{start} |{chomp}{newline}" + "".join(f"{' ' * (indent + 2)}{line}{newline}" for line in value.rstrip("\n").split("\n"))
    return f"{start} {_scalar(value) if isinstance(value, str) else _flow(value)}{newline}"


def _small(value: dict[str, Plain]) -> bool:
    """A form such as {unset: true}, which reads best on one line."""
    return len(value) == 1 and set(value) <= {"text", "unset", "file", "from_env", "command"}


def _as_block(text: str) -> bool:
    """Whether a text of several lines reads best, and is carried exactly, as a literal block."""
    lines = text.rstrip("\n").split("\n")
    exact = not text.endswith("\n\n") and all(line and line == line.rstrip() and not line.startswith((" ", "\t")) for line in lines)
    return len(lines) > 1 and exact and not _FORCED.search(text)


def _flow(value: Plain, style: str | None = None) -> str:
    if isinstance(value, str):
        return _scalar(value, style, flow=True)
    if isinstance(value, list):
        return f"[{', '.join(_scalar(one, flow=True) for one in value)}]"
    return "{" + ", ".join(f"{_scalar(name, flow=True)}: {_flow(one)}" for name, one in value.items()) + "}"


def _scalar(text: str, style: str | None = None, *, flow: bool = False) -> str:
    """A text on one line, in the style asked for where that carries it, else plain, else quoted."""
    if text in NULLS or "\n" in text or _FORCED.search(text):
        style = "'" if style == "'" and "\n" not in text and not _FORCED.search(text) else '"'
    elif style not in ("'", '"'):
        style = None
    events = [
        yaml.StreamStartEvent(),
        yaml.DocumentStartEvent(),
        yaml.MappingStartEvent(anchor=None, tag=None, implicit=True, flow_style=flow),
        yaml.ScalarEvent(None, None, (True, False), "k"),
        yaml.ScalarEvent(None, None, (True, True), text, style=style),
        yaml.MappingEndEvent(),
        yaml.DocumentEndEvent(),
        yaml.StreamEndEvent(),
    ]
    written: str = yaml.emit(events, width=1 << 30, allow_unicode=True)
    return written.strip("\n")[4:-1] if flow else written.strip("\n")[3:]
