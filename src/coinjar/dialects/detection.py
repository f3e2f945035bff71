"""Detect a file's dialect from its text, and, where the text is ambiguous, from its name."""

from __future__ import annotations

import json
import re
from typing import NamedTuple

_TOLD = [
    (r"\A\s*\[\s*(?:\{|\]\s*\Z)", "pairs", "it is a JSON list"),
    (r"\A\s*\{", "json", "it starts with '{'"),
    (r"^kind:[ \t]*[\"']?(?:ConfigMap|Secret)\b", "kube-configmap", "it contains a ConfigMap or a Secret"),
    (r"^\[Service\][ \t]*$", "systemd-dropin", "it has a [Service] section"),
    (
        r"^[ \t]*FROM[ \t]+\S|^[ \t]*ENV[ \t]+[A-Za-z_]\w*[= ]",
        "containerfile",
        "it has the instructions of a Containerfile",
    ),
    (r"\A\ufeff?\"?name\"?[,;\t]", "csv", "its first row is a table's"),
    (
        r"^[ \t]*set[ \t]+(?:-[a-zA-Z]*x[a-zA-Z]*|--export)[ \t]+(?:--?\w+[ \t]+)*[A-Za-z_]\w*[ \t]+\S",
        "fish",
        "it exports its names with set -x",
    ),
    (r"^[ \t]*\$\{?[Ee][Nn][Vv]:[^=\n]+=", "powershell", "it sets variables of $env:"),
]
_SUFFIXES = {".yaml": "yaml", ".yml": "yaml", ".toml": "toml", ".properties": "properties", ".csv": "csv"}
_LINES = [
    (r"^[ \t]*[^#\s=][^=\n]*=[ \t]*[\"'`]", "dotenv", "it has values in quotes"),
    (
        r"\A(?:[ \t]*(?:#[^\n]*)?\n|---[^\n]*\n)*[ \t]*[\"']?[\w.-]+[\"']?:(?:[ \t]|$)",
        "yaml",
        "it has NAME: value lines",
    ),
]


_EXPORTS = re.compile(r"^[ \t]*(?:export|unset|readonly)[ \t]", re.MULTILINE)


class DetectedDialect(NamedTuple):
    """A dialect, and how it was detected; `others` may read more of the same text, and should be tried too."""

    dialect: str
    why: str
    others: tuple[str, ...] = ()


def recognise(data: bytes, file: str = "") -> DetectedDialect:
    """Return the dialect that a file is most likely in; the quoted style where nothing excludes it."""
    if b"\0" in data:
        return DetectedDialect("nul", "it has NUL characters between its entries")
    source = data.decode(errors="replace")
    for pattern, dialect, why in _TOLD:
        if re.search(pattern, source, re.MULTILINE):
            is_nested = dialect == "json" and _is_nested(source)
            return (
                DetectedDialect("settings", "it is JSON with objects in it")
                if is_nested
                else DetectedDialect(dialect, why)
            )
    if _EXPORTS.search(source):
        return DetectedDialect("posix", "it exports its names", ("dotenv",))
    for suffix, dialect in _SUFFIXES.items():
        if file.lower().endswith(suffix):
            return DetectedDialect(dialect, f"its name ends in {suffix}")
    for pattern, dialect, why in _LINES:
        if re.search(pattern, source, re.MULTILINE):
            return DetectedDialect(dialect, why)
    return DetectedDialect("dotenv", "it has NAME=VALUE lines")


def _is_nested(source: str) -> bool:
    """Return whether it is a JSON object with objects in it, as settings have; a manifest is none."""
    try:
        data = json.loads(source.removeprefix("\ufeff"))
    except (ValueError, RecursionError):
        return False  # the JSON reader says what is wrong
    return any(isinstance(value, dict) for value in data.values()) and "apiVersion" not in data
