"""Encrypt one value with a data key."""

from __future__ import annotations

from base64 import b64decode, b64encode

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

from coinjar.core.definition import UNSET, Content
from coinjar.core.errors import CoinJarError
from coinjar.core.record import Record
from coinjar.core.references import Template, parse_template
from coinjar.core.secret import Secret, reveal

KEY_BYTES = 32
_NONCE_BYTES = 12
_PADDED_TO = 32
"""Plaintexts are padded to a multiple of this many bytes, so that a sealed text hides the exact length."""
_TEXT, _REFERENCES, _UNSET = "=", "$", "-"


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


def seal(key: Key, content: Content, where: bytes) -> str:
    """Return a value as sealed text (base64): a nonce of 12 bytes, then ChaCha20-Poly1305 (RFC 8439) of its form and
    text. Call `can_seal` first.
    """
    text = (
        _TEXT + reveal(content)
        if isinstance(content, str)
        else _REFERENCES + content.source
        if isinstance(content, Template)
        else _UNSET
    )
    from secrets import token_bytes  # not imported for decryption alone

    plain = text.encode("utf-8", "surrogatepass")
    plain += b"\0" * (-len(plain) % _PADDED_TO)
    nonce = token_bytes(_NONCE_BYTES)
    return b64encode(nonce + ChaCha20Poly1305(key.key).encrypt(nonce, plain, where)).decode()


class Unsealer:
    """Decrypts what was encrypted with one data key."""

    def __init__(self, key: Key) -> None:
        self.id = key.id
        self._cipher = ChaCha20Poly1305(key.key)

    def open(self, sealed: str, where: bytes) -> Content:
        """Return the value. Raises UnsealError."""
        try:
            data = b64decode(sealed, validate=True)
            text = (
                self._cipher.decrypt(data[:_NONCE_BYTES], data[_NONCE_BYTES:], where)
                .rstrip(b"\0")
                .decode("utf-8", "surrogatepass")
            )
            if text[:1] == _TEXT:
                return Secret(text[1:])
            if text[:1] == _REFERENCES:
                return parse_template(text[1:])
        except (InvalidTag, ValueError, CoinJarError):
            raise UnsealError from None
        if text != _UNSET:
            raise UnsealError
        return UNSET
