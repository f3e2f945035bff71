"""Parse a text by a grammar, so that a limit of time can end it."""

from __future__ import annotations

from tree_sitter import Node as Syntax
from tree_sitter import Parser, Point

from coinjar.mentions.base import TooLongToRead

_PIECE = 1 << 16


def parse(parser: Parser, data: bytes) -> Syntax:
    """Return the root of the tree. Raises TooLongToRead.

    Grammars take quadratic time for some texts, inside of the library. It calls us back now and then; the signal of a
    limit is handled there, and its exception comes back as a SystemError.
    """

    def piece(offset: int, _: Point) -> bytes:
        return data[offset : offset + _PIECE]

    try:
        return parser.parse(piece, progress_callback=lambda *_: False).root_node
    except SystemError:
        parser.reset()
        raise TooLongToRead from None
