"""Infer a variable's kind, and whether it is secret, from its name and values."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from coinjar.core.errors import CoinJarError, Location
from coinjar.core.kinds import normal
from coinjar.core.model import Variable
from coinjar.core.names import VariableName
from coinjar.core.secret_detection import SURE, detect_secret, is_named, mentions_secret, words_of

_MAYBE = ("KEY", "SALT", "DSN", "PIN")
_PLACEHOLDER = re.compile(
    r"(?i)(?:change[-_ ]?(?:me|this|it)|re?place[-_ ]?(?:me|this|it)|fill[-_ ]?(?:me|this)?[-_ "
    r"]?in|x{3,}|\?{3,}|to[-_ ]?do|tbd|fixme"
    r"|your[-_ ](?:[A-Za-z0-9]+[-_ ])*(?:here|key|token|password|secret)|<[^<>]+>|placeholder"
    r"|insert[-_ ].*[-_ ]here|dummy)"
)


class Inference(NamedTuple):
    """`is_certain` is False where a person should be asked whether it is secret."""

    kind: str
    secret: bool
    is_certain: bool
    why: str


def is_placeholder(value: str) -> bool:
    """Return whether a value is a placeholder that somebody has to replace."""
    return _PLACEHOLDER.fullmatch(value.strip()) is not None


def infer(name: str, value: str) -> Inference:
    """Infer from a name and one value. A kind is inferred only if its normal spelling is the text itself."""
    secret, sure, why = _secrecy(name, value)
    kind = next((kind for kind in _candidates(words_of(name), value) if _spells(kind, value)), "text")
    return Inference(kind, secret, sure, why)


def infer_all(name: str, texts: Sequence[str]) -> Inference:
    """Infer from a name and all its values: a kind that each of them fits, and secret if one of them is."""
    names = [infer(name, value) for value in texts or [""]]
    secret = next((inference for inference in names if inference.secret and inference.is_certain), None) or next(
        (inference for inference in names if inference.secret), names[0]
    )
    kinds = dict.fromkeys(kind for value in texts for kind in _candidates(words_of(name), value))
    kind = next((kind for kind in kinds if all(_spells(kind, value) for value in texts)), "text")
    return secret._replace(kind=kind)


def _secrecy(name: str, value: str) -> tuple[bool, bool, str]:
    result = detect_secret(name, value)
    if result:
        return True, result[0] == SURE and not is_placeholder(value), result[1]
    words = words_of(name)
    if is_named(words):
        return True, False, "by its name"
    last = words[-1] if words else ""
    if mentions_secret(words):
        return False, False, f"its name mentions a secret, but ends in {last}"
    return (True, False, "it might be: see its name and value") if last in _MAYBE else (False, True, "")


def _candidates(words: list[str], value: str) -> list[str]:
    last = words[-1] if words else ""
    result = []
    if last == "PORT":
        result.append("port")
    if value in ("true", "false"):
        result.append("boolean")
    if re.fullmatch(r"-?\d+", value):
        result.append("integer")
    if re.fullmatch(r"-?\d+\.\d+", value) and last not in ("VERSION", "RELEASE"):
        result.append("number")
    if "://" in value:
        result.append("url")
    if last in ("HOST", "HOSTNAME") and value:
        result.append("host")
    if value[:1] in ("{", "["):
        result.append("json")
    if re.fullmatch(r"\d+(ms|s|m|h|d)", value) and value[:1] != "0":
        result.append("duration")
    if re.fullmatch(r"\d+(B|[kMGT]B|[KMGT]iB)", value):
        result.append("size")
    return result


def _spells(kind: str, value: str) -> bool:
    trial = Variable(name=VariableName("X"), location=Location(""), kind=kind)
    try:
        return normal(trial, value) == value
    except CoinJarError:
        return False
