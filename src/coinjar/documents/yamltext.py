"""YAML text to nodes with positions, in the failsafe schema (YAML 1.2.2, 10.1): a scalar is the characters as
written.
"""

from __future__ import annotations

import contextlib
import re
from typing import Any

import yaml
from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from coinjar.core.errors import InputError, Location
from coinjar.core.utf8 import decode_file

try:
    from yaml import CBaseLoader as _Base
except ImportError:  # PyYAML built without libyaml: slower, otherwise the same
    from yaml import BaseLoader as _Base  # type: ignore[assignment]

DEEPEST = 50
LARGEST_FILE = 64 << 20
"""Maximum size of a YAML file, in bytes."""
MOST_EXPANDED = 200_000
"""Maximum number of values in a file with aliases, each counted as often as it is referred to."""
_STR, _SEQ, _MAP = "tag:yaml.org,2002:str", "tag:yaml.org,2002:seq", "tag:yaml.org,2002:map"
_TAGS = {ScalarNode: _STR, SequenceNode: _SEQ, MappingNode: _MAP}
_DEEP_LINE = rb"(?m)^[ \-?:]{%d,}" % (DEEPEST * 2)
_BRACKETS = rb"[\[\]{}]"
NULLS = frozenset({"", "~", "null", "Null", "NULL"})


class FailsafeLoader(_Base):
    """Every scalar is text; an explicit tag is kept, and found by `compose`."""

    def resolve(self, kind: type[Node], value: object, implicit: object) -> str:
        del value, implicit
        return _TAGS[kind]


def is_null(node: Node) -> bool:
    """Return whether a node is a bare null: nothing, `~` or `null`, without quotes."""
    return isinstance(node, ScalarNode) and not node.style and node.value in NULLS


def location(node: Node, file: str) -> Location:
    """Return where a node starts."""
    mark = node.start_mark
    return Location(file, mark.line + 1, mark.column + 1)


def compose(data: bytes, file: str) -> Node | None:
    """Return the root node of a file with at most one document; None for an empty one.

    Raises InputError with the location.
    """
    check_bytes(data, file)
    loader = FailsafeLoader(data)
    try:
        node: Node | None = loader.get_single_node()
    except yaml.YAMLError as fault:
        raise translated(fault, file) from None
    except RecursionError:
        raise _too_deep(Location(file)) from None
    finally:
        loader.dispose()
    if node is not None and b"*" in data:
        _refuse_expansion(node, file)
    if node is not None and b"!" in data:
        _refuse_tags(node, file)
    return node


def refuse_expansion(data: bytes, file: str) -> None:
    """Refuse aliases that multiply too much in any document of a file. Raises InputError."""
    loader = FailsafeLoader(data)
    try:
        while loader.check_node():
            if (root := loader.get_node()) is not None:
                _refuse_expansion(root, file)
    except yaml.YAMLError as fault:
        raise translated(fault, file) from None
    finally:
        loader.dispose()


def load_plain(data: bytes, file: str) -> Any:  # noqa: ANN401 - YAML
    """Return a file's one document as plain objects, after the checks of `compose`. Raises InputError."""
    compose(data, file)
    try:
        return yaml.safe_load(data)
    except (yaml.YAMLError, ValueError) as fault:
        if isinstance(fault, yaml.YAMLError):
            raise translated(fault, file) from None
        raise InputError(
            "a value here is no number and no date", hint="quote it", location=Location(file), code="yaml"
        ) from None


def _refuse_expansion(root: Node, file: str) -> None:
    """Refuse aliases that stand for more than MOST_EXPANDED nodes all together, and one inside of what it names.

    Each node is counted once, whatever the aliases multiply it to.
    """
    sizes: dict[int, int] = {}
    open_nodes: set[int] = set()
    stack: list[tuple[Node, bool]] = [(root, False)]
    while stack:
        node, is_done = stack.pop()
        key = id(node)
        children = _children(node)
        if is_done:
            open_nodes.discard(key)
            sizes[key] = 1 + sum(sizes[id(child)] for child in children)
            if sizes[key] > MOST_EXPANDED:
                raise _expands(node, file, f"aliases multiply this to more than {MOST_EXPANDED:,} values")
        elif key in open_nodes:
            raise _expands(node, file, "an alias refers to what contains it")
        elif key not in sizes:
            open_nodes.add(key)
            stack.append((node, True))
            for child in children:
                if id(child) in open_nodes:
                    raise _expands(child, file, "an alias refers to what contains it")
                if id(child) not in sizes:
                    stack.append((child, False))


def _children(node: Node) -> list[Node]:
    if isinstance(node, MappingNode):
        return [part for pair in node.value for part in pair]
    return node.value if isinstance(node, SequenceNode) else []


def _expands(node: Node, file: str, message: str) -> InputError:
    return InputError(message, hint="write it without aliases", location=location(node, file), code="yaml")


def check_bytes(data: bytes, file: str) -> None:
    """Refuse a text that is too large, not UTF-8, or nested too deeply. Raises InputError with the location."""
    if len(data) > LARGEST_FILE:
        raise InputError(
            f"the file is over {LARGEST_FILE >> 20} MiB",
            hint="is it the right file?",
            location=Location(file),
            code="yaml",
        )
    decode_file(data, file)
    depth = 0
    for bracket in re.findall(_BRACKETS, data):
        depth += 1 if bracket in b"[{" else -1
        if depth > DEEPEST:
            break
    if depth > DEEPEST or re.search(_DEEP_LINE, data):
        _check_depth(data, file)  # brackets and spaces may be inside texts: count exactly


def _check_depth(data: bytes, file: str) -> None:
    try:
        _count_depth(data, file)
    except yaml.YAMLError as fault:
        # Some versions of PyYAML have their own limit, which the scanner meets before the parser reports what comes
        # first: count up to it.
        mark = getattr(fault, "problem_mark", None)
        with contextlib.suppress(yaml.YAMLError):
            _count_depth(data.decode()[: mark.index if mark else 0].encode(), file)
        raise translated(fault, file) from None


def _count_depth(data: bytes, file: str) -> None:
    """Raise InputError at the first collection that is too deep; YAMLError if it is not YAML."""
    depth = 0
    for event in yaml.parse(data, Loader=FailsafeLoader):
        if isinstance(event, yaml.CollectionStartEvent):
            depth += 1
            if depth > DEEPEST:
                mark = event.start_mark
                raise _too_deep(Location(file, mark.line + 1, mark.column + 1) if mark else Location(file))
        elif isinstance(event, yaml.CollectionEndEvent):
            depth -= 1


def _too_deep(where: Location) -> InputError:
    return InputError(
        f"the file is nested more than {DEEPEST} levels deep", hint="flatten it", location=where, code="yaml"
    )


def translated(fault: yaml.YAMLError, file: str) -> InputError:
    """Return PyYAML's error as our error with its location."""
    mark = getattr(fault, "problem_mark", None) or getattr(fault, "context_mark", None)
    where = Location(file, mark.line + 1, mark.column + 1) if mark else Location(file)
    problem = str(getattr(fault, "problem", None) or getattr(fault, "reason", None) or "it cannot be read")
    if "another document" in problem or "single document" in str(getattr(fault, "context", "")):
        return InputError(
            "a second document starts here",
            hint="keep one document per file: remove the '---'",
            location=where,
            code="yaml",
        )
    if "special characters" in problem or "control characters" in problem:
        problem = "there is a control character here"
    return InputError(
        f"this is not YAML: {problem}",
        hint="check the quotes, colons and indentation there",
        location=where,
        code="yaml",
    )


def _refuse_tags(root: Node, file: str) -> None:
    """Only explicit tags are examined: `resolve` gives every other node the default of its kind."""
    visited: set[int] = set()
    rest = [root]
    while rest:
        node = rest.pop()
        if id(node) in visited:
            continue
        visited.add(id(node))
        if node.tag != _TAGS[type(node)]:
            tag = node.tag.replace("tag:yaml.org,2002:", "!!")
            raise InputError(
                f"the tag '{tag}' is not supported here",
                hint="remove it: text stays text without it",
                location=location(node, file),
                code="yaml",
            )
        if isinstance(node, MappingNode):
            rest += [item for pair in node.value for item in pair]
        elif isinstance(node, SequenceNode):
            rest += node.value


def one_line(node: Node | None) -> str:
    """Return a node as one line: the text, or the members in order; "" for none."""
    if isinstance(node, ScalarNode):
        return str(node.value)
    if isinstance(node, SequenceNode):
        return f"[{', '.join(one_line(child) for child in node.value)}]"
    if isinstance(node, MappingNode):
        return f"{{{', '.join(f'{one_line(key)}: {one_line(value)}' for key, value in node.value)}}}"
    return ""
