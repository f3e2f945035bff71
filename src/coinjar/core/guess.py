"""Guesses about a variable from its name and a value: its kind, and whether it is secret."""

from __future__ import annotations

import re
from typing import NamedTuple

from coinjar.core.errors import CoinJarError, Place
from coinjar.core.kinds import normal
from coinjar.core.model import Variable
from coinjar.core.names import VariableName

_WORDS = re.compile(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+")
_SECRET = {"PASSWORD", "PASSWD", "PASSPHRASE", "SECRET", "TOKEN", "CREDENTIAL", "CREDENTIALS", "PWD", "PASS"}
_SECRET_KEYS = {"API", "PRIVATE", "SIGNING", "ENCRYPTION", "ACCESS", "SECRET", "MASTER", "LICENSE", "LICENCE", "WEBHOOK", "AUTH"}
_NOT_SECRET = {"FILE", "PATH", "URL", "LENGTH", "TTL", "EXPIRY", "LIFETIME", "ID", "NAME", "HEADER", "MIN", "MAX", "ENABLED", "POLICY"}
_LOGIN_URL = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*://[^/?#\s:@]*:[^/?#\s@]+@")
_TOKEN = re.compile(r"(?=.*[A-Za-z])(?=.*[0-9])[A-Za-z0-9+/=_-]{24,}")
_PLACEHOLDER = re.compile(
    r"(?i)(?:change[-_ ]?(?:me|this|it)|re?place[-_ ]?(?:me|this|it)|fill[-_ ]?(?:me|this)?[-_ ]?in|x{3,}|\?{3,}|to[-_ ]?do|tbd|fixme"
    r"|your[-_ ](?:\w+[-_ ])*(?:here|key|token|password|secret)|<[^<>]+>|placeholder|insert[-_ ].*[-_ ]here|dummy)"
)


class Guess(NamedTuple):
    """`sure` is False where a person should be asked about the secrecy."""

    kind: str
    secret: bool
    sure: bool
    why: str


def is_placeholder(text: str) -> bool:
    """Whether a value only stands for one that somebody has still to fill in."""
    return _PLACEHOLDER.fullmatch(text.strip()) is not None


def words_of(name: str) -> list[str]:
    """A name's words in upper case: `dbPassword` and `DB_PASSWORD` have the same."""
    return [word.upper() for word in _WORDS.findall(name)]


def guess(name: str, text: str) -> Guess:
    """Guess from a name and one value. A kind is guessed only if its normal spelling is the text itself."""
    secret, sure, why = _secrecy(words_of(name), text)
    kind = next((kind for kind in _candidates(words_of(name), text) if _spells(kind, text)), "text")
    return Guess(kind, secret, sure, why)


def _secrecy(words: list[str], text: str) -> tuple[bool, bool, str]:
    if "-----BEGIN" in text and "PRIVATE KEY" in text:
        return True, True, "holds a private key"
    if _LOGIN_URL.match(text):
        return True, True, "holds a password in a URL"
    last = words[-1] if words else ""
    named = bool(_SECRET & set(words)) or (last in ("KEY", "KEYS") and bool(_SECRET_KEYS & set(words)))
    if named and last not in _NOT_SECRET:
        return True, not (text == "" or is_placeholder(text) or text.lower() in ("true", "false")), "its name says so"
    if named:
        return False, False, f"its name speaks of a secret, but ends in {last}"
    if last in ("KEY", "SALT", "DSN", "PIN") or (_TOKEN.fullmatch(text) and not re.fullmatch(r"[0-9a-f]{40}|[0-9a-f]{64}", text)):
        return True, False, "it might be: see its name and value"
    return False, True, ""


def _candidates(words: list[str], text: str) -> list[str]:
    last = words[-1] if words else ""
    found = []
    if last == "PORT":
        found.append("port")
    if text in ("true", "false"):
        found.append("boolean")
    if re.fullmatch(r"-?\d+", text):
        found.append("integer")
    if re.fullmatch(r"-?\d+\.\d+", text) and last not in ("VERSION", "RELEASE"):
        found.append("number")
    if "://" in text:
        found.append("url")
    if last in ("HOST", "HOSTNAME") and text:
        found.append("host")
    if text[:1] in ("{", "["):
        found.append("json")
    if re.fullmatch(r"\d+(ms|s|m|h|d)", text) and text[:1] != "0":
        found.append("duration")
    if re.fullmatch(r"\d+(B|[kMGT]B|[KMGT]iB)", text):
        found.append("size")
    return found


def _spells(kind: str, text: str) -> bool:
    trial = Variable(VariableName("X"), Place(""), kind=kind)
    try:
        return normal(trial, text) == text
    except CoinJarError:
        return False
