"""The usual spellings of a secret, to search for."""

from __future__ import annotations

import json
import re
import shlex
from base64 import b64encode
from collections.abc import Iterator
from urllib.parse import quote, quote_plus

from coinjar.core.secret import reveal

SHORTEST = 4
"""Minimum length of a secret to look for, in characters; shorter texts occur everywhere."""
_SHORTEST_LINE = 8
_WIDTHS = 76, 64


def forms(secret: str) -> Iterator[bytes]:
    """Return the secret as it is, in base64 (also inside a longer text), percent-encoded, escaped as in JSON; and each
    of its lines.
    """
    raw = reveal(secret).encode("utf-8", "surrogatepass")
    yield raw
    text = raw.decode("utf-8", "replace")
    for name in {text, text.strip()} - {""}:
        yield name.encode()
        yield from _base64_forms(name.encode())
        for encoded in (quote(name, safe=""), quote(name), quote_plus(name), quote(name, safe="~()*!.'")):
            yield encoded.encode()
            yield re.sub("%[0-9A-F]{2}", lambda match: match[0].lower(), encoded).encode()
        for escaped in _json_forms(name):
            yield escaped.encode()
            yield json.dumps(escaped)[1:-1].encode()  # JSON in JSON, as in log lines
        yield from (spelled.encode() for spelled in _markup_forms(name))
        yield name.replace("'", "'\\''").encode()  # in a shell's quotes
        yield shlex.quote(name)[1:-1].encode()
    if "\n" in text.strip():
        yield from (
            line.strip().encode()
            for line in text.splitlines()
            if len(line.strip()) >= _SHORTEST_LINE and not line.startswith("-----")
        )


def _json_forms(text: str) -> Iterator[str]:
    """Return a text as writers of JSON (RFC 8259, 7) escape it: all but ASCII or not, `/` too, for HTML, with capital
    digits.
    """
    for escaped in (json.dumps(text)[1:-1], json.dumps(text, ensure_ascii=False)[1:-1]):
        for_html = escaped.translate({ord(sign): f"\\u{ord(sign):04x}" for sign in "<>&'"})
        for form in (escaped, for_html, escaped.replace('\\"', "\\u0022"), for_html.replace('\\"', "\\u0022")):
            capital = re.sub(r"\\u[0-9a-f]{4}", lambda match: "\\u" + match[0][2:].upper(), form)
            for spelled in (form, capital):
                yield spelled
                yield spelled.replace("/", "\\/")


def _markup_forms(text: str) -> Iterator[str]:
    """Return a text as writers of XML and HTML escape it."""
    from html import escape  # with a table of entities that takes a millisecond: only where there is a secret

    yield escape(text, quote=False)
    yield escape(text)
    yield escape(text).replace("&#x27;", "&#39;").replace("&quot;", "&#34;")
    yield escape(text).replace("&#x27;", "&apos;")


def _base64_forms(data: bytes) -> Iterator[bytes]:
    """Return the secret in base64, standard and URL-safe, at any offset of a longer text: for each of the three
    offsets, the part that depends on the secret alone.

    Also in lines of 76 (RFC 2045, 6.8) and 64 characters (RFC 7468, 2), as programs wrap it.
    """
    whole = b64encode(data)
    for width in _WIDTHS:
        if len(whole) > width:
            yield from (whole[at : at + width] for at in range(0, len(whole) - _SHORTEST_LINE + 1, width))
    for before in range(3):
        encoded = b64encode(b"\0" * before + data)
        piece = encoded[-(-before * 8 // 6) : (before + len(data)) * 8 // 6]
        if len(piece) >= SHORTEST:
            yield piece
            yield piece.replace(b"+", b"-").replace(b"/", b"_")
