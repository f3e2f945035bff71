"""Write new text for a YAML or JSON document: scalars, flow collections, block members."""

from __future__ import annotations

import json
import re
from typing import NamedTuple, TypeAlias

import yaml

from coinjar.documents.yamltext import NULLS


class UnquotedScalar(str):
    """A text to write without quotes: a number, `true`, `false` or JSON data of one word."""

    __slots__ = ()


Plain: TypeAlias = "str | list[Plain] | dict[str, Plain]"
"""A value to write: a text, a list, or a mapping of these."""

FORCED = re.compile(r"[\x00-\x09\x0b-\x1f\x7f-\x9f\u2028\u2029\ufeff\ud800-\udfff]")
_SURE = re.compile(r"[A-Za-z_/](?:[-\w./+:=@%,;()$~^?! ]*[-\w./+=@%;()$~^?!])?", re.ASCII)
_WORDS = frozenset("y n yes no on off true false null nan inf".split())


def surely_text(text: str) -> bool:
    """Return whether every YAML reader, of 1.1 or 1.2, takes these characters without quotes for a text.

    YAML 1.1 has words (y, N, on), numbers in base 60, dates; YAML 1.2.2 (10.3) has others. All of those begin with a
    digit, a sign or a dot, or are one of a few words.
    """
    return bool(_SURE.fullmatch(text)) and text.lower() not in _WORDS and ": " not in text and " #" not in text


class ScalarWriter(NamedTuple):
    """How to write. `careful`: text stays text for every YAML reader; `as_json`: the document is JSON."""

    newline: str = "\n"
    careful: bool = False
    as_json: bool = False

    def scalar(self, text: str, style: str | None = None, *, flow: bool = False) -> str:
        """Return a text on one line, in the requested style if it can carry the text, else plain, else quoted."""
        if isinstance(text, UnquotedScalar):
            return str(text)
        if self.as_json:
            return json.dumps(text, ensure_ascii=False)
        if self.careful and style not in ("'", '"') and not surely_text(text):
            style = '"'
        if text in NULLS or "\n" in text or FORCED.search(text):
            style = "'" if style == "'" and "\n" not in text and not FORCED.search(text) else '"'
        elif style not in ("'", '"'):
            style = None
        return _emitted(text, style, flow)

    def flow(self, value: Plain, style: str | None = None) -> str:
        """Return a value on one line."""
        if isinstance(value, str):
            return self.scalar(value, style, flow=True)
        if isinstance(value, list):
            return f"[{', '.join(self.flow(item) for item in value)}]"
        return (
            "{" + ", ".join(f"{self.scalar(name, flow=True)}: {self.flow(item)}" for name, item in value.items()) + "}"
        )

    def pretty(self, value: Plain, indent: int, unit: int) -> str:
        """Return a value in brackets over several lines, the usual layout of JSON."""
        if isinstance(value, str) or not value:
            return self.flow(value)
        inner = " " * (indent + unit)
        if isinstance(value, list):
            parts = [self.pretty(item, indent + unit, unit) for item in value]
        else:
            parts = [
                f"{self.scalar(name, flow=True)}: {self.pretty(item, indent + unit, unit)}"
                for name, item in value.items()
            ]
        opened, closed = "[]" if isinstance(value, list) else "{}"
        return (
            opened
            + self.newline
            + f",{self.newline}".join(inner + part for part in parts)
            + self.newline
            + " " * indent
            + closed
        )

    def block(self, name: str, value: Plain, indent: int) -> str:
        """Return a member in block style, with its line break."""
        start = " " * indent + self.scalar(name) + ":"
        if isinstance(value, dict) and value and not _small(value):
            return start + self.newline + "".join(self.block(inner, item, indent + 2) for inner, item in value.items())
        if isinstance(value, list) and value and (self.careful or not all(isinstance(item, str) for item in value)):
            return start + self.newline + "".join(self.element(item, indent + 2) for item in value)
        if isinstance(value, str) and as_block(value) and not isinstance(value, UnquotedScalar):
            return start + self._literal(value, indent)
        return f"{start} {self.scalar(value) if isinstance(value, str) else self.flow(value)}{self.newline}"

    def element(self, value: Plain, indent: int) -> str:
        """Return an element of a list in block style, with its line break."""
        start = " " * indent + "- "
        if isinstance(value, dict) and value:
            members = "".join(self.block(name, item, indent + 2) for name, item in value.items())
            return start + members[indent + 2 :]
        return f"{start}{self.scalar(value) if isinstance(value, str) else self.flow(value)}{self.newline}"

    def _literal(self, text: str, indent: int) -> str:
        chomp = "" if text.endswith("\n") else "-"
        lines = text.rstrip("\n").split("\n")
        return f" |{chomp}{self.newline}" + "".join(f"{' ' * (indent + 2)}{line}{self.newline}" for line in lines)


def _small(value: dict[str, Plain]) -> bool:
    """Return whether this is a form such as {unset: true}, which is easier to read on one line."""
    return len(value) == 1 and set(value) <= {"text", "unset", "file", "from_env", "command"}


def as_block(text: str) -> bool:
    """Return whether a text of several lines is readable, and exactly kept, as a literal block."""
    lines = text.rstrip("\n").split("\n")
    exact = not text.endswith("\n\n") and all(
        line and line == line.rstrip() and not line.startswith((" ", "\t")) for line in lines
    )
    return len(lines) > 1 and exact and not FORCED.search(text)


def _emitted(text: str, style: str | None, flow: bool) -> str:
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
    value: str = yaml.emit(events, width=1 << 30, allow_unicode=True)
    return value.strip("\n")[4:-1] if flow else value.strip("\n")[3:]
