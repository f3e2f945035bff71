"""Encrypt one value with a data key."""

from __future__ import annotations

import re
from base64 import b64encode
from binascii import a2b_base64

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

from coinjar.core.definition import UNSET, Content, RotatingValue, SealedValue
from coinjar.core.errors import CoinJarError
from coinjar.core.record import Record
from coinjar.core.references import Template, parse_template
from coinjar.core.secret import Secret, hidden, reveal

KEY_BYTES = 32
_NONCE_BYTES = 12
_PADDED_TO = 32
"""Plaintexts are padded to a multiple of this many bytes, so that a sealed text hides the exact length."""
_TEXT, _REFERENCES, _UNSET = "=", "$", "-"
_DATED, _NEXT, _PREVIOUS = "@", ">", "<"
_USUAL = re.compile(r"(?:@(\d{4}-\d\d-\d\d))?=")
_STAMP = re.compile(r"@(\d{4}-\d\d-\d\d|-)(?:([<>])(\d{4}-\d\d-\d\d|-) (\d{1,8}):)?")


class UnsealError(Exception):
    """A sealed text that cannot be decrypted: changed, or made for another place or with another key."""


class Key(Record):
    """A data key, and the 8 hex digits by which lines refer to it; these are random and reveal nothing of the key."""

    id: str
    key: bytes

    @classmethod
    def new(cls) -> Key:
        """Return a key of 32 random bytes."""
        from secrets import token_bytes, token_hex

        return cls(token_hex(4), token_bytes(KEY_BYTES))


def associated(app: str, stage: str, scope: str, name: str) -> bytes:
    """Return the associated data of a sealed text: it can be decrypted nowhere else."""
    return "\0".join(("coinjar value 1", app, stage, scope, name)).encode()


def can_seal(content: Content) -> str | None:
    """Return why a value cannot be encrypted; None if it can."""
    if isinstance(content, str):
        return "it contains a NUL character" if "\0" in content else None
    return (
        None
        if isinstance(content, Template) or content is UNSET
        else "only a text can be encrypted, not a command, a file or the environment"
    )


def seal(key: Key, value: SealedValue, where: bytes) -> str:
    """Return a value as sealed text (base64): a nonce of 12 bytes, then ChaCha20-Poly1305 (RFC 8439) of its date, form
    and text. Call `can_seal` first.
    """
    content = value.content
    text = (
        _TEXT + reveal(content)
        if isinstance(content, str)
        else _REFERENCES + content.source
        if isinstance(content, Template)
        else _UNSET
    )
    from secrets import token_bytes  # not imported for decryption alone

    plain = (_stamp(value) + text).encode("utf-8", "surrogatepass")
    plain += b"\0" * (-len(plain) % _PADDED_TO)
    nonce = token_bytes(_NONCE_BYTES)
    return b64encode(nonce + ChaCha20Poly1305(key.key).encrypt(nonce, plain, where)).decode()


def _stamp(value: SealedValue) -> str:
    """Return what is before the form: the date, and during a rotation the other value with its date and length."""
    if value.other is None:
        return f"{_DATED}{value.set_on}" if value.set_on else ""
    other = reveal(value.other.text)
    sign = _NEXT if value.other.is_next else _PREVIOUS
    return f"{_DATED}{value.set_on or '-'}{sign}{value.other.set_on or '-'} {len(other)}:{other}"


def _read(text: str) -> SealedValue:
    """Return the value of a decrypted text. Raises ValueError, CoinJarError."""
    if usual := _USUAL.match(text):
        return SealedValue(hidden(text[usual.end() :]), usual[1] or "")
    set_on, other = "", None
    if text[:1] == _DATED:
        stamp = _STAMP.match(text)
        if stamp is None:
            raise ValueError("no date")
        set_on, end = stamp[1].strip("-"), stamp.end()
        if stamp[2]:
            after = end + int(stamp[4])
            other = RotatingValue(Secret(text[end:after]), stamp[3].strip("-"), stamp[2] == _NEXT)
            end = after
        text = text[end:]
    if text[:1] == _TEXT:
        return SealedValue(Secret(text[1:]), set_on, other)
    if text[:1] == _REFERENCES:
        return SealedValue(parse_template(text[1:]), set_on, other)
    if text != _UNSET:
        raise ValueError("no form")
    return SealedValue(UNSET, set_on, other)


class Unsealer:
    """Decrypts what was encrypted with one data key."""

    def __init__(self, key: Key) -> None:
        self.id = key.id
        self._cipher = ChaCha20Poly1305(key.key)

    def open(self, sealed: str, where: bytes) -> SealedValue:
        """Return the value. Raises UnsealError."""
        try:
            data = a2b_base64(sealed, strict_mode=True)
            text = self._cipher.decrypt(data[:_NONCE_BYTES], data[_NONCE_BYTES:], where).rstrip(b"\0")
            return _read(text.decode("utf-8", "surrogatepass"))
        except (InvalidTag, ValueError, CoinJarError):
            raise UnsealError from None
