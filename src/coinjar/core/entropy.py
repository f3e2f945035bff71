"""Estimate how many bits a guesser must guess: a low estimate, based on the patterns that people use."""

from __future__ import annotations

import re
from math import log2

WEAK = 64
"""Bits below which a secret is weak: somebody with a hash of it, or with unlimited attempts, finds it."""
_PARTS = re.compile(r"[A-Za-z]+|\d+|[^A-Za-z\d]+")
_CHUNKS = re.compile(r"[A-Za-z\d]+|[^A-Za-z\d]+")
_COMMON = frozenset(
    "password passwort passwd pass secret admin administrator root user login test testing welcome letmein qwerty "
    "azerty qwertz hello abc "
    "default example changeme change demo temp guest master prod production dev staging token key geheim made up db "
    "database".split()
)
_RUNS = (
    "abcdefghijklmnopqrstuvwxyz",
    "zyxwvutsrqponmlkjihgfedcba",
    "01234567890",
    "98765432109",
    "qwertyuiop",
    "asdfghjkl",
    "zxcvbnm",
)
_COMMON_BITS, _WORD_BITS, _YEAR_BITS, _LONGEST_WORD = 6.0, 13.0, 7.0, 12
_SEPARATOR_BITS = 2.0


def bits(value: str) -> float:
    """Return the estimate.

    Mixed letters and digits without a pattern count in full, words as words, repetitions and runs hardly at all.
    """
    return min(sum(_chunk(chunk) for chunk in _CHUNKS.findall(value)), _in_full(value))


def _chunk(chunk: str) -> float:
    """Return the bits of a part between punctuation: letters and digits that alternate often contain no words."""
    parts = _PARTS.findall(chunk)
    return _in_full(chunk) if len(parts) > 2 and len(chunk) / len(parts) < 3 else sum(map(_part, parts))


def _in_full(value: str) -> float:
    pool = sum(
        size
        for pattern, size in (("[a-z]", 26), ("[A-Z]", 26), (r"\d", 10), (r"[^A-Za-z\d]", 20))
        if re.search(pattern, value)
    )
    if re.fullmatch("[0-9a-f]*|[0-9A-F]*", value):
        pool = min(pool, 16)
    different = len(set(value))
    return len(value) * log2(max(pool, 2)) * min(1.0, different / max(min(len(value), pool) * 0.4, 1))


def _part(part: str) -> float:
    word = part.lower()
    if len(set(word)) == 1:
        return 3 + log2(len(word))
    if word in _COMMON or any(word in run or word in run * 2 for run in _RUNS):
        return _COMMON_BITS
    if part.isdigit():
        return _YEAR_BITS if re.fullmatch(r"(?:19|20)\d\d", part) else len(part) * log2(10)
    if not part.isalpha():
        return _SEPARATOR_BITS * min(len(part), 3) if len(part) < 4 else len(part) * log2(20)
    if len(word) <= _LONGEST_WORD and part in (word, word.capitalize(), word.upper()):
        return min(_WORD_BITS, len(word) * log2(26))
    return len(part) * log2(26 if part == word or part == part.upper() else 52)
