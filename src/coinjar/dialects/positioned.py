"""Shared by the dialects of JSON, YAML and TOML: from a text to values with positions."""

from __future__ import annotations

import json
import re
from typing import NamedTuple

from coinjar.core.errors import InputError, Location, location_of
from coinjar.core.value_text import not_for_environments
from coinjar.dialects.base import TYPED, ReadItem, ReadRemark, decode
from coinjar.documents.implicit_types import implicit_type
from coinjar.documents.jsontree import build_json_tree
from coinjar.documents.tree import TreeNode, build_tree, documents
from coinjar.documents.yamltext import compose


def carriable(source: str) -> str | None:
    """Return why no text format can carry this value; a NUL is possible in these."""
    return not_for_environments(source.replace("\0", ""))


def json_text(value: object) -> bytes:
    """Return data as JSON over several lines."""
    return (json.dumps(value, indent=2, ensure_ascii=False) + "\n").encode()


class DocumentPart(NamedTuple):
    """One document of a YAML text: where it starts and ends, and its parsed form."""

    start: int
    end: int
    document: ParsedDocument


def parts(source: str, file: str) -> list[DocumentPart]:
    """Return the documents of a YAML text, each with its positions in the whole text.

    Raises InputError if it is not YAML.
    """
    spans = documents(source, file)
    blank = re.compile(r"[^\n]")  # everything before a document is blanked, so that its positions are the file's
    return [
        DocumentPart(
            start,
            end,
            ParsedDocument((blank.sub(" ", source[:start]) + source[start:end]).encode(), file, as_json=False),
        )
        for start, end in spans
    ]


class ParsedDocument:
    """A parsed JSON or YAML text."""

    def __init__(self, data: bytes, file: str, *, as_json: bool) -> None:
        self.file = file
        self.as_json = as_json
        self.text, self.remarks = decode(data, file)
        if as_json:
            self.root: TreeNode | None = build_json_tree(self.text, file)
        else:
            compose(self.text.encode(), file)
            self.root = build_tree(self.text)

    def location(self, node: TreeNode) -> Location:
        return location_of(self.text, node.start, self.file)

    def remark(self, node: TreeNode, message: str, *, lost: bool = False, kind: str = "") -> None:
        self.remarks.append(ReadRemark(self.location(node), message, lost, kind))

    def members(self, kind: str) -> list[tuple[TreeNode, TreeNode]]:
        """Return the root's names and values; `kind` says what it should be.

        Raises InputError if it is not a mapping.
        """
        if self.root is None or self.root.is_null:
            return []
        if self.root.kind != "map":
            raise InputError(
                f"this is not a {kind}",
                hint="it must be NAME and value pairs at the top level",
                location=self.location(self.root),
                code="shape",
            )
        return [(member.key, member.value.plain) for member in self.root.members]

    def item(self, name: str, node: TreeNode, at: TreeNode) -> ReadItem | None:
        """Return a scalar as a variable, with remarks if it is not simply a text."""
        if node.kind != "scalar":
            self.remark(
                at,
                f"ignored: {name} is not a text but {'an object' if node.kind == 'map' else 'a list'}",
                lost=True,
            )
            return None
        if (node.is_null and not self.as_json) or (self.as_json and not node.style and node.text == "null"):
            self.remark(at, f'ignored: {name} is null, which may mean "", the word null, or no value', lost=True)
            return None
        if self.as_json and not node.style:
            self.remark(at, f"{name} is not a text; it was read as written")
        elif not self.as_json and (meaning := implicit_type(node)):
            words, source = meaning
            shown = f"becomes '{source}' there" if source != node.text else "was read as written"
            message = f"{name} is {words} to readers with types, and {shown}: quote it"
            self.remark(at, message, kind=TYPED if source == node.text else "")
        return ReadItem(name, node.text, self.location(at))
