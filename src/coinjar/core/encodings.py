"""Texts as they would be after decoding, with the place of every byte in the original: a secret is found in every
spelling of an encoding, not only in the usual one.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple


class DecodedView(NamedTuple):
    """A decoded text; byte number i comes from the original's bytes `starts[i]` to `ends[i]`."""

    data: bytes
    starts: Sequence[int]
    ends: Sequence[int]

    def original(self, start: int, end: int) -> tuple[int, int]:
        """Return the offsets in the original of a part of the text, which is not empty."""
        return self.starts[start], self.ends[end - 1]

    def first(self, length: int) -> DecodedView:
        """Return the view of the first bytes."""
        return DecodedView(self.data[:length], self.starts[:length], self.ends[:length])


_JSON = re.compile(rb'\\u[dD][89abAB][0-9a-fA-F]{2}\\u[dD][c-fC-F][0-9a-fA-F]{2}|\\u[0-9a-fA-F]{4}|\\["\\/bfnrt]')
_JSON_NAMED = {b"b": b"\b", b"f": b"\f", b"n": b"\n", b"r": b"\r", b"t": b"\t"}
_PERCENT = re.compile(rb"%[0-9a-fA-F]{2}")
_FORM = re.compile(rb"%[0-9a-fA-F]{2}|\+")
_ENTITY = re.compile(rb"&(?:#[0-9]{1,7}|#[xX][0-9a-fA-F]{1,6}|[A-Za-z][A-Za-z0-9]{1,31});")
_QUOTED = re.compile(rb"""'\\''|'"'"'|\\[^\n]""")
_BREAK = re.compile(rb"[ \t\r\n]+|\\r|\\n")


def _json(match: re.Match[bytes]) -> bytes:
    text = match[0]
    if text[1:2] != b"u":
        return _JSON_NAMED.get(text[1:2], text[1:2])
    units = bytes.fromhex(text.replace(b"\\u", b"").decode())
    return units.decode("utf-16-be", "surrogatepass").encode("utf-8", "surrogatepass")


def _form(match: re.Match[bytes]) -> bytes:
    return b" " if match[0] == b"+" else bytes([int(match[0][1:], 16)])


def _entity(match: re.Match[bytes]) -> bytes:
    from html import unescape  # its table of entities takes milliseconds to import, and few texts have one

    return unescape(match[0].decode()).encode("utf-8", "surrogatepass")


def _quoted(match: re.Match[bytes]) -> bytes:
    return b"'" if match[0][:1] == b"'" else match[0][1:]


class Encoding(NamedTuple):
    """An encoding: what stands for other bytes, for which, and what a text may end with if it is cut off there."""

    pattern: re.Pattern[bytes]
    replace: Callable[[re.Match[bytes]], bytes]
    unfinished: re.Pattern[bytes]

    def decoded(self, data: bytes) -> bytes:
        """Return a text after decoding."""
        return self.pattern.sub(self.replace, data)

    def view(self, view: DecodedView) -> DecodedView:
        """Return a text after decoding, with the place of every byte."""
        return _decoded(view, self.pattern, self.replace)


_UNICODE = rb"\\(?:u[0-9a-fA-F]{0,3})?"
JSON = Encoding(
    _JSON, _json, re.compile(rb"(?:\\u[dD][89abAB][0-9a-fA-F]{2}(?:" + _UNICODE + rb")?|" + _UNICODE + rb")\Z")
)
_UNFINISHED_PERCENT = re.compile(rb"%[0-9a-fA-F]?\Z")
ENCODINGS = (
    JSON,
    Encoding(_PERCENT, _form, _UNFINISHED_PERCENT),
    Encoding(_FORM, _form, _UNFINISHED_PERCENT),
    Encoding(_ENTITY, _entity, re.compile(rb"&[#0-9A-Za-z]{0,31}\Z")),
    Encoding(_QUOTED, _quoted, re.compile(rb"""(?:\\|'(?:\\'?|"(?:'"?)?)?)\Z""")),
)
"""JSON's escapes (RFC 8259, 7), percent-encoding (RFC 3986, 2.1) with and without `+` for a blank, entities of XML and
HTML, a shell's quotes.
"""
BREAKS = Encoding(_BREAK, lambda _match: b"", re.compile(rb"(?!)"))
"""Base64 in several lines is a text without blanks and line breaks."""
LINE_BREAKS = Encoding(
    re.compile(rb"(?<=[A-Za-z0-9+/=_-]{16})(?:\r?\n|\\r\\n|\\n)[ \t]*"),
    lambda _match: b"",
    re.compile(rb"(?:\r|\\(?:r\\?)?)\Z"),
)
"""The same in a stream, where a line of ordinary words is shown when it ends: only after what may be base64."""
LOOKED_BACK = 16
"""How many bytes before a line break decide whether it is one of LINE_BREAKS."""


def whole(data: bytes) -> DecodedView:
    """Return a text as it is."""
    return DecodedView(data, range(len(data)), range(1, len(data) + 1))


def views(data: bytes) -> Iterator[DecodedView]:
    """Yield the text itself, and what it is after each decoding that changes it, JSON in JSON among them."""
    text = whole(data)
    yield text
    for encoding in (*ENCODINGS, BREAKS):
        if encoding.pattern.search(data):
            once = encoding.view(text)
            yield once
            if encoding is JSON and JSON.pattern.search(once.data):
                yield JSON.view(once)


def _decoded(view: DecodedView, pattern: re.Pattern[bytes], replace: Callable[[re.Match[bytes]], bytes]) -> DecodedView:
    parts: list[bytes] = []
    starts: list[int] = []
    ends: list[int] = []
    last = 0
    for match in pattern.finditer(view.data):
        new = replace(match)
        parts += [view.data[last : match.start()], new]
        starts += view.starts[last : match.start()]
        ends += view.ends[last : match.start()]
        starts += [view.starts[match.start()]] * len(new)
        ends += [view.ends[match.end() - 1]] * len(new)
        last = match.end()
    starts += view.starts[last:]
    ends += view.ends[last:]
    return DecodedView(b"".join([*parts, view.data[last:]]), starts, ends)
