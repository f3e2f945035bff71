"""Names that a shell script reads by the value of another variable: `for name in A B; do echo "${!name}"; done`, and
functions that are given them.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from tree_sitter import Node as Syntax

from coinjar.mentions.shell_events import NAME, READS, NameEvent

_INDIRECT = re.compile(
    rb"(?:\$\{!|\\\$\{?\$\{?|\bprintenv[ \t]+\"?\$\{?)([A-Za-z_]\w*)(?![\w@*\[])"  # the second one for `eval`
)
_FUNCTION = re.compile(
    rb"(?ms)^[ \t]*(?:function[ \t]+)?([\w-]+)[ \t]*(?:\(\))?[ \t]*\{(?:([^\n]*)\}[ \t]*$|(.{0,3000}?)^[ \t]*\})"
)
_EVERY = re.compile(rb"\bfor[ \t]+([A-Za-z_]\w*)(?:[ \t]+in[ \t]+\"\$@\")?[ \t]*(?:;|\n)")
_FIRST = re.compile(rb"\b([A-Za-z_]\w*)=\"?\$\{?1\b")


class IndirectNames:
    """The variables of a script whose values are names of variables, and where the names come from."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        indirect = {match[1].decode() for match in _INDIRECT.finditer(data)}
        self.known: set[str] = set()
        """Those whose names are in the script."""
        self._functions: dict[str, int | None] = {}
        """Functions that are given such names, with how many of their arguments; None for all."""
        for match in _FUNCTION.finditer(data) if indirect else ():
            name, body = match[1].decode(), match[2] or match[3] or b""
            for pattern, count in ((_EVERY, None), (_FIRST, 1)):
                mine = {found[1].decode() for found in pattern.finditer(body)} & indirect
                if mine:
                    self.known |= mine
                    self._functions[name] = count
        for match in re.finditer(rb"\bfor[ \t]+([A-Za-z_]\w*)[ \t]+in[ \t]+[A-Za-z_]\w*\b", data) if indirect else ():
            self.known |= {match[1].decode()} & indirect

    def asked_by(self, command: str, arguments: Sequence[Syntax]) -> Iterator[NameEvent]:
        """Yield the names that a command gives one of the functions."""
        if command in self._functions:
            yield from self.listed(arguments[: self._functions[command]])

    def listed(self, words: Sequence[Syntax]) -> Iterator[NameEvent]:
        """Yield the names among words."""
        for node in words:
            text = self.data[node.start_byte : node.end_byte]
            if NAME.fullmatch(text) and node.type == "word":
                yield NameEvent(READS, text.decode(), node.start_byte, node.end_byte)
