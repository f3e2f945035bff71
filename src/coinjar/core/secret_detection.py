"""Detect secrets: by the shape of a value, by its variable's name, or by its randomness.

Evaluated on lists of ordinary values and planted secrets (tests/data), which were frozen before this was written.
"""

from __future__ import annotations

import re
from functools import cache
from itertools import pairwise

SURE, LIKELY = "sure", "likely"

_WORDS = re.compile(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+")
_SECRET = frozenset("PASSWORD PASSWD PASSPHRASE SECRET SECRETS TOKEN TOKENS CREDENTIAL CREDENTIALS PWD PASS".split())
_KEYS = frozenset(
    "API PRIVATE SIGNING ENCRYPTION ACCESS SECRET MASTER LICENSE LICENCE WEBHOOK AUTH COOKIE CSRF HMAC SESSION".split()
)
_ABOUT_SECRETS = frozenset(
    "FILE PATH DIR URL URI LENGTH TTL EXPIRY LIFETIME ID NAME HEADER MIN MAX ENABLED REQUIRED POLICY ROTATION DAYS "
    "AUDIENCE HASHER BACKEND PROVIDER "
    "ISSUER TYPE ALGORITHM".split()
)
_WHICH = frozenset("OLD NEW NEXT PREVIOUS CURRENT BASE64 B64 PROD DEV".split())
# A password may contain characters that should be percent-encoded ('#', '/', '@'). A port followed by a path is not a
# password.
_LOGIN = re.compile(
    r"[A-Za-z][A-Za-z0-9+.-]{0,30}://[^/?#\s:@]*:(?!\d{1,5}(?:[/?#]|$))[^\s@][^\s]*@(?=[^\s@]*$)"
    r"|[A-Za-z][A-Za-z0-9+.-]{0,30}://[^/?#\s:@]*:[^/?#\s@]+@"
)
_SHAPES = (
    (re.compile(r"-----BEGIN (?:[A-Z0-9]+ )*PRIVATE KEY-----"), "contains a private key"),
    (re.compile(r"AGE-SECRET-KEY-1[A-Z0-9]{20,}"), "contains a private key"),
    (_LOGIN, "contains a password in a URL"),
    (re.compile(r"(?<![\w-])eyJ[\w-]{10,}\.eyJ[\w-]{10,}\.[\w-]{16,}"), "contains a signed token (RFC 7519)"),
    (re.compile(r"\b(?:Bearer|Basic|Token) [\w.~+/=-]{16,}"), "contains credentials of a request (RFC 7235)"),
)
_SETTING = (
    re.compile(
        r"(?i)(?:\b|[_\"'])(?:password|passwd|pwd|secret|api[-_]?key)[\"']?"
        r"\s*[=:]\s*[\"']?(?!true\b|false\b|\$)[^\s;&,\"'{}]{6,}"
    ),
    "contains a password among its settings",
)
_MAY_HAVE_SHAPE = re.compile(r"-----BEGIN|AGE-SECRET|@|eyJ|Bearer|Basic|Token|[=:]\s*[^/\s]")
"""What every shape requires: most values contain none of it."""
_EXPRESSION = re.compile(r"[$#]?\{[^{}]*\}|\$\([^()]*\)|\$\w+|%\w+%|%s|<[^<>]*>")
# Random texts that are public: digests, UUIDs, ULIDs, public keys, fingerprints.
_PUBLIC = re.compile(
    r"(?i:(?:(?:sha|md)\d+[:-]|0x|\{)?[0-9a-f]{7,}\}?|(?:urn:uuid:)?\{?[0-9a-f]{8}-(?:[0-9a-f]{4}-){3}[0-9a-f]{12}\}?)"
    r"|[0-7][0-9A-HJKMNP-TV-Z]{25}|age1[a-z0-9]{58}|(?:ssh-|ecdsa-)\S+ .*|(?:SHA|sha)\d{3}[:-][A-Za-z0-9+/=]+"
    r"|-----BEGIN (?:PUBLIC KEY|CERTIFICATE)-----(?s:.*)|data:.*"
)
_SHORTEST_TOKEN = 16
_HEX_KEY = re.compile(r"[0-9a-fA-F]{32,}")
_TOKEN = re.compile(r"(?:[A-Za-z]{2,8}[_-]){0,3}([A-Za-z0-9+/_~.!#$%^&*()=?@-]{16,})")
_LOWEST_CHANGE = 0.4
"""Minimum share of neighbouring characters of different classes (lower, upper, digit, other) in a random text: 0.6 on
average.
"""
_MOST_WORDS = 0.5
"""Maximum share of a random text in runs of four or more letters of one case."""


def words_of(name: str) -> list[str]:
    """Return a name's words in upper case: the same for `dbPassword` and `DB_PASSWORD`."""
    return [word.upper() for word in _WORDS.findall(name)]


def detect_secret(name: str, value: str) -> tuple[str, str] | None:
    """Return why a value looks secret, and whether that is certain; None if it does not.

    The reason never shows the value.
    """
    for shape, why in (*_SHAPES, _SETTING) if _MAY_HAVE_SHAPE.search(value) else ():
        if shape.search(value):
            return SURE, why
    named, last = _of_name(name)
    if named and not _is_harmless(value):
        return SURE, "by its name"
    if last in ("KEY", "KEYS", "SALT") and _HEX_KEY.fullmatch(value):
        return LIKELY, "by its name and its random value"
    if last not in _ABOUT_SECRETS - {"ID", "NAME", "TYPE"} and is_random(value):
        return LIKELY, "because it is as random as a key or a token"
    return None


def credentials_in(line: str) -> str:
    """Return what credentials a line of code contains by their shape, in words; "" for none.

    An expression in the place of a password (`${…}`, `{…}`, `#{…}`, `%…%`, `<…>`, `$NAME`) is not one.
    """
    line = _EXPRESSION.sub("", line) if _MAY_HAVE_SHAPE.search(line) else ""
    return next((why for shape, why in _SHAPES if line and shape.search(line)), "")


@cache
def _of_name(name: str) -> tuple[bool, str]:
    """Return whether a name names a secret, and its last word. Cached: called for every value, and names are few."""
    words = words_of(name)
    return is_named(words), words[-1] if words else ""


def is_named(words: list[str]) -> bool:
    """Return whether a name names a secret: `DB_PASSWORD`, `API_KEY_OLD`, `TOKEN_2`."""
    while words and (words[-1].isdigit() or words[-1] in _WHICH):
        words = words[:-1]
    if not words or words[-1] in _ABOUT_SECRETS:
        return False
    return words[-1] in _SECRET or (words[-1] in ("KEY", "KEYS") and bool(_KEYS & set(words)))


def mentions_secret(words: list[str]) -> bool:
    """Return whether a name mentions a secret without naming one: `PASSWORD_LENGTH`."""
    return bool(_SECRET & set(words)) or (bool({"KEY", "KEYS"} & set(words)) and bool(_KEYS & set(words)))


def _is_harmless(value: str) -> bool:
    """Return whether a value cannot be a secret, whatever its name: empty, a switch, a small number, a path, an address
    without a password.
    """
    return (
        re.fullmatch(
            r"(?i)|true|false|yes|no|on|off|none|null|\d{1,3}|[.~]{0,2}/\S*|[a-z][a-z0-9+.-]*://\S*", value.strip()
        )
        is not None
    )


def is_random(value: str) -> bool:
    """Return whether a text is one long random word, and not a public one."""
    if (
        len(value) < _SHORTEST_TOKEN
        or "://" in value
        or value.startswith(("/", "./", "~/", "$"))
        or _PUBLIC.fullmatch(value)
    ):
        return False
    match = _TOKEN.fullmatch(value)
    return match is not None and not _PUBLIC.fullmatch(match[1]) and _looks_random(match[1])


def _looks_random(value: str) -> bool:
    classes = ["a" if name.islower() else "A" if name.isupper() else "0" if name.isdigit() else "-" for name in value]
    if len(set(classes) - {"-"}) < 3:
        return False
    changes = sum(name != other for name, other in pairwise(classes)) / (len(value) - 1)
    in_words = sum(map(len, re.findall(r"[a-z]{4,}|[A-Z]{4,}", value))) / len(value)
    punctuation = classes.count("-") / len(value)
    return changes >= _LOWEST_CHANGE and in_words <= _MOST_WORDS and punctuation <= 0.4
