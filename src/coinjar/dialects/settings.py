"""Nested settings, as frameworks read them: JSON or YAML with `{"mail": {"smtp": {"host": …}}}`, typed by kind.

A variable's path is its `nested` path, else its name split at the separator: `MAIL__SMTP__HOST` is mail, smtp, host as
written.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from coinjar.core.kinds import join_list, split_list
from coinjar.core.model import Variable
from coinjar.dialects.base import TYPED, Dialect, Entry, FileHeader, ReadItem, ReadResult
from coinjar.dialects.positioned import ParsedDocument, carriable
from coinjar.documents.edit import Edit, apply
from coinjar.documents.implicit_types import implicit_type
from coinjar.documents.json_literal import is_json_number
from coinjar.documents.jsontree import build_json_tree
from coinjar.documents.tree import TreeNode
from coinjar.documents.writer import Plain, UnquotedScalar


class SettingsDialect(Dialect):
    """A settings file. `as_json` selects its grammar."""

    name = "settings"
    about = "nested settings in JSON or YAML; a base file and one per stage"
    as_json = True

    def unsupported_reason(self, name: str, value: str) -> str | None:
        return carriable(name) or carriable(value)

    def clash(self, entries: Sequence[Entry]) -> str | None:
        paths: dict[tuple[str, ...], str] = {}
        for entry in entries:
            if entry.text is not None and paths.setdefault(self.path(entry.name), entry.name) != entry.name:
                path = self.path(entry.name)
                return (
                    f"{paths[path]} and {entry.name} would both be at {' · '.join(path)}: give one of them a place: "
                    "of its own"
                )
        for path, name in paths.items():
            other = next((paths[path[:length]] for length in range(1, len(path)) if path[:length] in paths), None)
            if other:
                return f"{name} is inside {other}: give one of them a place: of its own"
        return None

    def path(self, name: str) -> tuple[str, ...]:
        """Return a variable's path."""
        variable = self.parse_context.variables.get(name)
        return (
            variable.nested
            if variable and variable.nested
            else tuple(part for part in name.split(self.parse_context.separator) if part) or (name,)
        )

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        return self.update(b"", heading.stage, entries, heading)

    def update(self, old: bytes, file: str, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        del heading
        wanted = {
            self.path(entry.name): typed(entry.variable, entry.text) for entry in entries if entry.text is not None
        }
        there = {path: node for path, _, node in self._leaves(old, file)} if old.strip() else {}
        ours = {self.path(name) for name in self.parse_context.variables}
        edits = [Edit(path, None) for path in there if path in ours and path not in wanted]
        edits += [
            Edit(path, value)
            for path, value in wanted.items()
            if path not in there or not self._same(there[path], value)
        ]
        return self._applied(old, file, edits)

    def merge(self, old: bytes, file: str, entries: Sequence[Entry]) -> bytes:
        """Return the file with these entries set and nothing removed: for a base file, which may contain a framework's
        own defaults.
        """
        there = {path: node for path, _, node in self._leaves(old, file)} if old.strip() else {}
        wanted = {
            self.path(entry.name): typed(entry.variable, entry.text) for entry in entries if entry.text is not None
        }
        return self._applied(
            old,
            file,
            [
                Edit(path, value)
                for path, value in wanted.items()
                if path not in there or not self._same(there[path], value)
            ],
        )

    def _same(self, node: TreeNode, value: Plain) -> bool:
        """Return whether the value is already there, with the same type."""
        node = node.plain
        if isinstance(value, dict):
            return [member.name for member in node.members] == list(value) and all(
                self._same(member.value, value[member.name]) for member in node.members
            )
        if isinstance(value, list):
            return (
                node.kind == "seq" and len(node.elements) == len(value) and all(map(self._same, node.elements, value))
            )
        is_text = node.style is not None or (not self.as_json and implicit_type(node) is None)
        return node.kind == "scalar" and node.text == value and is_text is not isinstance(value, UnquotedScalar)

    def spelled(self, entry: Entry) -> str | None:
        """Return a value as it reads back from such a file."""
        if entry.text is None:
            return None
        value = typed(entry.variable, entry.text)
        if isinstance(value, str):
            return str(value)
        return entry.text

    def _applied(self, old: bytes, file: str, edits: list[Edit]) -> bytes:
        if not old.strip():
            old = b"{}\n" if self.as_json else b""
        done = apply(old, file, edits, careful=True, as_json=self.as_json) if edits else old
        return done if done.endswith(b"\n") or not done else done + b"\n"

    def _leaves(self, data: bytes, file: str) -> Iterator[tuple[tuple[str, ...], TreeNode, TreeNode]]:
        document = ParsedDocument(data, file, as_json=self.as_json)
        document.members("settings object")
        ours = {self.path(name) for name in self.parse_context.variables}
        if document.root:
            yield from _walk(document.root, (), ours)

    def read(self, data: bytes, file: str) -> ReadResult:
        document = ParsedDocument(data, file, as_json=self.as_json)
        document.members("settings object")
        names = {self.path(name): name for name in self.parse_context.variables}
        items = []
        for path, key, node in _walk(document.root, (), set(names)) if document.root else ():
            name = names.get(path) or self.parse_context.separator.join(path)
            variable = self.parse_context.variables.get(name)
            if node.kind in ("map", "seq"):
                if variable is None or variable.kind not in ("json", "list"):
                    document.remark(
                        key, f"{name} is {'a list' if node.kind == 'seq' else 'empty'}; it was read as JSON text"
                    )
                source = (
                    _list_text(variable, node)
                    if variable and variable.kind == "list"
                    else _json_of(node, as_json=self.as_json)
                )
                items.append(ReadItem(name, source, document.location(key)))
            elif self.as_json and not node.style and node.text != "null":
                items.append(ReadItem(name, node.text, document.location(key)))  # these files are for typed values
            elif item := document.item(name, node, key):
                items.append(item)
        if not self.as_json:  # the same for YAML: its numbers and booleans are expected here
            document.remarks = [remark for remark in document.remarks if remark.kind != TYPED]
        return ReadResult(items, document.remarks)


def _walk(
    node: TreeNode, path: tuple[str, ...], ours: set[tuple[str, ...]]
) -> Iterator[tuple[tuple[str, ...], TreeNode, TreeNode]]:
    """Yield every leaf with its path and its name's node: a scalar, a list, or data at a declared path."""
    for member in node.members:
        value, here = member.value.plain, (*path, member.name)
        if value.kind == "map" and here not in ours and value.members:
            yield from _walk(value, here, ours)
        else:
            yield here, member.key, value


def typed(variable: Variable | None, value: str) -> Plain:
    """Return a value in the type that its kind has in JSON."""
    if variable is None:
        return value
    if variable.kind == "boolean":
        spelling = variable.constraints.get("spelling")
        true = spelling["true"] if isinstance(spelling, dict) else "true"
        return UnquotedScalar("true" if value == true else "false")
    if variable.kind in ("integer", "number", "port"):
        return UnquotedScalar(value) if is_json_number(value) else value
    if variable.kind == "list":
        return list(split_list(value, variable.constraints))
    if variable.kind == "json":
        tree = _json_or_none(value)
        return plain_of(tree) if tree else value
    return value


def _json_or_none(source: str) -> TreeNode | None:
    from coinjar.core.errors import InputError

    try:
        return build_json_tree(source, "")
    except InputError:
        return None


def plain_of(tree: TreeNode) -> Plain:
    """Return a JSON tree as data to write."""
    if tree.kind == "map":
        return {member.name: plain_of(member.value) for member in tree.members}
    if tree.kind == "seq":
        return [plain_of(node) for node in tree.elements]
    return tree.text if tree.style else UnquotedScalar(tree.text)


def _json_of(tree: TreeNode, *, as_json: bool) -> str:
    """Return data as compact JSON text; in YAML, JSON's bare words keep their type."""
    from json import dumps

    tree = tree.plain
    if tree.kind == "map":
        return (
            "{"
            + ",".join(
                f"{dumps(member.name, ensure_ascii=False)}:{_json_of(member.value, as_json=as_json)}"
                for member in tree.members
            )
            + "}"
        )
    if tree.kind == "seq":
        return "[" + ",".join(_json_of(node, as_json=as_json) for node in tree.elements) + "]"
    word = _json_or_none(tree.text) if not tree.style else None
    bare = word is not None and word.kind == "scalar" and not word.style
    return tree.text if bare else dumps(tree.text, ensure_ascii=False)


def _list_text(variable: Variable, node: TreeNode) -> str:
    return join_list([child.plain.text for child in node.elements], variable.constraints)


def merged(base: ReadResult, over: ReadResult) -> ReadResult:
    """Return a base file and a stage's merged, as their reader merges them."""
    items = {item.name: item for item in base.items}
    items.update({item.name: item for item in over.items})
    return ReadResult(list(items.values()), [*base.remarks, *over.remarks])
