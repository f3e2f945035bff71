"""Tell a file's dialect from its text."""

from __future__ import annotations

import re
from typing import NamedTuple

_EXPORT = re.compile(rb"^[ \t]*(?:export|unset|readonly)[ \t]", re.MULTILINE)
_QUOTED = re.compile(rb"^[ \t]*[^#\s=][^=\n]*=[ \t]*[\"'`]", re.MULTILINE)


class Recognised(NamedTuple):
    """A dialect, and by what it was told."""

    dialect: str
    why: str


def recognise(data: bytes) -> Recognised:
    """The dialect that a file is most likely in; the quoted style where nothing speaks against it."""
    if b"\0" in data:
        return Recognised("nul", "it has NUL characters between its entries")
    if data.lstrip().startswith(b"{"):
        return Recognised("json", "it starts with '{'")
    if _EXPORT.search(data):
        return Recognised("posix", "it exports its names")
    if _QUOTED.search(data):
        return Recognised("dotenv", "it has values in quotes")
    return Recognised("dotenv", "it has NAME=VALUE lines")
