"""Kubernetes core/v1 objects: a ConfigMap, and a Secret in base64."""

from __future__ import annotations

import re
from base64 import b64decode, b64encode
from binascii import Error as NotBase64
from collections.abc import Sequence

from coinjar.core.errors import InputError, location_of
from coinjar.core.value_text import not_for_environments
from coinjar.dialects.base import Dialect, Entry, FileHeader, ReadItem, ReadRemark, ReadResult, decode
from coinjar.dialects.maps import yaml_quoted
from coinjar.dialects.positioned import ParsedDocument, parts
from coinjar.documents.tree import TreeNode
from coinjar.documents.writer import surely_text

# Keys of both are [-._a-zA-Z0-9]+ of at most 253; of those only C identifiers with '-' and '.' become variables
# (envFrom).
VARIABLE = re.compile(r"[-._a-zA-Z][-._a-zA-Z0-9]{0,252}")
LARGEST = 1 << 20
"""Maximum size of an object's data, in bytes (core/v1: MaxSecretSize, and the same for a ConfigMap)."""


class ConfigMapDialect(Dialect):
    """`kind: ConfigMap` with `data`."""

    name = "kube-configmap"
    about = "a Kubernetes ConfigMap"
    kind = "ConfigMap"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        if not VARIABLE.fullmatch(name) or name.startswith(".."):
            return (
                "Kubernetes does not accept a name with a character other than A to Z, digits, '_', '-' and '.', or "
                "with a leading digit"
            )
        return not_for_environments(value)

    def clash(self, entries: Sequence[Entry]) -> str | None:
        size = sum(len(entry.name) + len((entry.text or "").encode()) for entry in entries)
        return f"they are {size >> 10} KiB, but an object holds at most 1 MiB" if size > LARGEST else None

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        return self.object_text(f"{heading.app}-{heading.service}", entries, {}).encode()

    def object_text(
        self,
        name: str,
        entries: Sequence[Entry],
        annotations: dict[str, str],
        *,
        namespace: str = "",
        as_text: bool = False,
    ) -> str:
        """Return the object under a name of its own. `as_text` writes a Secret's values readable, in `stringData`."""
        lines = ["apiVersion: v1", f"kind: {self.kind}", "metadata:", f"  name: {_plain(name)}"]
        if namespace:
            lines += [f"  namespace: {_plain(namespace)}"]
        if annotations:
            lines += ["  annotations:", *(f"    {key}: {yaml_quoted(source)}" for key, source in annotations.items())]
        kept = [entry for entry in entries if entry.text is not None]
        section = self.section(as_text=as_text)
        lines += [f"{section}:" if kept else f"{section}: {{}}"]
        lines += [f"  {_plain(entry.name)}: {self.value(entry.text or '', as_text=as_text)}" for entry in kept]
        return "\n".join(lines) + "\n"

    def section(self, *, as_text: bool) -> str:
        del as_text
        return "data"

    def value(self, source: str, *, as_text: bool) -> str:
        """Return a value as it is written."""
        del as_text
        return yaml_quoted(source)

    def read(self, data: bytes, file: str) -> ReadResult:
        source, remarks = decode(data, file)
        items: list[ReadItem] = []
        result = 0
        for _, _, document in parts(source, file):
            kind = document.root.child("kind") if document.root else None
            if document.root and kind and kind.text in ("ConfigMap", "Secret"):
                result += 1
                items += object_items(document, document.root)
                remarks += document.remarks
        if not result:
            raise InputError(
                "it contains no ConfigMap or Secret",
                hint="use a manifest that contains one",
                location=location_of(source, 0, file),
                code="shape",
            )
        return ReadResult(items, remarks)


class SecretDialect(ConfigMapDialect):
    """`kind: Secret` with `data` in base64."""

    name = "kube-secret"
    about = "a Kubernetes Secret, values in base64"
    kind = "Secret"

    def section(self, *, as_text: bool) -> str:
        return "stringData" if as_text else "data"

    def value(self, source: str, *, as_text: bool) -> str:
        return yaml_quoted(source) if as_text else yaml_quoted(b64encode(source.encode()).decode())


def _plain(name: str) -> str:
    return name if re.fullmatch(r"[-\w]+", name, re.ASCII) and surely_text(name) else yaml_quoted(name)


def object_items(document: ParsedDocument, root: TreeNode) -> list[ReadItem]:
    """Return what a ConfigMap or a Secret contains; for a name in both sections the later one, `stringData`,
    applies.
    """
    is_secret = (root.child("kind") or root).text == "Secret"
    items: list[ReadItem] = []
    for section in ("data", "stringData") if is_secret else ("data",):
        mapping = root.child(section)
        for member in mapping.members if mapping else ():
            item = document.item(member.name, member.value.plain, member.key)
            if item and section == "data" and is_secret:
                source = _decoded(item.text or "")
                if source is None:
                    document.remark(member.key, f"ignored: {member.name} is not a text in base64", lost=True)
                    continue
                item = item._replace(text=source)
            if item:
                items.append(item._replace(secret=is_secret or None))
    binary = root.child("binaryData")
    for member in binary.members if binary else ():
        document.remarks.append(
            ReadRemark(document.location(member.key), f"ignored: {member.name} is binary", lost=True)
        )
    return items


def _decoded(source: str) -> str | None:
    try:
        return b64decode("".join(source.split()), validate=True).decode()
    except (NotBase64, UnicodeDecodeError, ValueError):
        return None
