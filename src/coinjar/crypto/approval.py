"""Approve a stage's list of readers with a key that only readers of all of the stage have."""

from __future__ import annotations

import hmac
import re
from collections.abc import Iterable
from secrets import token_bytes

from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from coinjar.core.record import Record

APPROVAL = re.compile(r"([0-9a-f]{16}) [0-9a-f]{64}")
"""An approval of a list: the fingerprint of the key, and the code made with it."""


class ApprovalKey(Record):
    """A stage's approval key, 32 random bytes; during a change of keys also the previous one."""

    key: bytes
    earlier: bytes | None = None

    @classmethod
    def new(cls, earlier: bytes | None = None) -> ApprovalKey:
        """Return a random key."""
        return cls(token_bytes(32), earlier)

    def text(self) -> bytes:
        """Return the plaintext form that is wrapped."""
        lines = [f"{name} {key.hex()}\n" for name, key in (("approval", self.key), ("earlier", self.earlier)) if key]
        return "".join(lines).encode()


def read_approval_key(text: bytes) -> ApprovalKey:
    """Return the key of a plaintext form. Raises ValueError."""
    match = re.fullmatch(r"approval ([0-9a-f]{64})\n(?:earlier ([0-9a-f]{64})\n)?", text.decode("ascii"))
    if match is None:
        raise ValueError("no approval key")
    return ApprovalKey(bytes.fromhex(match[1]), bytes.fromhex(match[2]) if match[2] else None)


def fingerprint(key: bytes, app: str, stage: str) -> str:
    """Return 16 hex digits by which a person recognises an approval key: they reveal nothing of it."""
    return hmac.digest(_derived(key, b"coinjar approval 1"), f"{app}\0{stage}".encode(), "sha256").hex()[:16]


def approve(key: bytes, app: str, stage: str, readers: Iterable[tuple[str, ...]]) -> str:
    """Return the approval of a stage's readers, rows of label, recipient, service, offline: the fingerprint of the key,
    and the code (HMAC-SHA-256, hex, under a key derived by HKDF, RFC 5869).
    """
    rows = ["\0".join(row) for row in sorted(readers)]
    message = "\n".join(["coinjar readers 2", app, stage, *rows]).encode()
    return f"{fingerprint(key, app, stage)} {hmac.digest(_derived(key, b'coinjar readers 2'), message, 'sha256').hex()}"


def approved_with(
    key: ApprovalKey, app: str, stage: str, readers: Iterable[tuple[str, ...]], approvals: Iterable[str]
) -> str | None:
    """Return the fingerprint of the key that approved these readers; None if none of the approvals is of this key."""
    rows = list(readers)
    given = [line.encode() for line in approvals]
    for secret in (key.key, key.earlier):
        if secret is not None:
            expected = approve(secret, app, stage, rows).encode()
            if any(hmac.compare_digest(line, expected) for line in given):
                return expected[:16].decode()
    return None


def _derived(key: bytes, purpose: bytes) -> bytes:
    return HKDF(SHA256(), 32, salt=None, info=purpose).derive(key)
