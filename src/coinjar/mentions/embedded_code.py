"""Code inside of other texts: single-file components and notebooks. Everything else becomes spaces, in place."""

from __future__ import annotations

import re

from coinjar.mentions import python, typescript
from coinjar.mentions.base import TextMentions

_SCRIPT = re.compile(rb"<script\b[^>]*>(.*?)</script>", re.DOTALL | re.IGNORECASE)
_CELL = re.compile(rb'(?<!\\)"cell_type"\s*:\s*"(\w+)"|(?<!\\)"source"\s*:\s*(\[|")')
_TEXT = re.compile(rb'"((?:[^"\\]|\\.)*)"|(\])')
_ESCAPE = re.compile(rb"\\(?:u[0-9a-fA-F]{4}|(.))")
_PLAIN = {b"n": b" \n", b"t": b" \t", b'"': b' "', b"/": b" /", b"\\": b" \\"}
_OF_NOTEBOOKS = re.compile(rb"(?m)^([ \t]*)[%!?]")
"""Lines that are for the notebook, not for Python."""


def find_in_component(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a component's scripts."""
    code = bytearray(re.sub(rb"[^\n]", b" ", data))
    for script in _SCRIPT.finditer(data):
        code[script.start(1) : script.end(1)] = script[1]
        if code[script.end(1) : script.end(1) + 1] == b" ":
            code[script.end(1)] = ord(";")
    return typescript.find(bytes(code), helpers)


def find_in_notebook(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a notebook's cells of code, which are texts of JSON, as one Python program."""
    code = bytearray(b" " * len(data))
    is_code = False
    for match in _CELL.finditer(data):
        if match[1]:
            is_code = match[1] == b"code"
        elif is_code:
            _copy(data, code, match.end() - 1, several=match[2] == b"[")
    return python.find(_OF_NOTEBOOKS.sub(rb"\1#", bytes(code)), helpers)


def _copy(data: bytes, code: bytearray, start: int, *, several: bool) -> None:
    """Copy the lines of a cell that begins at `start`: each opening quote ends the line before."""
    for text in _TEXT.finditer(data, start):
        if text[2]:
            return
        code[text.start()] = ord("\n")
        content = _ESCAPE.sub(lambda match: _PLAIN.get(match[1] or b"", b" " * len(match[0])), text[1])
        code[text.start(1) : text.end(1)] = content.removesuffix(b" \n") + b"  " * content.endswith(b" \n")
        if not several:
            return
