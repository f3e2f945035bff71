"""Generate strong values: by length and alphabet, uuid, hex, base64, or words that can be read aloud."""

from __future__ import annotations

import re
import secrets
from base64 import b64encode
from collections.abc import Mapping
from math import ceil, log2
from uuid import UUID

from coinjar.core.errors import CoinJarError, InputError
from coinjar.core.kinds import FORMS, normal
from coinjar.core.model import Variable
from coinjar.core.record import Record
from coinjar.core.secret import Secret

ALPHABET = "A-Za-z0-9"
ENOUGH = 80
"""Bits from which a value cannot be guessed, with any number of attempts."""
_LONGEST = 100_000
_CONSONANTS, _VOWELS = "bdfghjklmnprstvz", "aiou"
_TRIES = 200


class Generator(Record):
    """How to generate a value."""

    form: str = "text"
    length: int = FORMS["text"]
    alphabet: str = ALPHABET

    @property
    def bits(self) -> float:
        """Return the bits that a guesser must guess."""
        if self.form == "uuid":
            return 122
        if self.form == "words":
            return self.length * 2 * log2(len(_CONSONANTS) * len(_VOWELS))
        number = {"hex": 4, "base64": 6}.get(self.form) or log2(len(letters(self.alphabet)))
        return self.length * number


def letters(alphabet: str) -> str:
    """Return the characters of an alphabet such as `a-f0-9_`. Raises InputError if there are fewer than two."""
    result: list[str] = []
    for first, last, single in re.findall(r"(?s)(.)-(.)|(.)", alphabet):
        result += single or map(chr, range(ord(first), ord(last) + 1))
    spelled = "".join(dict.fromkeys(result))
    if len(spelled) < 2 or "\0" in spelled:
        raise InputError(
            "the alphabet has fewer than two characters",
            hint="write characters and ranges: 'A-Za-z0-9_'",
            code="recipe",
        )
    return spelled


def recipe_of(variable: Variable, given: Mapping[str, object] | None = None) -> Generator:
    """Return a variable's generator; `given` overrides jar.yaml. Raises InputError for an invalid one."""
    wanted = {**variable.generate, **{name: value for name, value in (given or {}).items() if value is not None}}
    form = str(wanted.get("form", "base64" if variable.kind == "base64" else "text"))
    if form not in FORMS:
        raise InputError(
            f"there is no form '{form}'",
            hint=f"the forms are {', '.join(FORMS)}",
            location=variable.location,
            code="recipe",
        )
    text = str(wanted.get("length", FORMS[form]))
    if not re.fullmatch(r"(?a)[1-9]\d*", text) or int(text) > _LONGEST:
        raise InputError(
            f"the length must be 1 to {_LONGEST}",
            hint="it counts characters; for words, it counts words",
            location=variable.location,
            code="recipe",
        )
    if form == "base64" and int(text) % 4:
        raise InputError(
            "the length of base64 is a multiple of 4",
            hint="44 characters are 32 bytes",
            location=variable.location,
            code="recipe",
        )
    alphabet = str(wanted.get("alphabet", ALPHABET))
    if "alphabet" in wanted and form != "text":
        raise InputError(
            f"an alphabet applies to the form text, not to {form}",
            hint="leave one of them out",
            location=variable.location,
            code="recipe",
        )
    letters(alphabet)
    return Generator(form, FORMS["uuid"] if form == "uuid" else int(text), alphabet)


def make(recipe: Generator, variable: Variable) -> Secret:
    """Return a new value that the variable's kind and constraints accept.

    Raises InputError if the generator almost never makes one.
    """
    fault: CoinJarError | None = None
    for _ in range(_TRIES):
        text = _made(recipe)
        try:
            if normal(variable, text) == text:
                return Secret(text)
        except CoinJarError as refused:
            fault = refused
    why = f": {fault.message}" if fault else f": its kind, {variable.kind}, spells it differently"
    raise InputError(
        f"no generated value fits {variable.name}{why}",
        hint="change generate: or the kind",
        location=variable.location,
        code="recipe",
    )


def _made(recipe: Generator) -> str:
    if recipe.form == "uuid":
        return str(UUID(bytes=secrets.token_bytes(16), version=4))  # RFC 9562, 5.4
    if recipe.form == "hex":
        return secrets.token_hex(ceil(recipe.length / 2))[: recipe.length]
    if recipe.form == "base64":
        return b64encode(secrets.token_bytes(recipe.length // 4 * 3)).decode()
    if recipe.form == "words":
        return "-".join(
            "".join(secrets.choice(_CONSONANTS) + secrets.choice(_VOWELS) for _ in range(2))
            for _ in range(recipe.length)
        )
    alphabet = letters(recipe.alphabet)
    return "".join(secrets.choice(alphabet) for _ in range(recipe.length))
