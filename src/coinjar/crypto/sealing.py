"""Sealing one value under a data key, and vouching for a list of readers under it."""

from __future__ import annotations

from base64 import b64decode, b64encode
from collections.abc import Iterable

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

from coinjar.core.errors import CoinJarError
from coinjar.core.model import UNSET, Content
from coinjar.core.record import Record
from coinjar.core.references import Template, parse_template
from coinjar.core.secret import Secret, reveal

KEY_BYTES = 32
_NONCE_BYTES = 12
_PADDED_TO = 32
"""Plaintexts are filled up to a multiple of so many bytes: a sealed text shows a length only so closely."""
_TEXT, _REFERENCES, _UNSET = "=", "$", "-"


class UnsealError(Exception):
    """A sealed text that does not open: changed, or made for another place or under another key."""


class Key(Record):
    """A data key, and the 8 hex digits by which lines say that they need it; random, they say nothing of the key."""

    id: str
    key: bytes

    @classmethod
    def new(cls) -> Key:
        """A key of 32 random bytes."""
        from secrets import token_bytes, token_hex

        return cls(token_hex(4), token_bytes(KEY_BYTES))


def associated(app: str, stage: str, compartment: str, name: str) -> bytes:
    """Where a sealed text belongs: it opens nowhere else."""
    return "\0".join(("coinjar value 1", app, stage, compartment, name)).encode()


def can_seal(content: Content) -> str | None:
    """Why a value cannot be sealed, in words; None if it can."""
    if isinstance(content, str):
        return "it holds a NUL character" if "\0" in content else None
    return (
        None
        if isinstance(content, Template) or content is UNSET
        else "only a text can be sealed, not a command, a file or the environment"
    )


def seal(key: Key, content: Content, where: bytes) -> str:
    """A value as sealed text (base64): 12 bytes nonce, then ChaCha20-Poly1305 (RFC 8439) of its form and text. `can_seal` has been asked before."""
    text = (
        _TEXT + reveal(content)
        if isinstance(content, str)
        else _REFERENCES + content.source
        if isinstance(content, Template)
        else _UNSET
    )
    from secrets import token_bytes  # whoever only opens does without

    plain = text.encode("utf-8", "surrogatepass")
    plain += b"\0" * (-len(plain) % _PADDED_TO)
    nonce = token_bytes(_NONCE_BYTES)
    return b64encode(nonce + ChaCha20Poly1305(key.key).encrypt(nonce, plain, where)).decode()


class Unsealer:
    """Opens what was sealed under one data key."""

    def __init__(self, key: Key) -> None:
        self.id = key.id
        self._cipher = ChaCha20Poly1305(key.key)

    def open(self, sealed: str, where: bytes) -> Content:
        """The value. Raises UnsealError."""
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


def vouch(key: Key, app: str, stage: str, readers: Iterable[tuple[str, ...]]) -> str:
    """The code (HMAC-SHA-256, hex) by which holders of a data key vouch for a stage's readers: rows of label, recipient, service, offline."""
    import hmac

    rows = ["\0".join(row) for row in sorted(readers)]
    return hmac.digest(key.key, "\n".join(["coinjar readers 1", app, stage, *rows]).encode(), "sha256").hex()


def same(name: str, other: str) -> bool:
    """Whether two codes are equal, in a time that does not tell how much of them is."""
    import hmac

    return hmac.compare_digest(name.encode(), other.encode())
