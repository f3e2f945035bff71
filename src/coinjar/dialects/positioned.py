"""What the dialects made of JSON, YAML and TOML share: from a text to positioned values."""

from __future__ import annotations

import json
import re
from typing import NamedTuple

from coinjar.core.errors import InputError, Location, location_of
from coinjar.core.value_text import not_for_environments
from coinjar.dialects.base import TYPED, ReadItem, ReadRemark, decode
from coinjar.documents.implicit_types import becomes
from coinjar.documents.jsontree import build_json_tree
from coinjar.documents.tree import TreeNode, build_tree, documents
from coinjar.documents.yamltext import compose


def carriable(text: str) -> str | None:
    """Why no text format can hold this value; a NUL is fine in these."""
    return not_for_environments(text.replace("\0", ""))


def json_text(value: object) -> bytes:
    """Data as JSON, laid out over lines."""
    return (json.dumps(value, indent=2, ensure_ascii=False) + "\n").encode()


class DocumentPart(NamedTuple):
    """One document of a YAML text: where it starts and ends, and the same taken apart."""

    start: int
    end: int
    document: ParsedDocument


def parts(text: str, file: str) -> list[DocumentPart]:
    """The documents of a YAML text, each with the positions that it has in the whole. Raises InputError for what is not YAML."""
    spans = documents(text, file)
    blank = re.compile(r"[^\n]")  # all before a document is blank, so that its places are the file's
    return [
        DocumentPart(
            start, end, ParsedDocument((blank.sub(" ", text[:start]) + text[start:end]).encode(), file, as_json=False)
        )
        for start, end in spans
    ]


class ParsedDocument:
    """A JSON or YAML text taken apart."""

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
        """The root's names and values; `kind` says what it should be. Raises InputError if it is no mapping."""
        if self.root is None or self.root.is_null:
            return []
        if self.root.kind != "map":
            raise InputError(
                f"this is no {kind}",
                hint="it must be NAME and value pairs at the top",
                location=self.location(self.root),
                code="shape",
            )
        return [(member.key, member.value.plain) for member in self.root.members]

    def item(self, name: str, node: TreeNode, at: TreeNode) -> ReadItem | None:
        """A scalar as a variable, with remarks on what is not simply a text."""
        if node.kind != "scalar":
            self.remark(
                at, f"left out: {name} is not a text but {'an object' if node.kind == 'map' else 'a list'}", lost=True
            )
            return None
        if (node.is_null and not self.as_json) or (self.as_json and not node.style and node.text == "null"):
            self.remark(at, f'left out: {name} is null, which may mean "", the word null, or no value', lost=True)
            return None
        if self.as_json and not node.style:
            self.remark(at, f"{name} is not a text; it was taken as it is written")
        elif not self.as_json and (meaning := becomes(node)):
            words, text = meaning
            shown = f"becomes '{text}' there" if text != node.text else "was taken as it is written"
            message = f"{name} is {words} to readers that tell types apart, and {shown}: quote it"
            self.remark(at, message, kind=TYPED if text == node.text else "")
        return ReadItem(name, node.text, self.location(at))
