"""Flat maps, and the list of pairs."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence

from coinjar.core.errors import InputError, Location, location_of
from coinjar.dialects.base import Dialect, Entry, FileHeader, ReadItem, ReadResult, decode
from coinjar.dialects.positioned import ParsedDocument, carriable, json_text
from coinjar.documents.tree import TreeNode
from coinjar.documents.writer import FORCED, surely_text


class JsonDialect(Dialect):
    """One JSON object of strings (RFC 8259)."""

    name = "json"
    about = "a flat JSON map"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        return carriable(name) or carriable(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        del heading
        return json_text({entry.name: entry.text for entry in entries if entry.text is not None})

    def read(self, data: bytes, file: str) -> ReadResult:
        return _read_map(ParsedDocument(data, file, as_json=True), "JSON object")


def _read_map(document: ParsedDocument, kind: str) -> ReadResult:
    items = [document.item(key.text, value, key) for key, value in document.members(kind)]
    return ReadResult([item for item in items if item], document.remarks)


class PairsDialect(JsonDialect):
    """A JSON list of `{"name": …, "value": …}`."""

    name = "pairs"
    about = 'a JSON list of {"name": …, "value": …}'

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        del heading
        return json_text([{"name": entry.name, "value": entry.text} for entry in entries if entry.text is not None])

    def read(self, data: bytes, file: str) -> ReadResult:
        document = ParsedDocument(data, file, as_json=True)
        assert document.root
        if document.root.kind != "seq":
            raise InputError(
                "this is not a JSON list",
                hint='it must be [{"name": …, "value": …}]',
                location=document.location(document.root),
                code="shape",
            )
        return ReadResult(
            [item for node in document.root.elements if (item := _pair(document, node))], document.remarks
        )


def _pair(document: ParsedDocument, node: TreeNode) -> ReadItem | None:
    name, value = node.child("name"), node.child("value")
    if name is None or value is None or name.kind != "scalar":
        document.remark(node, "ignored: an element without a name or without a value", lost=True)
        return None
    for member in node.members:
        if member.name not in ("name", "value"):
            document.remark(member.key, f"'{member.name}' of {name.text} was ignored")
    return document.item(name.text, value, node)


def yaml_quoted(value: str) -> str:
    """Return a text in YAML's double quotes, which are JSON's except for characters that YAML requires to be
    escaped.
    """
    return FORCED.sub(
        lambda match: match[0] if match[0] == "\\" else f"\\u{ord(match[0]):04x}", json.dumps(value, ensure_ascii=False)
    )


class YamlDialect(Dialect):
    """One YAML mapping of texts, in quotes wherever a reader of YAML 1.1 or 1.2 might read another type."""

    name = "yaml"
    about = "a flat YAML map"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        return carriable(name) or carriable(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        lines = [heading.comment]
        for entry in entries:
            if entry.text is not None:
                name = (
                    entry.name
                    if re.fullmatch(r"\w+", entry.name, re.ASCII) and surely_text(entry.name)
                    else yaml_quoted(entry.name)
                )
                # A name of over 1,024 characters would need another form (YAML 1.2.2, 8.2.2); names have at most 255.
                lines.append(f"{name}: {yaml_quoted(entry.text)}\n")
        return "".join(lines if len(lines) > 1 else [*lines, "{}\n"]).encode()

    def read(self, data: bytes, file: str) -> ReadResult:
        return _read_map(ParsedDocument(data, file, as_json=False), "YAML mapping")


_TOML_ESCAPED = re.compile(r'[\x00-\x1f\x7f"\\]')
_TOML_NAMED = {"\n": "\\n", "\t": "\\t", "\r": "\\r", '"': '\\"', "\\": "\\\\"}
_TOML_FAULT = re.compile(r"(.*?) \(at (?:line (\d+), column (\d+)|end of document)\)")
_TOML_KEY = re.compile(r"[ \t]*(?:([A-Za-z0-9_-]+)|\"((?:[^\"\\\n]|\\.)*)\"|'([^'\n]*)')[ \t]*=")


class TomlDialect(Dialect):
    """Basic strings at the top level of a TOML 1.0 document."""

    name = "toml"
    about = "a flat TOML map"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        return carriable(name) or carriable(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        top = heading.comment
        return (
            top
            + "".join(
                f"{_toml_key(entry.name)} = {_toml_string(entry.text)}\n" for entry in entries if entry.text is not None
            )
        ).encode()

    def read(self, data: bytes, file: str) -> ReadResult:
        import tomllib

        source, remarks = decode(data, file)
        try:
            loaded = tomllib.loads(source, parse_float=str)
        except tomllib.TOMLDecodeError as fault:
            words = _TOML_FAULT.match(str(fault))
            location = Location(file, int(words[2]), int(words[3])) if words and words[2] else Location(file)
            raise InputError(
                f"this is not TOML: {(words[1] if words else str(fault)).lower()}",
                hint="correct it there",
                location=location,
                code="not-toml",
            ) from None
        reading = ReadResult([], remarks)
        places = _toml_places(source, file)
        document = _TomlValues(reading, file)
        for name, value in loaded.items():
            document.take(name, value, places.get(name, Location(file)))
        return reading


class _TomlValues:
    """Reads values as texts, with remarks on those of other types."""

    def __init__(self, reading: ReadResult, file: str) -> None:
        self.reading = reading
        self.file = file

    def take(self, name: str, value: object, location: Location) -> None:
        from coinjar.dialects.base import ReadRemark

        if isinstance(value, dict | list):
            what = "a table" if isinstance(value, dict) else "a list"
            self.reading.remarks.append(ReadRemark(location, f"ignored: {name} is not a text but {what}", lost=True))
            return
        source = str(value).lower() if isinstance(value, bool) else str(value)
        if not isinstance(value, str):
            self.reading.remarks.append(ReadRemark(location, f"{name} is not a text; it was read as {source}"))
        self.reading.items.append(ReadItem(name, source, location))


def _toml_key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else _toml_string(name)


def _toml_string(value: str) -> str:
    return '"' + _TOML_ESCAPED.sub(lambda match: _TOML_NAMED.get(match[0]) or f"\\u{ord(match[0]):04x}", value) + '"'


def _toml_places(source: str, file: str) -> dict[str, Location]:
    """Return the locations of the top-level names: tomllib keeps none.

    A line inside a long string may look like a name, so the first counts.
    """
    places: dict[str, Location] = {}
    at = 0
    for line in source.split("\n"):
        key = _TOML_KEY.match(line)
        if key:
            name = key[1] or key[3] or (json.loads(f'"{key[2]}"') if key[2] and "\\U" not in key[2] else key[2] or "")
            places.setdefault(name, location_of(source, at + len(line) - len(line.lstrip()), file))
        at += len(line) + 1
    return places
