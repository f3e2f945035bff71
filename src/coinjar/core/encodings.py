"""Texts as they would be after decoding, with the place of every byte in the original: a secret is found in every
spelling of an encoding, not only in the usual one.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from html import unescape
from typing import NamedTuple


class DecodedView(NamedTuple):
    """A decoded text; byte number i comes from the original's bytes `starts[i]` to `ends[i]`."""

    data: bytes
    starts: Sequence[int]
    ends: Sequence[int]


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
    return unescape(match[0].decode()).encode("utf-8", "surrogatepass")


def _quoted(match: re.Match[bytes]) -> bytes:
    return b"'" if match[0][:1] == b"'" else match[0][1:]


_CODES: tuple[tuple[re.Pattern[bytes], Callable[[re.Match[bytes]], bytes]], ...] = (
    (_JSON, _json),
    (_PERCENT, _form),
    (_FORM, _form),
    (_ENTITY, _entity),
    (_QUOTED, _quoted),
    (_BREAK, lambda _match: b""),
)


def views(data: bytes) -> Iterator[DecodedView]:
    """Yield the text itself, and what it is after each decoding that changes it: JSON's escapes (RFC 8259, 7) and those
    inside of JSON in JSON, percent-encoding (RFC 3986, 2.1) with and without `+` for a blank, entities of XML and HTML,
    a shell's quotes, and without blanks and line breaks, which may be anywhere in base64.
    """
    whole = DecodedView(data, range(len(data)), range(1, len(data) + 1))
    yield whole
    for pattern, replace in _CODES:
        if pattern.search(data):
            once = _decoded(whole, pattern, replace)
            yield once
            if pattern is _JSON and pattern.search(once.data):
                yield _decoded(once, pattern, replace)


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
